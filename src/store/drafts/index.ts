import { v7 as uuid } from 'uuid';
import { mergeFiles, type Conflict } from '../../core/analysis/merge.ts';
import type { Source } from '../../core/language/source.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { publishedFiles } from '../publish/index.ts';

/** One save of a draft, without its files. */
export interface DraftSave {
  readonly save: number;
  /** The version that it was made from; 0: none. */
  readonly base: number;
  readonly saved_by: string;
  readonly saved_at: string;
  readonly message: string | null;
}

/** A draft as it was saved last. */
export interface Draft extends DraftSave {
  readonly id: string;
  readonly name: string;
  readonly made_by: string;
  readonly made_at: string;
}

export type DraftWithFiles = Draft & { readonly files: readonly Source[] };

/** Drafts that there can be, and saves that are kept of each. */
export const MOST_DRAFTS = 200;
const MOST_SAVES = 100;

const columns = sql`d.id, d.name, d.made_by, d.made_at, s.save, s.base, s.saved_by, s.saved_at, s.message`;
const joined = sql`gate.drafts as d join gate.draft_saves as s on s.draft = d.id and s.save = d.save`;

/** All drafts, the one that was saved last first. */
export async function listDrafts(on: Executor): Promise<Draft[]> {
  return run<Draft>(on, sql`select ${columns} from ${joined} order by s.saved_at desc, d.name`);
}

export async function draftNamed(on: Executor, name: string): Promise<DraftWithFiles | null> {
  const [row] = await run<DraftWithFiles>(
    on,
    sql`select ${columns}, s.files::json as files from ${joined} where d.name = ${value(name)}`,
  );
  return row ?? null;
}

/** Every save that is kept of a draft, the last first. */
export async function savesOf(on: Executor, { id }: Draft): Promise<DraftSave[]> {
  return run<DraftSave>(
    on,
    sql`select save, base, saved_by, saved_at, message from gate.draft_saves where draft = ${ownKey(id)} order by save desc`,
  );
}

/** The files of one save; null where it is not kept. */
export async function filesOfSave(on: Executor, { id }: Draft, save: number): Promise<Source[] | null> {
  const [row] = await run<{ files: Source[] }>(
    on,
    sql`select files::json as files from gate.draft_saves where draft = ${ownKey(id)} and save = ${value(save)}::integer`,
  );
  return row?.files ?? null;
}

/** Makes a draft; where there is one of that name already, or too many, nothing is made. */
export async function makeDraft(
  database: Database,
  name: string,
  {
    files,
    base,
    message,
  }: { readonly files: readonly Source[]; readonly base: number; readonly message: string | null },
  actor: Actor,
): Promise<'made' | 'taken' | 'too many'> {
  return database.transaction(async (on) => {
    // One after the other, so that the number of them holds.
    await run(on, sql`select pg_advisory_xact_lock(hashtextextended('firmgate drafts', 0))`);
    const [row] = await run<{ count: number; taken: boolean }>(
      on,
      sql`select count(*) as count, coalesce(bool_or(name = ${value(name)}), false) as taken from gate.drafts`,
    );
    if (row!.taken) return 'taken';
    if (row!.count >= MOST_DRAFTS) return 'too many';
    const id = uuid();
    await run(
      on,
      sql`insert into gate.drafts (id, name, save, made_by) values (${ownKey(id)}, ${value(name)}, 1, ${value(actor.name)})`,
    );
    await keep(on, id, { save: 1, files, base, message }, actor);
    await note(on, actor, 'draft.make', name, { base, files: files.length });
    return 'made';
  });
}

/** What came of a save. */
export type Saved =
  | {
      readonly kind: 'saved';
      readonly save: number;
      readonly files: readonly Source[];
      readonly merged: boolean;
    }
  | { readonly kind: 'conflict'; readonly conflicts: readonly Conflict[] }
  /** The draft, the save that it was made from, or the version, is not there. */
  | { readonly kind: 'gone' };

/**
 * Saves files that were made from one save of a draft. Where somebody has saved since, both are put together by sentence and declaration;
 * what both changed differently is answered, and nothing is saved.
 */
export async function saveDraft(
  database: Database,
  name: string,
  {
    files,
    from,
    message,
  }: { readonly files: readonly Source[]; readonly from: number; readonly message: string | null },
  actor: Actor,
): Promise<Saved> {
  return changing(database, name, actor, async (on, draft) => {
    if (from === draft.save) return { files, base: draft.base, message, merged: false };
    const made = await filesOfSave(on, draft, from);
    if (made === null) return null;
    const { conflicts, files: both } = mergeFiles(made, files, draft.files);
    return conflicts.length > 0 ? conflicts : { files: both, base: draft.base, message, merged: true };
  });
}

