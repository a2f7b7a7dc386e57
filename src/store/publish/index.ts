import { checkRulebook } from '../../core/check/index.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Source } from '../../core/language/source.ts';
import { placed, plainNames, type Names } from '../../core/passage/names.ts';
import { nothingYet, type Version } from '../../core/passage/passage.ts';
import { roomForSets } from '../../core/sql/counting.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { UTC } from '../../core/types/time.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { takeRules } from '../in-force.ts';
import { keptPreview, previewDigest, type KeptPreview } from '../preview/kept.ts';
import { PublishRefused } from '../failures.ts';
import { rolledBack } from '../roll-back.ts';
import { passageFor, setThingsAside } from './aside.ts';
import { alonePublishing, cleanUp, ifNobodyPublishes } from './clean.ts';
import { briefly } from './definitions.ts';
import { finish } from './finish.ts';
import { followNames } from './follow.ts';
import { holdIdentities, syncIdentities, turnToWriteIdentities, writingIdentities } from './identities.ts';
import { prepare, withoutTriggers } from './prepare.ts';
import { settleRoles } from './roles.ts';
import { switchTables } from './switch.ts';

export { roleChanges } from './roles.ts';
export { passageFor } from './aside.ts';
export { lookAhead } from './look.ts';
export { resume } from './clean.ts';
export { trying, type Tried } from './trying.ts';
export { DISCARDED_DAYS, discard, dropDiscarded, listAside, type CountedAside } from './discard.ts';
export { countRecords } from './existing.ts';
export { findByLabel, holdIdentities, syncIdentities, writingIdentities } from './identities.ts';

export interface Published {
  readonly version: number;
  /** False where the very same files were in force already. */
  readonly changed: boolean;
  /** Collections and fields of which this version does not speak any more: their values are kept, out of reach. */
  readonly setAside: readonly string[];
  /** What could not be done yet, in sentences. */
  readonly notes: readonly string[];
}

/** What is kept of a publication beside its files. */
export interface About {
  readonly message?: string | null | undefined;
  /** The version that it was made from, 0 for none; null: whichever is in force. */
  readonly base?: number | null | undefined;
  /** The version that is taken up again. */
  readonly restores?: number | null | undefined;
  /** Why it is published though trials fail; null: it is not, then. */
  readonly despite?: string | null | undefined;
  /** Collections and fields, as `collection` or `collection.field`, that begin with what was set aside under their name. */
  readonly takeBack?: readonly string[] | undefined;
  /** The digest of the preview that was looked at; null: none was. */
  readonly preview?: string | null | undefined;
}

/** What was tried of a rulebook whose tables are made already, before it is in force. */
export interface Verified {
  /** What it must not be published with, in sentences. */
  readonly refuted: readonly string[];
  /** Null: no trials were run. */
  readonly trials: (TrialsKept & { readonly failures: readonly string[] }) | null;
}

/** Trials fail, and nobody said that it is to be published all the same. */
export class TrialsFailed extends Error {
  override readonly name = 'TrialsFailed';
  readonly trials: NonNullable<Verified['trials']>;

  constructor(trials: NonNullable<Verified['trials']>) {
    super(`${trials.failed} of ${trials.passed + trials.failed} expectations are not met`);
    this.trials = trials;
  }
}

/** What came of the trials of a version when it was published. */
export interface TrialsKept {
  readonly passed: number;
  readonly failed: number;
}

/** The preview that is named is of other files, against another version, or too old. */
export class OtherPreview extends Error {
  override readonly name = 'OtherPreview';
}

/** Another version is in force than the one that this was made from. */
export class OtherBase extends Error {
  override readonly name = 'OtherBase';
  readonly base: number;
  readonly inForce: number;

  constructor(base: number, inForce: number) {
    super(`made from version ${base}, and version ${inForce} is in force`);
    this.base = base;
    this.inForce = inForce;
  }
}

/** One published version, without its files. `published_at` is RFC 3339. */
export interface PublishedVersion {
  readonly version: number;
  readonly published_at: string;
  readonly published_by: string;
  readonly message: string | null;
  readonly restores: number | null;
  readonly trials: TrialsKept | null;
  readonly files: number;
}

/** The versions, the newest first: so many, before one. */
export async function history(
  on: Executor,
  { before, limit }: { readonly before: number | null; readonly limit: number },
): Promise<PublishedVersion[]> {
  return run<PublishedVersion>(
    on,
    sql`select version, published_at, published_by, message, restores, trials::json as trials, jsonb_array_length(files) as files
      from gate.rulebooks where ${value(before)}::integer is null or version < ${value(before)}::integer
      order by version desc limit ${value(limit)}::integer`,
  );
}

