import { v7 as uuid } from 'uuid';
import type { Condition, PathOperand } from '../../core/ir/conditions.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { conditionSql, operandSql } from '../../core/sql/conditions.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import {
  column,
  columnOf,
  ownKey,
  peopleTable,
  recordKey,
  recordKeys,
  tableOf,
} from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { ownedSql } from '../../core/sql/owners.ts';
import { collectionOf } from '../../core/types/schema.ts';
import { note, type Actor } from '../audit/index.ts';
import { arrive } from '../callers.ts';
import { holdTheseRules } from '../in-force.ts';
import { run, type Database, type Executor } from '../connection.ts';

/** Records of a collection that nobody owns, by any of its `owned by` paths. */
export interface Ownerless {
  readonly total: number;
  readonly without: number;
  /** When the oldest of them was made, RFC 3339; null: there is none. */
  readonly since: string | null;
  /** By label. */
  readonly examples: readonly string[];
}

const EXAMPLES = 5;

export async function ownerless(on: Executor, rulebook: Rulebook, collection: string): Promise<Ownerless> {
  const { label } = collectionOf(rulebook.schema, collection);
  const [row] = await run<Ownerless & { examples: string[] }>(
    on,
    sql`select (select count(*) from ${relation(rulebook.schema, collection)} as every) as total, count(*) as without, min(r.created_at) as since,
        coalesce((array_agg(left(coalesce(${column('r', label ?? 'id')}::text, r.id::text), 60) order by r.created_at, r.id))[1:${value(EXAMPLES)}::integer], array[]::text[]) as examples
      from ${relation(rulebook.schema, collection)} as r where (${ownedSql(rulebook.schema, collection, 'r')}) is not true`,
  );
  return row!;
}

/** The ids of the records that these labels and ids name, by the text; a text that names none is left out. One statement. */
export async function recordsNamed(
  on: Executor,
  rulebook: Rulebook,
  collection: string,
  texts: readonly string[],
): Promise<ReadonlyMap<string, readonly string[]>> {
  const { label } = collectionOf(rulebook.schema, collection);
  const byLabel = label === null ? sql`false` : sql`${column('r', label)} = asked.text`;
  const rows = await run<{ text: string; id: string }>(
    on,
    sql`select asked.text, r.id from unnest(${value([...new Set(texts)])}::text[]) as asked (text)
      join ${relation(rulebook.schema, collection)} as r on ${byLabel}
      union
      select asked.text, r.id from unnest(${value([...new Set(texts)])}::text[]) as asked (text)
      join ${relation(rulebook.schema, collection)} as r on r.id::text = lower(asked.text)`,
  );
  const found = new Map<string, string[]>();
  for (const { text, id } of rows) found.set(text, [...(found.get(text) ?? []), id]);
  return found;
}

/** Whose the records are to be. */
export type NewOwner =
  | { readonly kind: 'person'; readonly id: string }
  /** A path from the record to a person. */
  | { readonly kind: 'path'; readonly path: PathOperand }
  /** Records by id or label, each with the id of a person. */
  | {
      readonly kind: 'list';
      readonly lines: readonly { readonly record: string; readonly person: string }[];
    };

export interface Assigned {
  /** By which it can be undone; null where nothing was saved. */
  readonly id: string | null;
  readonly records: number;
  /** Records that it was about, and for which the path leads to nobody. */
  readonly missed: number;
  /** Who would read how many records of the collection, before and after; the new owners, the first fifty. */
  readonly owners: readonly {
    readonly person: string;
    readonly records: number;
    readonly was: number;
    readonly is: number;
  }[];
}

/** Owners whose sight is told. */
const TOLD = 50;

/** Thrown out of the transaction, so that nothing is saved. */
class OnlyLooked extends Error {
  readonly assigned: Assigned;

  constructor(assigned: Assigned) {
    super('only looked');
    this.assigned = assigned;
  }
}

/**
 * Gives owners to records that have none in this field: all or nothing, on the trail, to be undone. `look`: tells what it would do,
 * and saves nothing. Cost: one pass over the collection, and for each new owner two counts of what they read.
 */
export async function assignOwners(
  database: Database,
  rulebook: Rulebook,
  asked: {
    readonly collection: string;
    readonly field: string;
    readonly owner: NewOwner;
    readonly where: Condition | null;
    readonly look: boolean;
  },
  actor: Actor,
): Promise<Assigned> {
  try {
    return await database.transaction(async (on) => {
      await holdTheseRules(on, rulebook);
      await run(on, sql`set local statement_timeout = '5min'`);
      const assigned = await assign(on, rulebook, asked, actor);
      if (asked.look) throw new OnlyLooked({ ...assigned, id: null });
      return assigned;
    });
  } catch (error) {
    if (error instanceof OnlyLooked) return error.assigned;
    throw error;
  }
}

