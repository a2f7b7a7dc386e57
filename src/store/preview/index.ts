import { actsAffected } from '../../core/analysis/affected.ts';
import type { Caller } from '../../core/decide/caller.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Renames } from '../../core/passage/renames.ts';
import { Access } from '../../core/sql/access.ts';
import { roomForSets } from '../../core/sql/counting.ts';
import { actsOf, changesAnySql, type BothSides } from '../../core/sql/effects.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { column, peopleTable, recordKeys } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { collectionOf } from '../../core/types/schema.ts';
import { arrive, type Credentials } from '../callers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { syncIdentities, writingIdentities } from '../publish/index.ts';
import { rolledBack } from '../roll-back.ts';
import { sameIdentities } from '../trials/index.ts';
import {
  COUNTING_MILLISECONDS,
  countActs,
  countAlone,
  countTogether,
  nameOf,
  sameFor,
  type Counted,
  type Effect,
  type Found,
  type Person,
  type Whom,
} from './counting.ts';

export type { Effect } from './counting.ts';

export interface Effects {
  readonly effects: readonly Effect[];
  /** Who could read, change or delete something in a collection, and nothing any more. */
  readonly lockedOut: readonly { readonly who: Whom; readonly collection: string }[];
  /** Collections that somebody of those looked at could change, and nobody could any more. */
  readonly frozen: readonly string[];
  readonly looked: { readonly identities: number; readonly people: number };
  /** People who were not looked at, and whether for each set of roles that is given by hand somebody was. */
  readonly left: number;
  readonly eachSet: boolean;
  /** Actions that are not decided on some record for somebody: `sell lots`. */
  readonly openActs: readonly string[];
  /** Collections whose actions were not counted for all of those looked at. */
  readonly uncountedActs: readonly string[];
}

/** People who are looked at, where there are more: one for each set of roles first. */
const MOST_PEOPLE = 500;

/**
 * What a draft would change for everybody, on the records that are there: the visitor, all test identities, and people. Its
 * collections are those in force. Nothing is saved. Cost: for each collection whose sentences differ one pass, and for each of them a
 * search for what is theirs; where much is shared, or they are few, one pass for each of them.
 */
export async function effectsOf(
  database: Database,
  before: Rulebook,
  after: Rulebook,
  { renames, affected }: { readonly renames: Renames; readonly affected: ReadonlySet<string> | null },
  progress: (done: number, total: number, doing: string) => void,
): Promise<Effects> {
  const others = !sameIdentities(before, after);
  const work = () =>
    rolledBack(
      database,
      async (on) => {
        await run(on, sql`set local statement_timeout = '5min'`);
        await run(on, roomForSets);
        const { people, total, sets } = await peopleToLookAt(on);
        const everyone: { readonly who: Whom; readonly credentials: Credentials }[] = [
          { who: { kind: 'visitor', name: 'visitor' }, credentials: { kind: 'visitor' } },
          ...[...new Set([...before.identities.keys(), ...after.identities.keys()])].map((name) => ({
            who: { kind: 'identity' as const, name },
            credentials: { kind: 'test identity' as const, name },
          })),
          ...people.map(({ id, email }) => ({
            who: { kind: 'person' as const, name: email ?? id },
            credentials: { kind: 'person' as const, id },
          })),
        ];
        const callers: { was: Caller | null; is: Caller | null }[] = [];
        let moment = '';
        for (const { credentials } of everyone) {
          const arrival = await arrive(on, before, credentials);
          callers.push({ was: arrival?.caller ?? null, is: null });
          moment = arrival?.now ?? moment;
        }
        // Where the draft has other identities they are written, and taken back with all else; otherwise nobody is held up.
        if (others) await syncIdentities(on, after);
        for (const [index, { credentials }] of everyone.entries())
          callers[index]!.is = (await arrive(on, after, credentials, { at: moment }))?.caller ?? null;
        // Whoever may not sign in before or after is asked of by the rules of nobody.
        const persons = callers.map(({ was, is }, index): Person => ({
          who: everyone[index]!.who,
          was: accessOf(before, was, moment).withSets('hashed'),
          is: accessOf(after, is, moment).withSets('hashed'),
        }));
        const sides = bothSides(before, after, renames);
        /** Whom nothing changes for, by collection: they may still do what others no longer can. */
        const unchanged = new Map<string, Access[]>();
        const together: Found[] = [];
        const alone = new Map<Person, BothSides[]>(persons.map((person) => [person, []]));
        const ends = performance.now() + COUNTING_MILLISECONDS.together;
        for (const [index, both] of sides.entries()) {
          const collection = nameOf(both);
          progress(index, sides.length + 1, collection);
          const same = affected?.has(collection) === false ? new Set(persons) : sameFor(persons, both);
          unchanged.set(
            collection,
            [...same].map(({ is }) => is),
          );
          const differing = persons.filter((person) => !same.has(person));
          const counted = await countTogether(on, both, differing, ends);
          together.push(...counted.values());
          for (const person of differing) if (!counted.has(person)) alone.get(person)!.push(both);
        }
        const acts = await actsFor(on, [before, after], sides, { affected, persons, ends });
        progress(sides.length, sides.length + 1, 'one by one');
        const { found, unfinished } = await countAlone(
          on,
          alone,
          performance.now() + COUNTING_MILLISECONDS.alone,
        );
        const all = inOrder([...together, ...found], persons, sides);
        const frozen: string[] = [];
        for (const collection of frozenBy(all))
          if (
            after.schema.has(collection) &&
            !(await anybodyChanges(on, unchanged.get(collection)!, collection))
          )
            frozen.push(collection);
        const looked = people.length - unfinished.size;
        return {
          effects: await labelled(
            on,
            before,
            after,
            effectsIn(inOrder([...all, ...acts.found], persons, sides)),
          ),
          openActs: acts.open,
          uncountedActs: acts.uncounted,
          lockedOut: all.filter(isLockedOut).map(({ person: { who }, collection }) => ({ who, collection })),
          frozen,
          looked: { identities: everyone.length - people.length, people: looked },
          left: total - looked,
          // One for each set comes first.
          eachSet: sets <= looked,
        };
      },
      { isolationLevel: 'repeatable read' },
    );
  return writingIdentities(database, others, work);
}

