import type { Caller } from '../../core/decide/caller.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Renames } from '../../core/passage/renames.ts';
import { Access } from '../../core/sql/access.ts';
import { roomForSets } from '../../core/sql/counting.ts';
import { changesAnySql, effectsSql, type BothSides, type EffectItem } from '../../core/sql/effects.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { column, peopleTable, recordKeys } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { collectionOf } from '../../core/types/schema.ts';
import { arrive, type Credentials } from '../callers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { syncIdentities } from '../publish/index.ts';
import { rolledBack } from '../roll-back.ts';
import { sameIdentities } from '../trials/index.ts';

/** Somebody whose rights are compared. */
export interface Whom {
  readonly kind: 'visitor' | 'identity' | 'person';
  /** `visitor`; the name of a test identity; the address of a person, or their id. */
  readonly name: string;
}

/** What one of them gains and loses of one kind: differences of sets, so that a swap shows as both. */
export interface Effect extends EffectItem {
  readonly collection: string;
  readonly who: Whom;
  readonly was: number;
  readonly is: number;
  readonly gained: number;
  readonly lost: number;
  /** Some of the records, by label. */
  readonly more: readonly string[];
  readonly less: readonly string[];
}

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
}

/** People who are looked at, where there are more: one for each set of roles first. */
const MOST_PEOPLE = 500;

/**
 * What a draft would change for everybody, on the records that are there: the visitor, all test identities, and people. Its
 * collections are those in force. Nothing is saved. Cost: for each of them and each collection whose sentences differ, one pass.
 */
export async function effectsOf(
  database: Database,
  before: Rulebook,
  after: Rulebook,
  { renames, affected }: { readonly renames: Renames; readonly affected: ReadonlySet<string> | null },
  progress: (done: number, total: number, doing: string) => void,
): Promise<Effects> {
  return rolledBack(
    database,
    async (on) => {
      await run(on, sql`set local statement_timeout = '5min'`);
      await run(on, roomForSets);
      const { people, left, eachSet } = await peopleToLookAt(on);
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
      const was: (Caller | null)[] = [];
      let moment = '';
      for (const { credentials } of everyone) {
        const arrival = await arrive(on, before, credentials);
        was.push(arrival?.caller ?? null);
        moment = arrival?.now ?? moment;
      }
      // Where the draft has other identities they are written, and taken back with all else; otherwise nobody is held up.
      if (!sameIdentities(before, after)) await syncIdentities(on, after);
      const found = new Found();
      const sides = bothSides(before, after, renames);
      /** Whom nothing changes for, by collection: they may still do what others no longer can. */
      const unchanged = new Map<string, Access[]>();
      for (const [index, { who, credentials }] of everyone.entries()) {
        progress(index, everyone.length, who.kind === 'person' ? 'people' : who.name);
        const arrival = await arrive(on, after, credentials, { at: moment });
        await compare(on, who, was[index]!, arrival?.caller ?? null, moment);
      }
      const frozen: string[] = [];
      for (const collection of found.frozen())
        if (after.schema.has(collection) && !(await anybodyChanges(on, collection))) frozen.push(collection);
      return {
        effects: await labelled(on, before, after, found.effects),
        lockedOut: found.lockedOut,
        frozen,
        looked: { identities: everyone.length - people.length, people: people.length },
        left,
        eachSet,
      };

      async function anybodyChanges(on: Executor, collection: string): Promise<boolean> {
        for (const access of unchanged.get(collection) ?? []) {
          const [row] = await run<{ any: boolean }>(on, changesAnySql(access, collection));
          if (row!.any) return true;
        }
        return false;
      }

      async function compare(
        on: Executor,
        who: Whom,
        old: Caller | null,
        now: Caller | null,
        moment: string,
      ): Promise<void> {
        // Whoever may not sign in before or after is asked of by the rules of nobody.
        const [a, b] = [accessOf(before, old, moment), accessOf(after, now, moment)].map((each) =>
          each.withSets('hashed'),
        ) as [Access, Access];
        for (const both of sides) {
          const collection = (both.is ?? both.was)!;
          const query = affected?.has(collection) === false ? null : effectsSql(a, b, both);
          if (query === null) {
            unchanged.set(collection, [...(unchanged.get(collection) ?? []), b]);
            continue;
          }
          const [row] = await run<Record<string, number & string[]>>(on, query.statement);
          found.add(collection, who, query.items, row!);
        }
      }
    },
    { isolationLevel: 'repeatable read' },
  );
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
  return { people: rows, left: total - rows.length, eachSet: sets <= MOST_PEOPLE };
}

/** What was found so far, with the ids of examples in place of labels. */
class Found {
  readonly effects: Effect[] = [];
  readonly lockedOut: { readonly who: Whom; readonly collection: string }[] = [];
  readonly #changed = new Map<string, { was: number; is: number }>();

  add(
    collection: string,
    who: Whom,
    items: readonly EffectItem[],
    row: Readonly<Record<string, number & string[]>>,
  ): void {
    const records = { was: 0, is: 0 };
    for (const [index, item] of items.entries()) {
      const [was, is] = [row[`was_${index}`]!, row[`is_${index}`]!] as [number, number];
      const [gained, lost] = [row[`gained_${index}`]!, row[`lost_${index}`]!] as [number, number];
      if (item.field === null && item.operation !== 'share') {
        records.was += was;
        records.is += is;
        if (item.operation === 'update') {
          const all = this.#changed.get(collection) ?? { was: 0, is: 0 };
          this.#changed.set(collection, { was: all.was + was, is: all.is + is });
        }
      }
      if (gained === 0 && lost === 0) continue;
      const [more, less] = [row[`more_${index}`]!, row[`less_${index}`]!].map((ids) => [
        ...new Set((ids as (string | null)[]).filter((id) => id !== null)),
      ]);
      this.effects.push({ ...item, collection, who, was, is, gained, lost, more: more!, less: less! });
    }
    if (records.was > 0 && records.is === 0) this.lockedOut.push({ who, collection });
  }

  frozen(): string[] {
    return [...this.#changed]
      .filter(([, { was, is }]) => was > 0 && is === 0)
      .map(([collection]) => collection);
  }
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
