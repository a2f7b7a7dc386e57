import { checkRulebook } from '../../core/check/index.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Source } from '../../core/language/source.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { UTC } from '../../core/types/time.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { syncIdentities } from './identities.ts';
import { settleRoles } from './roles.ts';
import { indexSearched, shapeTables } from './tables.ts';

export { roleChanges } from './roles.ts';
export { countRecords } from './tables.ts';
export { findByLabel, syncIdentities } from './identities.ts';

export interface Published {
  readonly version: number;
  /** False where the very same files were in force already. */
  readonly changed: boolean;
  /** Collections and fields whose values are kept, though the rulebook no longer speaks of them. */
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
 * Puts a checked rulebook in force: tables, test identities and the rulebook itself change together or not at all.
 * Two at a time wait for each other. It holds for every request that begins after this has answered.
 * Throws `PublishRefused` where records stand in the way, or where `verify` has something against it; `TrialsFailed` where trials fail, and
 * `OtherBase` where another version is in force than it was made from.
 */
export async function publish(
  database: Database,
  rulebook: Rulebook,
  actor: Actor,
  verify: (on: Executor, rulebook: Rulebook) => Promise<Verified> = async () => ({
    refuted: [],
    trials: null,
  }),
  { message = null, base = null, restores = null, despite = null }: About = {},
): Promise<Published> {
  const files = JSON.stringify(rulebook.sources.map(({ name, text }) => ({ name, text })));
  return database.transaction(async (transaction) => {
    await run(transaction, sql`set local statement_timeout = '10min'`);
    await run(transaction, sql`lock table gate.rulebooks in exclusive mode`);
    const [last] = await run<{ version: number; same: boolean }>(
      transaction,
      sql`select version, files = ${value(files)}::jsonb as same from gate.rulebooks order by version desc limit 1`,
    );
    // Somebody may have published meanwhile: what was looked at is not what would be replaced.
    if (base !== null && base !== (last?.version ?? 0)) throw new OtherBase(base, last?.version ?? 0);
    if (last?.same === true) {
      const { notes } = await syncIdentities(transaction, rulebook);
      return { version: last.version, changed: false, setAside: [], notes };
    }
    const before = last === undefined ? null : await publishedRulebook(transaction, last.version);
    const { setAside } = await shapeTables(transaction, rulebook.schema, before?.schema ?? null);
    await indexSearched(transaction, rulebook);
    await knowTimeZone(transaction, rulebook.timeZone);
    const roles =
      before === null
        ? []
        : await settleRoles(transaction, before, rulebook, actor, { restoring: restores !== null });
    const synced = await syncIdentities(transaction, rulebook);
    const notes = [...roles, ...synced.notes];
    const { refuted, trials } = await verify(transaction, rulebook);
    if (refuted.length > 0) throw new PublishRefused(refuted);
    // On an empty database, before the first records, trials have nothing to try.
    if (last !== undefined && despite === null && trials !== null && trials.failed > 0)
      throw new TrialsFailed(trials);
    const version = (last?.version ?? 0) + 1;
    await run(
      transaction,
      sql`insert into gate.rulebooks (version, files, published_by, message, restores, trials)
        values (${value(version)}::integer, ${value(files)}::jsonb, ${value(actor.name)}, ${value(message)}::text, ${value(restores)}::integer,
          ${value(trials === null ? null : JSON.stringify({ passed: trials.passed, failed: trials.failed }))}::jsonb)`,
    );
    const changes = last === undefined ? null : await changedFiles(transaction, last.version, rulebook);
    await note(transaction, actor, 'rulebook.publish', `version ${version}`, {
      files: changes,
      setAside,
      ...(message === null ? {} : { message }),
      ...(restores === null ? {} : { restores }),
      ...(despite === null || trials === null || trials.failed === 0
        ? {}
        : { failed: trials.failed, despite }),
    });
    return { version, changed: true, setAside, notes };
  });
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

/** The files of one published version; null where there is no such version. */
export async function publishedFiles(on: Executor, version: number): Promise<Source[] | null> {
  const [row] = await run<{ files: Source[] }>(
    on,
    sql`select files::json as files from gate.rulebooks where version = ${value(version)}::integer`,
  );
  return row?.files ?? null;
}

/** A published version; null where this service cannot read it any more. */
async function publishedRulebook(on: Executor, version: number): Promise<Rulebook | null> {
  const files = await publishedFiles(on, version);
  const checked = files === null ? null : checkRulebook(files);
  return checked?.ok === true ? checked.rulebook : null;
}