/**
 * Puts a checked rulebook in force, in three steps: `prepare` adds what it needs beside what is in use, `switchTables` puts it in force in
 * one short transaction with everything that follows its names, `finish` looks at the records that were there already. Ended anywhere,
 * the rules in force are the old or the new ones. Two at a time wait for each other. It holds for every request that begins after this
 * has answered. Throws `PublishRefused` where records stand in the way, or where `verify` has something against it; `TrialsFailed` where
 * trials fail, `OtherBase` where another version is in force than it was made from, and `OtherPreview` where the preview that is named is of
 * something else.
 */
export async function publish(
  database: Database,
  rulebook: Rulebook,
  actor: Actor,
  verify: (on: Executor, rulebook: Rulebook) => Promise<Verified> = async () => ({
    refuted: [],
    trials: null,
  }),
  about: About = {},
): Promise<Published> {
  let published: Published;
  let endTurn = () => {};
  const holding = (end: () => void) => void (endTurn = end);
  try {
    published = await alonePublishing(database, (transaction) =>
      stepInto(database, transaction, rulebook, actor, verify, about, holding),
    );
  } catch (error) {
    // What was said first says more than what goes wrong with taking away what was prepared; the next to publish does that, too.
    await ifNobodyPublishes(database, () => cleanUp(database)).catch(() => undefined);
    throw error;
  } finally {
    // Its transaction has ended, and with it what holds the test identities.
    endTurn();
  }
  if (!published.changed) return published;
  return { ...published, notes: [...published.notes, ...(await finished(database))] };
}

/** It is in force already, whatever comes of looking at what was there before. */
async function finished(database: Database): Promise<string[]> {
  try {
    return await finish(database);
  } catch {
    return ['what columns are held to from now on was not looked at for the records that were there before: the next start, or the next publication, does that']; // prettier-ignore
  }
}

async function stepInto(
  database: Database,
  transaction: Executor,
  rulebook: Rulebook,
  actor: Actor,
  verify: (on: Executor, rulebook: Rulebook) => Promise<Verified>,
  { message = null, base = null, restores = null, despite = null, takeBack = [], preview = null }: About,
  /** Is given the turn to write test identities, which lasts until the transaction ends. */
  holding: (end: () => void) => void,
): Promise<Published> {
  const files = JSON.stringify(rulebook.sources.map(({ name, text }) => ({ name, text })));
  const [last] = await run<{ version: number; same: boolean }>(
    database,
    sql`select version, files = ${value(files)}::jsonb as same from gate.rulebooks order by version desc limit 1`,
  );
  // Somebody may have published meanwhile: what was looked at is not what would be replaced.
  if (base !== null && base !== (last?.version ?? 0)) throw new OtherBase(base, last?.version ?? 0);
  const previewed = { files: rulebook.sources, base: last?.version ?? 0, restores, takeBack };
  const foreseen = preview === previewDigest(previewed) ? await keptPreview(database, preview) : null;
  if (preview !== null && foreseen === null) throw new OtherPreview();
  await cleanUp(database);
  const before = last === undefined ? nothingYet : await publishedVersion(database, last.version);
  if (before === null)
    throw new PublishRefused([
      'the version in force cannot be read by this service: publish with the release of the service that wrote it',
    ]);
  if (last?.same === true && takeBack.length === 0) {
    holding(await turnToWriteIdentities(database));
    const { notes } = await syncIdentities(transaction, before.rulebook);
    return { version: last.version, changed: false, setAside: [], notes };
  }
  const version = (last?.version ?? 0) + 1;
  const restored = restores === null ? null : ((await publishedVersion(database, restores))?.names ?? null);
  const passage = await passageFor(database, before, rulebook, { restored, takeBack });
  if (passage.problems.length > 0) throw new PublishRefused(passage.problems);
  await knowTimeZone(database, rulebook.timeZone);
  const { schema } = passage.before.rulebook;
  const prepared = await prepare(database, passage, schema);
  const { refuted, trials } = await writingIdentities(database, true, () =>
    rolledBack(database, async (on) => {
      await run(on, sql`set local statement_timeout = '10min'`);
      await holdIdentities(on);
      await run(on, roomForSets);
      await withoutTriggers(on);
      await followNames(on, passage, before.rulebook);
      await syncIdentities(on, passage.final);
      return verify(on, passage.final);
    }),
  );
  if (refuted.length > 0) throw new PublishRefused(refuted);
  // On an empty database, before the first records, trials have nothing to try.
  if (last !== undefined && despite === null && trials !== null && trials.failed > 0)
    throw new TrialsFailed(trials);
  const changes = last === undefined ? null : await changedFiles(database, last.version, rulebook);
  // Before the lock that everybody waits for: nobody but publishers writes test identities.
  holding(await turnToWriteIdentities(database));
  const synced = await syncIdentities(transaction, passage.final);
  const switched = await briefly(transaction, async (on) => {
    // Every write holds this lock with others; nobody writes by the old version from here on.
    await takeRules(on);
    await switchTables(on, passage, schema);
    await followNames(on, passage, before.rulebook);
    const roles =
      last === undefined
        ? []
        : await settleRoles(on, before.rulebook, rulebook, actor, {
            restoring: restores !== null,
            renamed: passage.renamed.roles,
          });
    const setAside = await setThingsAside(on, passage, version);
    await run(
      on,
      sql`insert into gate.rulebooks (version, files, published_by, message, restores, trials, names, preview)
        values (${value(version)}::integer, ${value(files)}::jsonb, ${value(actor.name)}, ${value(message)}::text, ${value(restores)}::integer,
          ${value(trials === null ? null : JSON.stringify({ passed: trials.passed, failed: trials.failed }))}::jsonb,
          ${value(JSON.stringify(passage.names))}::jsonb, ${value(foreseen === null ? null : JSON.stringify(foreseen))}::jsonb)`,
    );
    await run(on, sql`delete from gate.prepared`);
    await run(on, sql`delete from gate.misfits`);
    await note(on, actor, 'rulebook.publish', `version ${version}`, {
      files: changes,
      setAside,
      ...(message === null ? {} : { message }),
      ...(restores === null ? {} : { restores }),
      ...(takeBack.length === 0 ? {} : { takeBack: [...takeBack] }),
      ...(despite === null || trials === null || trials.failed === 0
        ? {}
        : { failed: trials.failed, despite }),
    });
    return { setAside, notes: [...roles, ...synced.notes] };
  });
  const notes = [...passage.notes, ...prepared.notes, ...switched.notes];
  return { version, changed: true, setAside: switched.setAside, notes };
}

