import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Renames } from '../../core/passage/renames.ts';
import { roomForSets } from '../../core/sql/counting.ts';
import type { BothSides } from '../../core/sql/effects.ts';
import { sql, type Fragment } from '../../core/sql/fragment.ts';
import { recordKeys } from '../../core/sql/identifiers.ts';
import {
  pinnedCountsSql,
  type CountedIdentity,
  type CountedSentence,
  type Kind,
} from '../../core/sql/pinned-counts.ts';
import {
  labelsSql,
  pinnedSql,
  type Pinned,
  type PinnedItem,
  type PinnedQuestion,
} from '../../core/sql/pinned.ts';
import type { PinnedSentence } from '../../core/sql/pinned-sentences.ts';
import { systemFieldNames } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { arrive, type Credentials } from '../callers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { syncIdentities, writingIdentities } from '../publish/index.ts';
import { rolledBack } from '../roll-back.ts';
import { sameIdentities } from '../trials/index.ts';
import { accessOf, bothSides } from './index.ts';

/** Whom is looked through, and the rules on both sides. */
export interface PinnedBy {
  readonly before: Rulebook;
  readonly after: Rulebook;
  readonly renames: Renames;
  readonly credentials: readonly Credentials[];
  /** By its name in the draft, or by the one in force where the draft does not speak of it. */
  readonly collection: string;
}

/** 0: neither; 1: by the draft alone; 2: by the rules in force alone; 3: by both. */
export type Sides = 0 | 1 | 2 | 3;

export interface PinnedSides<T> {
  readonly was: T;
  readonly is: T;
}

export interface PinnedRecord {
  readonly id: string;
  readonly label: string | null;
  readonly values: ReadonlyMap<string, Value>;
  /** For each identity, in their order: for each item. */
  readonly sides: readonly (readonly Sides[])[];
  /** For each identity: the sentences that make what it may, in force and by the draft, by their place among those of that side. */
  readonly made: PinnedSides<readonly (readonly number[])[]>;
}

export interface PinnedPage {
  readonly both: BothSides;
  readonly items: readonly PinnedItem[];
  readonly records: readonly PinnedRecord[];
  readonly sentences: PinnedSides<readonly PinnedSentence[]>;
  readonly more: boolean;
  /** Labels of what references point at, by field and id: as far as somebody pinned sees them in force. */
  readonly labels: ReadonlyMap<string, ReadonlyMap<string, string>>;
}

export interface PinnedCounts {
  readonly total: number;
  readonly sentences: readonly CountedSentence[];
  readonly identities: readonly CountedIdentity[];
}

/** The longest that one statement may take: what is looked at while somebody writes is not worth more. Counts come when they come. */
const TIMEOUT = {
  page: sql`set local statement_timeout = '5s'`,
  counts: sql`set local statement_timeout = '20s'`,
};

/** A page of records as several identities see them, before and after. Null: there is no such collection. Nothing is saved. */
export async function pinnedPage(
  database: Database,
  by: PinnedBy,
  question: Pick<PinnedQuestion, 'filter' | 'onlyChanged' | 'unlocked' | 'after' | 'limit'>,
): Promise<PinnedPage | null> {
  return looking(database, by, TIMEOUT.page, async (on, pinned, both) => {
    const query = pinnedSql(pinned, { ...question, both, limit: question.limit + 1 });
    const rows = await run<Record<string, Value> & { id: string; _label: string | null; _flags: boolean[] }>(
      on,
      query.statement,
    );
    const records = rows.slice(0, question.limit).map((row): PinnedRecord => {
      const values = both.fields.flatMap(({ name }, index): [string, Value][] => {
        const value = row[`v_${index}`] ?? null;
        return value === null ? [] : [[name, value]];
      });
      const sides = query.places.map((all) =>
        all.map(({ was, is }) => ((row._flags[was]! ? 2 : 0) + (row._flags[is]! ? 1 : 0)) as Sides),
      );
      const { was, is } = query.sentences;
      const made = { was: was.making(row._flags), is: is.making(row._flags) };
      return { id: row.id, label: row._label, values: new Map(values), sides, made };
    });
    const { items } = query;
    return {
      both,
      items,
      records,
      sentences: { was: query.sentences.was.all, is: query.sentences.is.all },
      more: rows.length > question.limit,
      labels: await pointedAt(on, pinned, both, records),
    };
  });
}

