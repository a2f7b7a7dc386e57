import { commaList, sql, value, type Fragment } from '../../core/sql/fragment.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { columnType, identifier, table } from '../../core/sql/identifiers.ts';
import { searchedFields } from '../../core/sql/indexes.ts';
import { systemFieldNames, type Collection, type Field, type Schema } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { existingTables, type ExistingTables } from './existing.ts';
import { constraintName } from './names.ts';

/**
 * Makes the tables fit the schema, within the transaction given. Records are never thrown away: what the rulebook
 * no longer speaks of stays in its column or table, out of everybody's reach, and is named in the answer.
 * `before` is the schema that was in force, whose constraints are there already.
 * A change that could lose or bend a value is refused with what to do instead.
 */
export async function shapeTables(
  on: Executor,
  schema: Schema,
  before: Schema | null,
): Promise<{ readonly setAside: readonly string[] }> {
  const existing = await existingTables(on);
  const problems = unfitColumns(existing, schema);
  if (problems.length > 0) throw new PublishRefused(problems);
  for (const collection of schema.values()) {
    if (existing.has(collection.name)) continue;
    await run(
      on,
      sql`create table ${table(collection.name)} (id uuid primary key, created_at timestamptz not null, updated_at timestamptz not null)`,
    );
  }
  // All tables are there before the first reference between them.
  for (const collection of schema.values()) {
    const columns = existing.get(collection.name) ?? new Map<string, never>();
    for (const field of ownFields(collection)) {
      if (!columns.has(field.name)) await addColumn(on, collection.name, field);
    }
  }
  for (const collection of schema.values()) {
    for (const field of ownFields(collection)) {
      // What has not changed is not looked at again: constraints on a large table take their time, and its lock.
      const known = existing.get(collection.name)?.has(field.name) === true;
      const same =
        JSON.stringify(before?.get(collection.name)?.fields.get(field.name)) === JSON.stringify(field);
      if (!known || !same) await constrain(on, collection.name, field);
    }
  }
  return { setAside: await setAside(on, existing, schema) };
}

function ownFields(collection: Collection): Field[] {
  return [...collection.fields.values()].filter((field) => !field.system);
}

function unfitColumns(existing: ExistingTables, schema: Schema): string[] {
  const problems: string[] = [];
  for (const collection of schema.values()) {
    for (const field of ownFields(collection)) {
      const there = existing.get(collection.name)?.get(field.name);
      const wanted = columnType(field.type).text;
      if (there !== undefined && there.type !== wanted) {
        problems.push(
          `${collection.name}.${field.name} holds ${there.type} values already and cannot become ${field.type.kind}: add a field with a new name, copy the values over, and leave this one out`,
        );
      }
    }
  }
  return problems;
}

async function addColumn(on: Executor, collection: string, field: Field): Promise<void> {
  const collation = columnType(field.type).text === 'text' ? sql` collate "C"` : sql``;
  const standard = field.default;
  const filling =
    standard === null
      ? sql``
      : standard.kind === 'now'
        ? sql` default now()`
        : sql` default ${literal(standard.value)}`;
  await alter(
    on,
    collection,
    sql`add column ${identifier(field.name)} ${columnType(field.type)}${collation}${filling}`,
  );
  // Kept as it is, so that its size can be told without reading it.
  if (field.type.kind === 'json' || field.type.kind === 'list')
    await alter(on, collection, sql`alter column ${identifier(field.name)} set storage external`);
  // The default has filled the records that were there; from now on the service fills it in itself.
  if (standard !== null)
    await alter(on, collection, sql`alter column ${identifier(field.name)} drop default`);
}

async function constrain(on: Executor, collection: string, field: Field): Promise<void> {
  const name = identifier(field.name);
  if (field.required) await requireValues(on, collection, field.name);
  else await alter(on, collection, sql`alter column ${name} drop not null`);

  const unique = constraintName('u', collection, field.name);
  if (!field.unique) await dropConstraint(on, collection, unique);
  else if (!(await hasConstraint(on, collection, unique)))
    await makeUnique(on, collection, field.name, unique);

  const reference = constraintName('f', collection, field.name);
  await dropConstraint(on, collection, reference);
  if (field.type.kind === 'ref') {
    await alter(
      on,
      collection,
      sql`add constraint ${identifier(reference)} foreign key (${name}) references ${table(field.type.collection)} (id) deferrable`,
    );
    await index(on, collection, field.name);
  }

  const check = constraintName('c', collection, field.name);
  await dropConstraint(on, collection, check);
  const allowed = allowedValues(field, name);
  if (allowed !== null) await addCheck(on, collection, field.name, check, allowed);
}

