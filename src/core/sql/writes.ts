import type { Condition } from '../ir/conditions.ts';
import { collectionsRead } from '../ir/conditions.ts';
import type { Asked } from '../evaluate/combine.ts';
import { collectionOf, type Collection } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import type { Access } from './access.ts';
import { typed, type Precision } from './conditions.ts';
import { commaList, sql, value, type Fragment } from './fragment.ts';
import { column, identifier, table } from './identifiers.ts';

/** The values that a write sets, by field. Every field is of the schema and every value of its type. */
export type NewValues = ReadonlyMap<string, Value>;

/** Which rules are true, as a row of flags: `before_0`, `after_0` for the first rule, and so on. */
export interface RuleFlags {
  readonly statement: Fragment;
  readonly asked: readonly Asked[];
}

/**
 * For each rule: is it true for the record as it is, and as it would become? Nothing is written for the question;
 * where a condition's path comes back to the collection being changed, it sees it with the change applied.
 */
export function updateFlagsSql(
  access: Access,
  asked: readonly Asked[],
  collection: string,
  id: string,
  changes: NewValues,
  precision: Precision = 'true',
): RuleFlags {
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const row = [...fields.values()].map((field) =>
    changes.has(field.name)
      ? sql`${typed(changes.get(field.name)!, field.type)} as ${identifier(field.name)}`
      : sql`${column('before', field.name)} as ${identifier(field.name)}`,
  );
  const afterwards = withRow(access, collection, value(id));
  const before = { old: 'before', new: 'after', changed: afterwards };
  const after = { ...before, relation: afterwards };
  const flags = asked.flatMap((each, index) => [
    sql`${access.holds(each, 'before', before, precision)} as ${identifier(`before_${index}`)}`,
    sql`${access.holds(each, 'after', after, precision)} as ${identifier(`after_${index}`)}`,
  ]);
  const statement = sql`select ${commaList(flags)} from ${table(collection)} as "before" cross join lateral (select ${commaList(row)}) as "after" where ${column('before', 'id')} = ${value(id)}::uuid`;
  return { statement, asked };
}

/** For each rule: would it be true for a record with these values, were it there? */
export function createFlagsSql(
  access: Access,
  asked: readonly Asked[],
  collection: string,
  values: NewValues,
  precision: Precision = 'true',
): RuleFlags {
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const row = [...fields.values()].map(
    (field) => sql`${typed(values.get(field.name) ?? null, field.type)} as ${identifier(field.name)}`,
  );
  const relation = withRow(access, collection, null);
  const flags = asked.map(
    (each, index) =>
      sql`${access.holds(each, 'after', { relation }, precision)} as ${identifier(`after_${index}`)}`,
  );
  return { statement: sql`select ${commaList(flags)} from (select ${commaList(row)}) as "after"`, asked };
}

/** For each rule: is it true for the record as it is? For reading and removing. */
export function recordFlagsSql(
  access: Access,
  asked: readonly Asked[],
  collection: string,
  id: string,
  precision: Precision = 'true',
): RuleFlags {
  const flags = asked.map(
    (each, index) =>
      sql`${access.holds(each, 'before', { old: 'before' }, precision)} as ${identifier(`before_${index}`)}`,
  );
  const statement = sql`select ${commaList(flags)} from ${table(collection)} as "before" where ${column('before', 'id')} = ${value(id)}::uuid`;
  return { statement, asked };
}

/** The collection as the write would leave it: the row that goes by `after`, instead of the one with this id. */
function withRow(access: Access, collection: string, replaced: Fragment | null): (name: string) => Fragment {
  const fields = [...collectionOf(access.rulebook.schema, collection).fields.keys()];
  const columns = (alias: string) => commaList(fields.map((field) => column(alias, field)));
  const others = replaced === null ? sql`` : sql` where ${column('other', 'id')} <> ${replaced}::uuid`;
  return (name) =>
    name === collection
      ? sql`(select ${columns('other')} from ${table(name)} as "other"${others} union all select ${columns('after')})`
      : table(name);
}

/** For each reference: is the record that it would point at there, and readable for the caller? */
export function referencesSql(
  access: Access,
  references: readonly { readonly collection: string; readonly id: string }[],
): Fragment {
  const found = references.map(
    ({ collection, id }, index) =>
      sql`exists (select 1 from ${table(collection)} as r where r.id = ${value(id)}::uuid and ${access.readable(collection, 'r')}) as ${identifier(`found_${index}`)}`,
  );
  return sql`select ${commaList(found)}`;
}

/** Puts a record in. All fields are named, so that no column default of the table can add a value. */
export function insertSql(collection: Collection, values: NewValues): Fragment {
  const fields = [...collection.fields.values()];
  const names = commaList(fields.map((field) => identifier(field.name)));
  const row = commaList(fields.map((field) => typed(values.get(field.name) ?? null, field.type)));
  return sql`insert into ${table(collection.name)} (${names}) values (${row})`;
}

/** Changes the named fields of one record. */
export function updateSql(collection: Collection, id: string, changes: NewValues): Fragment {
  const set = [...changes].map(
    ([field, bound]) => sql`${identifier(field)} = ${typed(bound, collection.fields.get(field)!.type)}`,
  );
  return sql`update ${table(collection.name)} set ${commaList(set)} where id = ${value(id)}::uuid`;
}

export function deleteSql(collection: string, id: string): Fragment {
  return sql`delete from ${table(collection)} where id = ${value(id)}::uuid`;
}

/**
 * Does deciding with these rules look at other records? Then two writes at the same time could each be right
 * alone and wrong together, and the write has to run serializable.
 */
export function looksAtOthers(conditions: Iterable<Condition>): boolean {
  for (const condition of conditions) if (collectionsRead(condition).size > 0) return true;
  return false;
}