/** What a change does to who may carry out actions, where it could do something. */
async function actsFor(
  on: Executor,
  [before, after]: readonly [Rulebook, Rulebook],
  sides: readonly BothSides[],
  {
    affected,
    persons,
    ends,
  }: {
    readonly affected: ReadonlySet<string> | null;
    readonly persons: readonly Person[];
    readonly ends: number;
  },
) {
  const [found, open, uncounted] = [new Set<Found>(), new Set<string>(), new Set<string>()];
  for (const both of sides) {
    const collection = nameOf(both);
    const acts = actsOf(before, after, both);
    if (acts.length === 0 || !actsAffected(before, after, affected, both)) continue;
    const counted = await countActs(on, both, acts, persons, ends);
    if (counted.size < persons.length) uncounted.add(collection);
    for (const each of counted.values()) {
      found.add(each);
      for (const act of each.counted) if (act.open !== undefined) open.add(`${act.operation} ${collection}`);
    }
  }
  return { found: [...found], open: [...open], uncounted: [...uncounted] };
}

/** By person, and for each of them by collection. */
function inOrder(all: readonly Found[], persons: readonly Person[], sides: readonly BothSides[]): Found[] {
  const places = new Map(persons.map((person, index) => [person, index]));
  const names = sides.map(nameOf);
  return all.toSorted(
    (one, other) =>
      places.get(one.person)! - places.get(other.person)! ||
      names.indexOf(one.collection) - names.indexOf(other.collection),
  );
}

function effectsIn(all: readonly Found[]): Effect[] {
  return all.flatMap(({ person: { who }, collection, counted }) =>
    counted
      .filter(({ gained, lost }) => gained > 0 || lost > 0)
      .map((each): Effect => ({ ...each, collection, who })),
  );
}

/** Records that somebody could do something with, and can: of each operation but sharing. */
function recordsOf(counted: readonly Counted[], isAbout: (item: Counted) => boolean) {
  const all = counted.filter((each) => each.field === null && isAbout(each));
  const sum = (side: 'was' | 'is') => all.reduce((before, each) => before + each[side], 0);
  return { was: sum('was'), is: sum('is') };
}

function isLockedOut({ counted }: Found): boolean {
  const { was, is } = recordsOf(counted, ({ operation }) => operation !== 'share');
  return was > 0 && is === 0;
}