async function assign(
  on: Executor,
  rulebook: Rulebook,
  { collection, field, owner, where }: Parameters<typeof assignOwners>[2],
  actor: Actor,
): Promise<Assigned> {
  const [{ now }] = (await run<{ now: string }>(on, sql`select now() as now`)) as [{ now: string }];
  // Staff look with full sight: the condition is asked of the records as they are.
  const around = new Access(rulebook, { person: null, roles: new Set() }, now).around('r', new Set());
  const conditions = [
    sql`${column('r', field)} is null`,
    ...(where === null ? [] : [sql`(${conditionSql(where, around)}) is true`]),
  ].reduce((before, each) => sql`${before} and ${each}`);
  // Of a list only the records that stand in it, each joined once.
  const beside =
    owner.kind === 'list'
      ? sql` join unnest(${recordKeys(owner.lines.map(({ record }) => record))}, ${recordKeys(owner.lines.map(({ person }) => person))}) as l (record, person) on l.record = r.id`
      : sql``;
  const chosen = await run<{ id: string; owner: string | null }>(
    on,
    sql`select r.id, p.id as owner from ${relation(rulebook.schema, collection)} as r${beside} left join ${peopleTable} as p on p.id = ${newOwnerSql(owner, around)}
      where ${conditions} order by r.id for no key update of r`,
  );
  const given = chosen.filter((each): each is { id: string; owner: string } => each.owner !== null);
  const counts = new Map<string, number>();
  for (const each of given) counts.set(each.owner, (counts.get(each.owner) ?? 0) + 1);
  const told = [...counts].toSorted((a, b) => b[1] - a[1]).slice(0, TOLD);
  const was = await readable(on, rulebook, collection, told);
  const id = uuid();
  await run(
    on,
    sql`insert into gate.owner_assignments (id, collection, field, made_by) values (${ownKey(id)}, ${value(collection)}, ${value(field)}, ${value(actor.name)})`,
  );
  await run(
    on,
    sql`insert into gate.owners_assigned (assignment, record, owner) select ${ownKey(id)}, record, owner
      from unnest(${recordKeys(given.map((each) => each.id))}, ${recordKeys(given.map((each) => each.owner))}) as each (record, owner)`,
  );
  const definition = collectionOf(rulebook.schema, collection);
  await run(
    on,
    sql`update ${tableOf(definition)} as r set ${columnOf(definition.fields.get(field)!)} = a.owner, updated_at = greatest(r.updated_at, now())
      from gate.owners_assigned as a where a.assignment = ${ownKey(id)} and a.record = r.id`,
  );
  const is = await readable(on, rulebook, collection, told);
  await note(on, actor, 'owners.assign', collection, { assignment: id, field, records: given.length });
  return {
    id,
    records: given.length,
    missed: chosen.length - given.length,
    owners: told.map(([person, records], index) => ({ person, records, was: was[index]!, is: is[index]! })),
  };
}

function newOwnerSql(owner: NewOwner, around: Parameters<typeof operandSql>[1]): Fragment {
  switch (owner.kind) {
    case 'person':
      return recordKey(owner.id);
    case 'path':
      return operandSql(owner.path, around);
    case 'list':
      return column('l', 'person');
  }
}

/** How many records of the collection each of them reads at this point of the transaction. */
async function readable(
  on: Executor,
  rulebook: Rulebook,
  collection: string,
  people: readonly (readonly [string, number])[],
): Promise<number[]> {
  const counts: number[] = [];
  for (const [id] of people) {
    const arrival = await arrive(on, rulebook, { kind: 'person', id });
    if (arrival === null) {
      counts.push(0);
      continue;
    }
    const access = new Access(rulebook, arrival.caller, arrival.now);
    const [row] = await run<{ count: number }>(
      on,
      sql`select count(*) as count from ${relation(rulebook.schema, collection)} as r where ${access.readable(collection, 'r')}`,
    );
    counts.push(row!.count);
  }
  return counts;
}

export type Undone =
  | { readonly ok: true; readonly records: number }
  | { readonly ok: false; readonly why: 'not found' | 'undone already' | 'field gone' }
  /** Records that somebody has changed since: nothing was taken back. */
  | { readonly ok: false; readonly why: 'changed since'; readonly records: number };

/** Takes an assignment back, whole, as long as nobody has changed one of its records since. */
export async function undoAssignment(
  database: Database,
  rulebook: Rulebook,
  id: string,
  actor: Actor,
): Promise<Undone> {
  return database.transaction(async (on): Promise<Undone> => {
    await holdTheseRules(on, rulebook);
    const [made] = await run<{ collection: string; field: string; made_at: string; undone: boolean }>(
      on,
      sql`select collection, field, made_at, undone_at is not null as undone from gate.owner_assignments where id = ${ownKey(id)} for update`,
    );
    if (made === undefined) return { ok: false, why: 'not found' };
    if (made.undone) return { ok: false, why: 'undone already' };
    const { collection, field } = made;
    const definition = rulebook.schema.get(collection);
    const named = definition?.fields.get(field);
    if (definition === undefined || named === undefined) return { ok: false, why: 'field gone' };
    const ofIt = sql`a.assignment = ${ownKey(id)} and a.record = r.id`;
    const rows = await run<{ same: boolean }>(
      on,
      sql`select ${column('r', field)} is not distinct from a.owner and r.updated_at <= ${value(made.made_at)}::timestamptz as same
        from ${relation(rulebook.schema, collection)} as r join gate.owners_assigned as a on ${ofIt} for no key update of r`,
    );
    const changed = rows.filter(({ same }) => !same).length;
    if (changed > 0) return { ok: false, why: 'changed since', records: changed };
    await run(
      on,
      sql`update ${tableOf(definition)} as r set ${columnOf(named)} = null, updated_at = greatest(r.updated_at, now())
        from gate.owners_assigned as a where ${ofIt}`,
    );
    await run(on, sql`update gate.owner_assignments set undone_at = now() where id = ${ownKey(id)}`);
    await note(on, actor, 'owners.undo', collection, { assignment: id, field, records: rows.length });
    return { ok: true, records: rows.length };
  });
}
