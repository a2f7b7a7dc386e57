import type { Condition } from '../ir/conditions.ts';
import { Access } from './access.ts';
import { conditionSql } from './conditions.ts';
import { anyOf, commaList, sql, type Fragment } from './fragment.ts';
import { identifier, recordKeys } from './identifiers.ts';
import { relation } from './relations.ts';
import { ownersSql } from './owners.ts';

const noRoles: ReadonlySet<string> = new Set();

/** Memory for the sets of ids that a pass over a collection hashes: a set that does not fit is searched anew for each row. */
export const roomForSets = sql`set local work_mem = '64MB'`;

/**
 * How many records there are of each kind, with examples: by owner, and by which of the conditions are true, as a text of 0 and 1. Role
 * conditions must have been settled before. `people`: the owners to be told apart, by id; all others come as `*`.
 * `touching`: only records for which one of `own` is true. Cost: without it, one pass over the collection.
 */
export function classesSql(
  access: Access,
  collection: string,
  people: readonly string[],
  common: readonly Condition[],
  own: readonly Condition[],
  touching: boolean,
): Fragment {
  const sets = access.withSets('hashed');
  const owners = ownersSql(access.rulebook.schema, collection, 'r').map(
    (owner, index) =>
      sql`(select case when o is null then null when o = any(${recordKeys(people)}) then o::text else '*' end from (select ${owner} as o) as each) as ${identifier(`owner_${index}`)}`,
  );
  const columns = [...owners, sql`${bitsSql(sets, common)} as common`, sql`${bitsSql(sets, own)} as own`];
  const places = commaList(columns.map((_, index) => ({ text: String(index + 1), values: [] })));
  const where = touching ? sql` where ${anyOf(own.map((each) => truthSql(sets, each)))}` : sql``;
  return sql`select ${commaList([...columns, sql`count(*) as count`, sql`array[min(r.id::text), max(r.id::text)] as examples`])} from ${relation(access.rulebook.schema, collection)} as r${where} group by ${places}`;
}

/** The truth of conditions that speak of no record, as a text of 0 and 1. */
export function factsSql(access: Access, facts: readonly Condition[]): Fragment {
  return sql`select ${bitsSql(access, facts)} as facts`;
}

/** The truth of conditions for each of these records: what `classesSql` counts, one by one. */
export function recordBitsSql(
  access: Access,
  collection: string,
  ids: readonly string[],
  common: readonly Condition[],
  own: readonly Condition[],
): Fragment {
  const columns = [sql`r.id`, sql`${bitsSql(access, common)} as common`, sql`${bitsSql(access, own)} as own`];
  return sql`select ${commaList(columns)} from ${relation(access.rulebook.schema, collection)} as r where r.id = any(${recordKeys(ids)})`;
}

/** What a plan of rights asks, as columns beside a record: of the record, and of none, which is worked out once. */
export function rightsColumns(
  access: Access,
  { conditions, facts }: { readonly conditions: readonly Condition[]; readonly facts: readonly Condition[] },
): Fragment[] {
  return [
    sql`${bitsSql(access, conditions)} as ${identifier(CAN.conditions)}`,
    sql`(select ${bitsSql(access, facts)}) as ${identifier(CAN.facts)}`,
  ];
}

/** The names of these columns. */
export const CAN = { conditions: '_can', facts: '_could' } as const;

/** A condition whose roles have been settled, of the record under the alias. Null is not true. */
export function truthSql(access: Access, condition: Condition, alias = 'r'): Fragment {
  return conditionSql(condition, access.around(alias, noRoles));
}

/** The truth of such conditions, as a text of 0 and 1. */
export function bitsSql(access: Access, conditions: readonly Condition[], alias = 'r'): Fragment {
  if (conditions.length === 0) return sql`''`;
  // A function takes a hundred arguments at most, an array as many as there are.
  return sql`array_to_string(array[${commaList(conditions.map((each) => sql`case when ${truthSql(access, each, alias)} then '1' else '0' end`))}], '')`;
}
