import type { Condition } from '../ir/conditions.ts';
import { collectionsRead } from '../ir/conditions.ts';
import type { Asked, Grants } from '../evaluate/combine.ts';
import { PEOPLE, collectionOf, type Collection } from '../types/schema.ts';
import { simpleTypes, type Value } from '../types/types.ts';
import type { Access } from './access.ts';
import { typed, type Precision } from './conditions.ts';
import { allOf, commaList, sql, value, type Fragment } from './fragment.ts';
import { column, identifier, table } from './identifiers.ts';

/** The values that a write sets, by field. Every field is of the schema and every value of its type. */
export type NewValues = ReadonlyMap<string, Value>;

/** What is asked for, and the roles that count for the operation: `asking` makes them of its grants. */
export interface Questions {
  readonly asked: readonly Asked[];
  readonly roles: ReadonlySet<string>;
}

/** All rules and fences that decide an operation. */
export function asking({ rules, fences, roles }: Grants): Questions {
  return { asked: [...rules, ...fences], roles };
}

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
  { asked, roles }: Questions,
  collection: string,
  id: string,
  changes: NewValues,
  precision: Precision = 'true',
): RuleFlags {
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const afterwards = withRow(access, collection, sql`${value(id)}::uuid`);
  const before = { old: 'before', new: 'after', changed: afterwards };
  const after = { ...before, relation: afterwards };
  const flags = asked.flatMap((each, index) => [
    sql`${access.holds(each, roles, 'before', before, precision)} as ${identifier(`before_${index}`)}`,
    sql`${access.holds(each, roles, 'after', after, precision)} as ${identifier(`after_${index}`)}`,
  ]);
  const statement = sql`select ${commaList(flags)} from ${table(collection)} as "before" cross join lateral (select ${changedRow(fields, changes)}) as "after" where ${column('before', 'id')} = ${value(id)}::uuid`;
  return { statement, asked };
}

/**
 * How many of the records do not pass all of the fences, as they are and as the change would make them; for what
 * happens to them because another record is deleted. No change: they are deleted themselves.
 */
export function stoppedSql(
  access: Access,
  { asked, roles }: Questions,
  collection: string,
  ids: readonly string[],
  changes: NewValues | null,
): Fragment {
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const afterwards = withRow(access, collection, column('before', 'id'));
  const before = changes === null ? { old: 'before' } : { old: 'before', new: 'after', changed: afterwards };
  const passes = asked.flatMap((each) => [
    access.holds(each, roles, 'before', before),
    ...(changes === null ? [] : [access.holds(each, roles, 'after', { ...before, relation: afterwards })]),
  ]);
  const row =
    changes === null ? sql`` : sql` cross join lateral (select ${changedRow(fields, changes)}) as "after"`;
  return sql`select count(*) as count from ${table(collection)} as "before"${row} where ${column('before', 'id')} = any(${value(ids)}::uuid[]) and (${allOf(passes)}) is not true`;
}

function changedRow(fields: Collection['fields'], changes: NewValues): Fragment {
  return commaList(
    [...fields.values()].map((field) =>
      changes.has(field.name)
        ? sql`${typed(changes.get(field.name)!, field.type)} as ${identifier(field.name)}`
        : sql`${column('before', field.name)} as ${identifier(field.name)}`,
    ),
  );
}

/** For each rule: would it be true for a record with these values, were it there? */
export function createFlagsSql(
  access: Access,
  { asked, roles }: Questions,
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
      sql`${access.holds(each, roles, 'after', { relation }, precision)} as ${identifier(`after_${index}`)}`,
  );
  return { statement: sql`select ${commaList(flags)} from (select ${commaList(row)}) as "after"`, asked };
}

/** For each rule: is it true for the record as it is? For reading and removing. */
export function recordFlagsSql(
  access: Access,
  { asked, roles }: Questions,
  collection: string,
  id: string,
  precision: Precision = 'true',
): RuleFlags {
  const flags = asked.map(
    (each, index) =>
      sql`${access.holds(each, roles, 'before', { old: 'before' }, precision)} as ${identifier(`before_${index}`)}`,
  );
  const statement = sql`select ${commaList(flags)} from ${table(collection)} as "before" where ${column('before', 'id')} = ${value(id)}::uuid`;
  return { statement, asked };
}

/** The collection as the write would leave it: the row that goes by `after`, instead of the one with this id. */
function withRow(access: Access, collection: string, replaced: Fragment | null): (name: string) => Fragment {
  const fields = [...collectionOf(access.rulebook.schema, collection).fields.keys()];
  const columns = (alias: string) => commaList(fields.map((field) => column(alias, field)));
  const others = replaced === null ? sql`` : sql` where ${column('other', 'id')} <> ${replaced}`;
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
  // A new address is nobody's yet, as far as we know; one that stays the same stays verified.
  if (collection.name === PEOPLE && changes.has('email')) {
    const address = typed(changes.get('email')!, simpleTypes.text);
    set.push(sql`_email_verified = (_email_verified and email is not distinct from ${address})`);
  }
  return sql`update ${table(collection.name)} set ${commaList(set)} where id = ${value(id)}::uuid`;
}

/** Removes records. */
export function deleteSql(collection: string, ids: readonly string[]): Fragment {
  return sql`delete from ${table(collection)} where id = any(${value(ids)}::uuid[])`;
}

/** The records that point at any of these by the field, as many as asked for; held until the transaction ends. */
export function referrersSql(
  collection: string,
  field: string,
  ids: readonly string[],
  most: number,
): Fragment {
  return sql`select r.id from ${table(collection)} as r where ${column('r', field)} = any(${value(ids)}::uuid[]) order by r.id limit ${value(most)}::bigint for update`;
}

/** Takes away the reference from those of the records that point at any of the targets. */
export function clearSql(
  collection: string,
  field: string,
  ids: readonly string[],
  targets: readonly string[],
  now: string,
): Fragment {
  return sql`update ${table(collection)} set ${identifier(field)} = null, updated_at = ${value(now)}::timestamptz where id = any(${value(ids)}::uuid[]) and ${identifier(field)} = any(${value(targets)}::uuid[])`;
}

/**
 * Does deciding with these rules look at other records? Then two writes at the same time could each be right
 * alone and wrong together, and the write has to run serializable.
 */
export function looksAtOthers(conditions: Iterable<Condition>): boolean {
  for (const condition of conditions) if (collectionsRead(condition).size > 0) return true;
  return false;
}