/** What PostgreSQL itself must refuse, should anybody write to the table directly. */
function allowedValues(field: Field, name: Fragment): Fragment | null {
  if (field.type.kind === 'one of') return sql`${name} in (${commaList(field.type.values.map(literal))})`;
  if (field.type.kind === 'integer') return sql`${name} between -9007199254740991 and 9007199254740991`;
  return null;
}

/** With the id behind it the index also serves a page of “my records”, which is the question asked most. */
async function index(on: Executor, collection: string, field: string): Promise<void> {
  const name = identifier(constraintName('i', collection, field));
  await run(on, sql`create index if not exists ${name} on ${table(collection)} (${identifier(field)}, id)`);
}

/** The indexes that the rules need to find what somebody may read. What is there already is left as it is. */
export async function indexSearched(on: Executor, rulebook: Rulebook): Promise<void> {
  for (const [collection, fields] of searchedFields(rulebook))
    for (const field of fields) await index(on, collection, field);
}

async function requireValues(on: Executor, collection: string, field: string): Promise<void> {
  const empty = await count(
    on,
    sql`select count(*) as count from ${table(collection)} where ${identifier(field)} is null`,
  );
  if (empty > 0) {
    throw new PublishRefused([
      `${collection}.${field} is required, and ${empty} of the records there have no value: fill them in first, or publish the field without “required”`,
    ]);
  }
  await alter(on, collection, sql`alter column ${identifier(field)} set not null`);
}

async function makeUnique(
  on: Executor,
  collection: string,
  field: string,
  constraint: string,
): Promise<void> {
  const name = identifier(field);
  const repeated = await count(
    on,
    sql`select count(*) as count from (select 1 from ${table(collection)} where ${name} is not null group by ${name} having count(*) > 1) as repeated`,
  );
  if (repeated > 0) {
    throw new PublishRefused([
      `${collection}.${field} is unique, and ${repeated} of its values stand in more than one record: change those first`,
    ]);
  }
  await alter(on, collection, sql`add constraint ${identifier(constraint)} unique (${name})`);
}

async function addCheck(
  on: Executor,
  collection: string,
  field: string,
  constraint: string,
  allowed: Fragment,
): Promise<void> {
  const outside = await count(
    on,
    sql`select count(*) as count from ${table(collection)} where not (${allowed})`,
  );
  if (outside > 0) {
    throw new PublishRefused([
      `${outside} records of ${collection} have a value in ${field} that its type no longer allows: change those first, or keep the value in the list`,
    ]);
  }
  await alter(on, collection, sql`add constraint ${identifier(constraint)} check (${allowed})`);
}

async function hasConstraint(on: Executor, collection: string, name: string): Promise<boolean> {
  const found = await run(
    on,
    sql`select 1 from pg_constraint where conname = ${value(name)} and conrelid = to_regclass(${value(table(collection).text)})`,
  );
  return found.length > 0;
}

async function dropConstraint(on: Executor, collection: string, name: string): Promise<void> {
  await alter(on, collection, sql`drop constraint if exists ${identifier(name)}`);
}

async function alter(on: Executor, collection: string, change: Fragment): Promise<void> {
  await run(on, sql`alter table ${table(collection)} ${change}`);
}

async function count(on: Executor, statement: Fragment): Promise<number> {
  const [row] = await run<{ count: number }>(on, statement);
  return row!.count;
}

/** A checked literal inside DDL, where PostgreSQL takes no bound values. */
function literal(checked: string | number | boolean | null): Fragment {
  // Doubling the quote is the whole of quoting while standard_conforming_strings is on, its setting since 9.1.
  const text =
    checked === null ? 'null' : `'${String(checked).replaceAll("'", "''").replaceAll('?', '\\?')}'`;
  return Object.freeze({ text, values: [] });
}

/** Frees what is no longer spoken of from its duties, so that it cannot stand in the way of new records. */
async function setAside(on: Executor, existing: ExistingTables, schema: Schema): Promise<string[]> {
  const named: string[] = [];
  for (const [name, columns] of existing) {
    const collection = schema.get(name);
    if (collection === undefined) {
      named.push(name);
      for (const field of columns.keys()) await dropConstraint(on, name, constraintName('f', name, field));
      continue;
    }
    for (const field of columns.keys()) {
      if (collection.fields.has(field) || systemFieldNames.has(field)) continue;
      named.push(`${name}.${field}`);
      await alter(on, name, sql`alter column ${identifier(field)} drop not null`);
      for (const kind of ['u', 'f', 'c'] as const)
        await dropConstraint(on, name, constraintName(kind, name, field));
    }
  }
  return named;
}

/** How many records a collection has, with full sight. */
export async function countRecords(on: Executor, collection: string): Promise<number> {
  return count(on, sql`select count(*) as count from ${table(collection)}`);
}