/** Collections that somebody could change, and none of those who were counted can. */
function frozenBy(all: readonly Found[]): string[] {
  return [...new Set(all.map(({ collection }) => collection))].filter((name) => {
    const counted = all.filter(({ collection }) => collection === name).flatMap((each) => each.counted);
    const { was, is } = recordsOf(counted, ({ operation }) => operation === 'update');
    return was > 0 && is === 0;
  });
}

async function anybodyChanges(on: Executor, among: readonly Access[], collection: string): Promise<boolean> {
  for (const access of among) {
    const [row] = await run<{ any: boolean }>(on, changesAnySql(access, collection));
    if (row!.any) return true;
  }
  return false;
}

/** Every collection of either side, paired with what it is called on the other. */
export function bothSides(
  { schema: was }: Rulebook,
  { schema: is }: Rulebook,
  renames: Renames,
): BothSides[] {
  const pairs = paired([...was.keys()], [...is.keys()], renames.collections);
  return pairs.map(({ was: old, is: now }): BothSides => {
    const [before, after] = [was.get(old ?? '')?.fields, is.get(now ?? '')?.fields];
    const fields = paired(
      [...(before?.keys() ?? [])],
      [...(after?.keys() ?? [])],
      renames.fields.get(now ?? ''),
    );
    return { was: old, is: now, fields: fields.map((each) => ({ ...each, name: (each.is ?? each.was)! })) };
  });
}

function paired(
  was: readonly string[],
  is: readonly string[],
  renames: ReadonlyMap<string, string> = new Map(),
) {
  const oldOf = new Map([...renames].map(([old, now]) => [now, old]));
  const known = is.map((now) => {
    const old = oldOf.get(now) ?? (renames.has(now) ? null : now);
    return { was: old !== null && was.includes(old) ? old : null, is: now as string | null };
  });
  const gone = was.filter((old) => !known.some((each) => each.was === old));
  return [...known, ...gone.map((old) => ({ was: old as string | null, is: null }))];
}

export function accessOf(rulebook: Rulebook, caller: Caller | null, now: string): Access {
  if (caller !== null) return new Access(rulebook, caller, now);
  return new Access({ ...rulebook, rules: [] }, { person: null, roles: new Set() }, now);
}

/** Everybody, or where there are very many: one for each set of roles that is given by hand, and then more. */
async function peopleToLookAt(on: Executor) {
  const rows = await run<{ id: string; email: string | null; total: number; sets: number }>(
    on,
    sql`with everyone as (
        select p.id, p.email, array(
            select a.role from gate.role_assignments as a where a.person = p.id
              and (a.starts is null or a.starts <= now()) and (a.ends is null or now() < a.ends)
            union select g.role from gate.group_members as m join gate.group_roles as g on g."group" = m."group" where m.person = p.id
            order by 1) as roles
          from ${peopleTable} as p where p._active and p._identity is null
      ), numbered as (select *, row_number() over (partition by roles order by id) as place from everyone)
      select id, email, (select count(*) from everyone) as total, (select count(distinct roles) from everyone) as sets from numbered order by place, id limit ${value(MOST_PEOPLE)}::integer`,
  );
  const { total, sets } = rows[0] ?? { total: 0, sets: 0 };
  return { people: rows, total, sets };
}

/** The labels of the examples in place of their ids. */
async function labelled(
  on: Executor,
  before: Rulebook,
  after: Rulebook,
  effects: readonly Effect[],
): Promise<Effect[]> {
  const labels = new Map<string, string>();
  for (const collection of new Set(effects.map((each) => each.collection))) {
    const ids = effects
      .filter((each) => each.collection === collection)
      .flatMap(({ more, less }) => [...more, ...less]);
    const { schema } = after.schema.has(collection) ? after : before;
    const { label } = collectionOf(schema, collection);
    const rows = await run<{ id: string; label: string | null }>(
      on,
      sql`select r.id::text as id, left(${column('r', label ?? 'id')}::text, 60) as label from ${relation(schema, collection)} as r where r.id = any(${recordKeys(ids)})`,
    );
    for (const row of rows) labels.set(row.id, row.label ?? row.id);
  }
  const named = (ids: readonly string[]) => ids.map((id) => labels.get(id) ?? id);
  return effects.map((each) => ({ ...each, more: named(each.more), less: named(each.less) }));
}