/** One text of a file in the place of another, which must stand there exactly once; `was` empty: at the end. */
export interface Replacement {
  readonly file: string;
  readonly was: string;
  readonly is: string;
}

/** Changes single texts of a draft, whoever saved it last: the text that stood there is what must not have changed. */
export async function replaceInDraft(
  database: Database,
  name: string,
  { changes, message }: { readonly changes: readonly Replacement[]; readonly message: string | null },
  actor: Actor,
): Promise<Saved> {
  return changing(database, name, actor, async (_, draft) => {
    const texts = new Map(draft.files.map((file) => [file.name, file.text]));
    const conflicts: Conflict[] = [];
    for (const { file, was, is } of changes) {
      const text = texts.get(file) ?? '';
      const at = text.indexOf(was);
      if (was === '') texts.set(file, `${text === '' || text.endsWith('\n') ? text : `${text}\n`}${is}\n`);
      else if (at === -1 || text.includes(was, at + 1))
        conflicts.push({ file, base: was, mine: is, theirs: at === -1 ? '' : text });
      else texts.set(file, text.slice(0, at) + is + text.slice(at + was.length));
    }
    if (conflicts.length > 0) return conflicts;
    const files = [...texts].map(([each, text]) => ({ name: each, text }));
    return { files, base: draft.base, message, merged: false };
  });
}

/** Moves a draft onto another version than it was made from: what changed in between is put together with what it changes. */
export async function rebaseDraft(
  database: Database,
  name: string,
  onto: number,
  actor: Actor,
): Promise<Saved> {
  return changing(database, name, actor, async (on, draft) => {
    const [was, is] = [await versionFiles(on, draft.base), await versionFiles(on, onto)];
    if (was === null || is === null) return null;
    const { files, conflicts } = mergeFiles(was, draft.files, is);
    if (conflicts.length > 0) return conflicts;
    return { files, base: onto, message: `moved onto version ${onto}`, merged: true };
  });
}

async function versionFiles(on: Executor, version: number): Promise<readonly Source[] | null> {
  return version === 0 ? [] : publishedFiles(on, version);
}

interface NewSave {
  readonly files: readonly Source[];
  readonly base: number;
  readonly message: string | null;
  readonly merged: boolean;
}

/** One save after the other: whoever comes second sees what the first has saved. */
async function changing(
  database: Database,
  name: string,
  actor: Actor,
  work: (on: Executor, draft: DraftWithFiles) => Promise<NewSave | readonly Conflict[] | null>,
): Promise<Saved> {
  return database.transaction(async (on): Promise<Saved> => {
    await run(on, sql`select 1 from gate.drafts where name = ${value(name)} for update`);
    const draft = await draftNamed(on, name);
    const made = draft === null ? null : await work(on, draft);
    if (draft === null || made === null) return { kind: 'gone' };
    if (!('files' in made)) return { kind: 'conflict', conflicts: made };
    const { files, base, merged } = made;
    if (base === draft.base && JSON.stringify(files) === JSON.stringify(draft.files))
      return { kind: 'saved', save: draft.save, files, merged };
    const save = draft.save + 1;
    await keep(on, draft.id, { ...made, save }, actor);
    await run(on, sql`update gate.drafts set save = ${value(save)}::integer where id = ${ownKey(draft.id)}`);
    await run(
      on,
      sql`delete from gate.draft_saves where draft = ${ownKey(draft.id)} and save <= ${value(save - MOST_SAVES)}::integer`,
    );
    await note(on, actor, 'draft.save', name, { save, base, ...(merged ? { merged } : {}) });
    return { kind: 'saved', save, files, merged };
  });
}

async function keep(
  on: Executor,
  draft: string,
  { save, files, base, message }: Omit<NewSave, 'merged'> & { readonly save: number },
  actor: Actor,
): Promise<void> {
  await run(
    on,
    sql`insert into gate.draft_saves (draft, save, base, files, saved_by, message)
      values (${ownKey(draft)}, ${value(save)}::integer, ${value(base)}::integer, ${value(JSON.stringify(files))}::jsonb, ${value(actor.name)}, ${value(message)}::text)`,
  );
}

/** False where there is no such draft, or where somebody has saved it since. */
export async function deleteDraft(
  database: Database,
  name: string,
  save: number | null,
  actor: Actor,
): Promise<boolean> {
  return database.transaction(async (on) => {
    const gone = await run(
      on,
      sql`delete from gate.drafts where name = ${value(name)} and (${value(save)}::integer is null or save = ${value(save)}::integer) returning 1`,
    );
    if (gone.length > 0) await note(on, actor, 'draft.delete', name);
    return gone.length > 0;
  });
}
