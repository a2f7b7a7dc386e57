import { createHash } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import type {
  BenchCounts,
  BenchDocument,
  BenchPage,
  BenchRecord,
  benchRequestSchema,
} from '../../client/schemas/bench.ts';
import { adviceOn } from '../../core/analysis/advice/index.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import { actionsOn, type Rulebook } from '../../core/ir/rulebook.ts';
import type { Source } from '../../core/language/source.ts';
import { positionAt } from '../../core/language/source.ts';
import type { Span } from '../../core/language/span.ts';
import type { Renames } from '../../core/passage/renames.ts';
import type { Version } from '../../core/passage/passage.ts';
import type { PinnedSentence } from '../../core/sql/pinned-sentences.ts';
import { parseValue } from '../../core/types/values.ts';
import { typeName } from '../../core/types/types.ts';
import type { Database } from '../../store/connection.ts';
import { hasTimedOut } from '../../store/failures.ts';
import { TooManyKinds, pinnedCounts, pinnedPage, type PinnedPage } from '../../store/preview/pinned.ts';
import { passageFor } from '../../store/publish/index.ts';
import { Problem } from '../problems/problem.ts';
import { refuseRepeated } from './drafts.ts';
import { collectionNamed, parseWhere } from './questions.ts';
import { VISITOR, credentialsOf } from './who.ts';
import { z } from 'zod';

/** A rulebook that is being written, ready to be tried: what a pause in typing asks for again and again. */
export interface Tried {
  readonly found: Pick<BenchDocument, 'errors' | 'advice' | 'problems'>;
  /** Null: it has errors, or cannot be put beside the records that are there. */
  readonly sides: { readonly before: Rulebook; readonly after: Rulebook; readonly renames: Renames } | null;
}

/** Drafts whose checking is remembered: those that a few people are at. */
const REMEMBERED = 16;

type Checked = {
  readonly result: ReturnType<typeof checkRulebook>;
  readonly advice: Tried['found']['advice'];
};

const checked = new LRUCache<string, Checked>({ max: REMEMBERED });

/** What tells one draft from another: its texts by their names. */
export function digestOf(files: readonly Source[]): string {
  const hash = createHash('sha256');
  for (const { name, text } of files) hash.update(JSON.stringify([name, text]));
  return hash.digest('base64url');
}

const noRenames: Renames = {
  collections: new Map(),
  fields: new Map(),
  roles: new Map(),
  attributes: new Map(),
};

/** Checks the draft, and pairs it with what is in force; without files: what is in force, on both sides. */
export async function triedDraft(
  database: Database,
  version: Version,
  files: readonly Source[] | undefined,
): Promise<Tried> {
  const before = version.rulebook;
  const nothing = { errors: [], advice: [], problems: [] };
  if (files === undefined) return { found: nothing, sides: { before, after: before, renames: noRenames } };
  refuseRepeated(files);
  const { result, advice } = checkedFiles(files);
  if (!result.ok) {
    const errors = result.diagnostics.map((each) => ({
      ...locate(each, files),
      start: each.span.start,
      end: each.span.end,
      // A fix in another file than the error would be made where nobody looks.
      ...(each.fix === undefined || each.fix.span.source !== each.span.source
        ? {}
        : {
            fix: {
              description: each.fix.description,
              start: each.fix.span.start,
              end: each.fix.span.end,
              text: each.fix.text,
            },
          }),
    }));
    return { found: { ...nothing, errors }, sides: null };
  }
  const { present, problems, renamed } = await passageFor(database, version, result.rulebook);
  return {
    found: { errors: [], advice, problems: [...problems] },
    sides: problems.length > 0 ? null : { before, after: present, renames: renamed },
  };
}

function checkedFiles(files: readonly Source[]): Checked {
  const key = digestOf(files);
  const known = checked.get(key);
  if (known !== undefined) return known;
  const result = checkRulebook(files);
  const made = { result, advice: result.ok ? adviceOn(result.rulebook).map(adviceDocument) : [] };
  checked.set(key, made);
  return made;

  function adviceDocument({ kind, message, span }: { kind: { code: string }; message: string; span: Span }) {
    const { line, column } = positionAt(
      files.find(({ name }) => name === span.source)!,
      span.start,
    );
    return { code: kind.code, message, file: span.source, line, column, start: span.start, end: span.end };
  }
}