/** Which files are not as they were in this version. */
async function changedFiles(on: Executor, version: number, rulebook: Rulebook): Promise<string[]> {
  const before = new Map((await publishedFiles(on, version))?.map(({ name, text }) => [name, text]));
  const changed = rulebook.sources.filter(({ name, text }) => before.get(name) !== text);
  const gone = [...before.keys()].filter((name) => !rulebook.sources.some((each) => each.name === name));
  return [...changed.map(({ name }) => name), ...gone.map((name) => `${name} (gone)`)];
}

/** PostgreSQL has time zones of its own; one that it does not know could not be asked for. */
async function knowTimeZone(on: Executor, zone: string): Promise<void> {
  // The view reads a file for each zone; UTC is there always.
  if (zone === UTC) return;
  const known = await run(on, sql`select 1 from pg_timezone_names where lower(name) = lower(${value(zone)})`);
  if (known.length === 0)
    throw new PublishRefused([`the database does not know the time zone “${zone}”: use another name for it`]);
}

/** What a version was foreseen to do when it was published, in counts; null where no preview was named. */
export async function foreseenOf(on: Executor, version: number): Promise<KeptPreview | null> {
  const [row] = await run<{ preview: KeptPreview | null }>(
    on,
    sql`select preview::json as preview from gate.rulebooks where version = ${value(version)}::integer`,
  );
  return row?.preview ?? null;
}

/** The files of one published version; null where there is no such version. */
export async function publishedFiles(on: Executor, version: number): Promise<Source[] | null> {
  const [row] = await run<{ files: Source[] }>(
    on,
    sql`select files::json as files from gate.rulebooks where version = ${value(version)}::integer`,
  );
  return row?.files ?? null;
}

/** A published version with what its names stand for; null where this service cannot read it any more. */
export async function publishedVersion(on: Executor, version: number): Promise<Version | null> {
  const [row] = await run<{ files: Source[]; names: Names | null }>(
    on,
    sql`select files::json as files, names::json as names from gate.rulebooks where version = ${value(version)}::integer`,
  );
  const checked = row === undefined ? null : checkRulebook(row.files);
  if (checked?.ok !== true) return null;
  const names = row!.names ?? plainNames(checked.rulebook);
  return { rulebook: { ...placed(checked.rulebook, names), version }, names };
}