/**
 * What the draft does for each of those pinned, and what each of its sentences does. Null: there is no such collection. `most`: kinds of
 * records that are told apart at a time. Throws `TooManyKinds` where one identity alone has more.
 */
export async function pinnedCounts(
  database: Database,
  by: PinnedBy,
  most = MOST_KINDS,
): Promise<PinnedCounts | null> {
  return looking(database, by, TIMEOUT.counts, async (on, pinned, both) => {
    const counted = async (some: readonly Pinned[]): Promise<PinnedCounts> => {
      const { statement, sentences, read } = pinnedCountsSql(some, both, most);
      const kinds = await run<Kind>(on, statement);
      if (kinds.length <= most) return { sentences, ...read(kinds) };
      // Of fewer people fewer conditions are asked, and so there are fewer kinds.
      if (some.length === 1) throw new TooManyKinds();
      const half = Math.ceil(some.length / 2);
      const [first, second] = [await counted(some.slice(0, half)), await counted(some.slice(half))];
      return { ...first, identities: [...first.identities, ...second.identities] };
    };
    return counted(pinned);
  });
}

/** So many kinds of records are told apart: some megabytes, and a tenth of a second to read. */
const MOST_KINDS = 20_000;

/** The conditions on a collection tell too many kinds of records apart. */
export class TooManyKinds extends Error {
  constructor() {
    super('the conditions tell too many kinds of records apart');
  }
}

/** Arrives as each of them by both rulebooks at one moment, in a transaction that is taken back. */
async function looking<T>(
  database: Database,
  { before, after, renames, credentials, collection }: PinnedBy,
  timeout: Fragment,
  work: (on: Executor, pinned: readonly Pinned[], both: BothSides) => Promise<T>,
): Promise<T | null> {
  const both = bothSides(before, after, renames).find((each) => (each.is ?? each.was) === collection);
  if (both === undefined) return null;
  const others = !sameIdentities(before, after);
  const looked = () =>
    rolledBack(
      database,
      async (on) => {
        await run(on, timeout);
        await run(on, roomForSets);
        let moment: string | null = null;
        const old = [];
        for (const each of credentials) {
          const arrival = await arrive(on, before, each, { at: moment });
          moment ??= arrival?.now ?? null;
          old.push(arrival?.caller ?? null);
        }
        if (others) await syncIdentities(on, after);
        const pinned: Pinned[] = [];
        for (const [index, each] of credentials.entries()) {
          const arrival: Awaited<ReturnType<typeof arrive>> = await arrive(on, after, each, { at: moment });
          moment ??= arrival?.now ?? null;
          // Nobody who is looked through may sign in: then no condition is asked, and no moment counts.
          const now = moment ?? '';
          pinned.push({
            was: accessOf(before, old[index]!, now).withSets('hashed'),
            is: accessOf(after, arrival?.caller ?? null, now).withSets('hashed'),
          });
        }
        return work(on, pinned, both);
      },
      { isolationLevel: 'repeatable read' },
    );
  return writingIdentities(database, others, looked);
}

async function pointedAt(
  on: Executor,
  pinned: readonly Pinned[],
  both: BothSides,
  records: readonly PinnedRecord[],
): Promise<Map<string, Map<string, string>>> {
  const found = new Map<string, Map<string, string>>();
  if (both.was === null) return found;
  const all = pinned.map(({ was }) => was);
  const { schema } = all[0]!.rulebook;
  const { fields } = schema.get(both.was)!;
  for (const { name, was } of both.fields) {
    const type = was === null ? undefined : fields.get(was)!.type;
    if (type?.kind !== 'ref' || systemFieldNames.has(name)) continue;
    const ids = [...new Set(records.flatMap(({ values }) => (values.get(name) as string | undefined) ?? []))];
    const label = schema.get(type.collection)?.label;
    if (ids.length === 0 || label === null || label === undefined) continue;
    const rows = await run<{ id: string; label: string | null }>(
      on,
      labelsSql(all, type.collection, label, recordKeys(ids)),
    );
    found.set(
      name,
      new Map(rows.flatMap((row): [string, string][] => (row.label === null ? [] : [[row.id, row.label]]))),
    );
  }
  return found;
}