/** Everybody who is pinned must be known on one side at least. */
export function credentialsOfPinned({ before, after }: NonNullable<Tried['sides']>, as: readonly string[]) {
  for (const name of as)
    if (name !== VISITOR && !before.identities.has(name) && !after.identities.has(name))
      throw new Problem('malformed-request', {
        errors: [{ message: `there is no test identity “${name}”`, field: 'as' }],
      });
  return as.map(credentialsOf);
}

export async function benchPage(
  database: Database,
  sides: NonNullable<Tried['sides']>,
  collection: string,
  asked: z.infer<typeof benchRequestSchema>,
  unlocked: boolean,
): Promise<BenchPage> {
  const { before, after, renames } = sides;
  const by = { before, after, renames, credentials: credentialsOfPinned(sides, asked.as), collection };
  const filter = filtersOf(sides, collection, asked.where, unlocked);
  const page = await inTime(
    pinnedPage(database, by, {
      filter,
      onlyChanged: asked.changed === true,
      unlocked,
      after: asked.after === undefined ? null : parsePageKey(asked.after),
      limit: asked.limit,
    }),
  );
  if (page === null) throw new Problem('not-found');
  return pageDocument(page, sides, asked, unlocked);
}

/** The filter as each side reads it. Of what the draft alone opens nothing is asked, unless a publisher has unlocked. */
function filtersOf(
  { before, after, renames }: NonNullable<Tried['sides']>,
  collection: string,
  where: string | undefined,
  unlocked: boolean,
) {
  const was = [...renames.collections].find(([, now]) => now === collection)?.[0] ?? collection;
  if (where === undefined) {
    if (!before.schema.has(was) && !after.schema.has(collection)) throw new Problem('not-found');
    return { was: null, is: null };
  }
  const of = (rulebook: Rulebook, name: string) =>
    rulebook.schema.has(name) ? parseWhere(rulebook, collectionNamed(rulebook, name), where) : null;
  const old = of(before, was);
  return { was: old, is: unlocked || old === null ? of(after, collection) : null };
}

function pageDocument(
  { both, items, records, sentences, more, labels }: PinnedPage,
  { before, after }: NonNullable<Tried['sides']>,
  asked: z.infer<typeof benchRequestSchema>,
  unlocked: boolean,
): BenchPage {
  const [old, now] = [before.schema.get(both.was ?? ''), after.schema.get(both.is ?? '')];
  const definition = now ?? old!;
  const fields = both.fields.map(({ name, was, is }): BenchPage['fields'][number] => {
    const field = (is === null ? old!.fields.get(was!) : now!.fields.get(is))!;
    return {
      name,
      title: field.title,
      type: typeName(field.type),
      reference: field.type.kind === 'ref' && !field.system ? field.type.collection : null,
      sensitive: field.sensitive,
      system: field.system,
      side: was === null ? 'new' : is === null ? 'gone' : 'both',
    };
  });
  // Of those in force only the rules: what is lost was opened by them.
  const inForce = [...sentences.was.entries()].filter(([, { kind }]) => kind === 'rule');
  const placeInForce = new Map(inForce.map(([own], at) => [own, sentences.is.length + at]));
  const nameNow = (field: string) => both.fields.find(({ was }) => was === field)?.name ?? field;
  const written = ({ kind, sentence: { span, text }, operation, isShared }: PinnedSentence) => ({
    kind,
    file: span.source,
    start: span.start,
    end: span.end,
    text,
    operation,
    shared: isShared,
  });
  const documents = records.map(({ id, label, values, sides, made }): BenchRecord => {
    const marks = (index: number) => sides.map((all) => all[index]!).join('');
    const [sees, changes]: [Record<string, string>, Record<string, string>] = [{}, {}];
    const record = { reads: '', deletes: '', acts: '' };
    const isLost = sides.some((all) => all.includes(2));
    for (const [index, { operation, field }] of items.entries()) {
      if (field !== null) (operation === 'read' ? sees : changes)[field] = marks(index);
      else
        record[operation === 'read' ? 'reads' : operation === 'delete' ? 'deletes' : 'acts'] = marks(index);
    }
    return {
      id,
      label,
      values: Object.fromEntries(values),
      ...record,
      sees,
      changes,
      made: made.is.map((own) => [...own]),
      ...(isLost ? { lost: made.was.map((own) => own.flatMap((each) => placeInForce.get(each) ?? [])) } : {}),
    };
  });
  const last = records.at(-1);
  return {
    label: definition.label,
    fields,
    hasActions: [before, after].some((rulebook) => actionsOn(rulebook, definition.name).length > 0),
    records: documents,
    sentences: [
      ...sentences.is.map((each) => ({
        ...written(each),
        fields: each.fields === null ? null : [...each.fields],
        inForce: false,
      })),
      ...inForce.map(([, each]) => ({
        ...written(each),
        fields: each.fields === null ? null : [...each.fields].map(nameNow),
        inForce: true,
      })),
    ],
    labels: Object.fromEntries([...labels].map(([field, of]) => [field, Object.fromEntries(of)])),
    next: more && last !== undefined ? pageKey(last) : null,
    notCovered: [
      ...(asked.files === undefined || unlocked
        ? []
        : [
            'values and labels that the draft alone opens are marked, and shown after an unlock',
            ...(asked.where === undefined
              ? []
              : ['with a filter, records that the draft alone opens are left out until an unlock']),
          ]),
      ...(both.was === null ? ['the collection is new: it has no records before it is published'] : []),
    ],
  };
}

