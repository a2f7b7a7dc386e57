import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import { Access } from './access.ts';
import { conditionSql } from './conditions.ts';
import { anyOf, commaList, sql, value, type Fragment } from './fragment.ts';
import { identifier, table } from './identifiers.ts';
import { ownersSql } from './owners.ts';

const noRoles: ReadonlySet<string> = new Set();

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
  const sets = access.withSets();
  const truth = (condition: Condition, by: Access) => conditionSql(condition, by.around('r', noRoles));
  const bits = (conditions: readonly Condition[]) =>
    conditions.length === 0
      ? sql`''`
      : sql`concat(${commaList(conditions.map((each) => sql`case when ${truth(each, sets)} then '1' else '0' end`))})`;
  const owners = ownersSql(access.rulebook.schema, collection, 'r').map(
    (owner, index) =>
      sql`(select case when o is null then null when o = any(${value(people)}::uuid[]) then o::text else '*' end from (select ${owner} as o) as each) as ${identifier(`owner_${index}`)}`,
  );
  const columns = [...owners, sql`${bits(common)} as common`, sql`${bits(own)} as own`];
  const places = commaList(columns.map((_, index) => ({ text: String(index + 1), values: [] })));
  const where = touching ? sql` where ${anyOf(own.map((each) => truth(each, sets)))}` : sql``;
  return sql`select ${commaList([...columns, sql`count(*) as count`, sql`array[min(r.id::text), max(r.id::text)] as examples`])} from ${table(collection)} as r${where} group by ${places}`;
}

/** What is allowed on each of these records, by the fragments that serve requests: columns as `names` says. */
export function allowedSql(
  access: Access,
  collection: string,
  ids: readonly string[],
): { readonly statement: Fragment; readonly names: readonly AllowedColumn[] } {
  const { rulebook } = access;
  const fields = [...collectionOf(rulebook.schema, collection).fields.values()];
  const questions: Omit<AllowedColumn, 'column'>[] = [
    { operation: 'read', field: null },
    ...fields.map(({ name }) => ({ operation: 'read', field: name })),
    ...fields.filter(({ system }) => !system).map(({ name }) => ({ operation: 'update', field: name })),
    { operation: 'delete', field: null },
    ...actionsOf(rulebook, collection).map((operation) => ({ operation, field: null })),
  ];
  // Fields that the same rules cover are asked about once.
  const known = new Map<string, string>();
  const columns: Fragment[] = [];
  const names = questions.map(({ operation, field }) => {
    const asked = access.allowed(operation, collection, field === null ? null : [field], 'r');
    const key = JSON.stringify([asked.text, asked.values]);
    let name = known.get(key);
    if (name === undefined) {
      name = `allowed_${known.size}`;
      known.set(key, name);
      columns.push(sql`${asked} as ${identifier(name)}`);
    }
    return { operation, field, column: name };
  });
  const statement = sql`select ${commaList([sql`r.id`, ...columns])} from ${table(collection)} as r where r.id = any(${value(ids)}::uuid[])`;
  return { statement, names };
}

export interface AllowedColumn {
  readonly operation: string;
  readonly field: string | null;
  readonly column: string;
}

/** The actions of a collection, by name. */
export function actionsOf(rulebook: Rulebook, collection: string): string[] {
  return [...rulebook.actions.values()]
    .filter((action) => action.collection === collection)
    .map((action) => action.name);
}