export async function benchCounts(
  database: Database,
  sides: NonNullable<Tried['sides']>,
  collection: string,
  as: readonly string[],
): Promise<BenchCounts> {
  const { before, after, renames } = sides;
  const credentials = credentialsOfPinned(sides, as);
  const counts = await inTime(pinnedCounts(database, { before, after, renames, credentials, collection }));
  if (counts === null) throw new Problem('not-found');
  const { total, identities, sentences } = counts;
  return {
    total,
    identities: identities.map(({ effects, sentences: _, ...each }) => ({ ...each, effects: [...effects] })),
    sentences: sentences.map(({ sentence: { id, span }, kind, operation }, index) => ({
      id,
      kind,
      file: span.source,
      start: span.start,
      end: span.end,
      operation,
      counts: identities.map((each) => each.sentences[index]!),
    })),
  };
}

/** Rules that take long on all records are nothing to be tried at each pause. */
async function inTime<T>(work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (error) {
    if (!hasTimedOut(error) && !(error instanceof TooManyKinds)) throw error;
    throw new Problem('too-many-records', {
      errors: [
        {
          message:
            'a condition takes too long on the records that are there: pin fewer people, or ask less of each record',
        },
      ],
    });
  }
}

const pageKeySchema = z.strictObject({ label: z.string().nullable(), id: z.string() });

/** Where a page ended: what stands on the page, and nothing else. */
function pageKey({ label, id }: { readonly label: string | null; readonly id: string }): string {
  return Buffer.from(JSON.stringify({ label, id })).toString('base64url');
}

function parsePageKey(text: string): z.infer<typeof pageKeySchema> {
  const malformed = new Problem('malformed-request', {
    errors: [{ message: 'this is not the “next” of a page', field: 'after' }],
  });
  let raw: unknown;
  try {
    raw = JSON.parse(Buffer.from(text, 'base64url').toString('utf8'));
  } catch {
    throw malformed;
  }
  const parsed = pageKeySchema.safeParse(raw);
  if (!parsed.success) throw malformed;
  const { label } = parsed.data;
  const id = parseValue({ kind: 'uuid' }, parsed.data.id);
  // PostgreSQL takes no U+0000 in a text.
  if (!id.ok || id.value === null || label?.includes('\u0000') === true) throw malformed;
  return { label, id: id.value as string };
}
