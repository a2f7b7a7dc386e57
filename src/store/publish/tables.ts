import { commaList, sql, value, type Fragment } from '../../core/sql/fragment.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { column, columnType, identifier, table } from '../../core/sql/identifiers.ts';
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
      if (!known || !same) await constrain(on, collection, field);
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

async function constrain(on: Executor, definition: Collection, field: Field): Promise<void> {
  const collection = definition.name;
  const name = identifier(field.name);
  if (field.required) await requireValues(on, definition, field.name);
  else await alter(on, collection, sql`alter column ${name} drop not null`);

  const unique = constraintName('u', collection, field.name);
  if (!field.unique) await dropConstraint(on, collection, unique);
  else if (!(await hasConstraint(on, collection, unique)))
    await makeUnique(on, definition, field.name, unique);

  const reference = constraintName('f', collection, field.name);
  await dropConstraint(on, collection, reference);
  await refer(on, definition, field, reference);
  if (field.type.kind === 'ref') await index(on, collection, field.name);

  const check = constraintName('c', collection, field.name);
  await dropConstraint(on, collection, check);
  const allowed = allowedValues(field, name);
  if (allowed !== null) await addCheck(on, definition, field.name, check, allowed);
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

async function requireValues(on: Executor, collection: Collection, field: string): Promise<void> {
  const without = await faults(on, collection, sql`${column('r', field)} is null`);
  if (without.count > 0) {
    throw new PublishRefused([
      `${collection.name}.${field} is required, and ${without.records} no value (${without.first}): fill them in first, or publish the field without “required”`,
    ]);
  }
  await alter(on, collection.name, sql`alter column ${identifier(field)} set not null`);
}

/** PostgreSQL’s code for an index entry that is too large. */
const TOO_LARGE = '54000';

async function makeUnique(
  on: Executor,
  collection: Collection,
  field: string,
  constraint: string,
): Promise<void> {
  const name = identifier(field);
  const same = sql`select 1 from ${table(collection.name)} as o where ${column('o', field)} = ${column('r', field)} and o.id <> r.id`;
  const repeated = await faults(on, collection, sql`exists (${same})`);
  if (repeated.count > 0) {
    throw new PublishRefused([
      `${collection.name}.${field} is unique, and ${repeated.records} a value there that another has, too (${repeated.first}): change those first`,
    ]);
  }
  try {
    await alter(on, collection.name, sql`add constraint ${identifier(constraint)} unique (${name})`);
  } catch (error) {
    if ((error as { code?: unknown }).code !== TOO_LARGE) throw error;
    throw new PublishRefused([
      `${collection.name}.${field} is unique, and some value there is longer than the 2,000 bytes or so that can be told apart quickly: shorten it first, or publish the field without “unique”`,
    ]);
  }
}

async function refer(
  on: Executor,
  collection: Collection,
  { name, type }: Field,
  constraint: string,
): Promise<void> {
  if (type.kind !== 'ref') return;
  const target = table(type.collection);
  const lost = await faults(
    on,
    collection,
    sql`${column('r', name)} is not null and not exists (select 1 from ${target} as t where t.id = ${column('r', name)})`,
  );
  if (lost.count > 0) {
    throw new PublishRefused([
      `${collection.name}.${name} points at ${type.collection}, and ${lost.records} a reference there to none of them (${lost.first}): add a field with a new name, or take those references away first`,
    ]);
  }
  await alter(
    on,
    collection.name,
    sql`add constraint ${identifier(constraint)} foreign key (${identifier(name)}) references ${target} (id) deferrable`,
  );
}

async function addCheck(
  on: Executor,
  collection: Collection,
  field: string,
  constraint: string,
  allowed: Fragment,
): Promise<void> {
  const outside = await faults(on, collection, sql`not (${allowed})`);
  if (outside.count > 0) {
    throw new PublishRefused([
      `${outside.records} a value in ${collection.name}.${field} that its type no longer allows (${outside.first}): change those first, or keep the value in the list`,
    ]);
  }
  await alter(on, collection.name, sql`add constraint ${identifier(constraint)} check (${allowed})`);
}

/** Named in a message. */
const NAMED = 3;

/** The records for which a condition on `r` holds: how many, as the subject of a sentence, and the first by what they are known by. */
async function faults(
  on: Executor,
  { name, label }: Collection,
  where: Fragment,
): Promise<{ readonly count: number; readonly records: string; readonly first: string }> {
  const known = label === null ? sql`r.id::text` : sql`coalesce(${column('r', label)}::text, r.id::text)`;
  const [row] = await run<{ count: number; first: string[] }>(
    on,
    sql`with found as (select r.id, ${known} as known from ${table(name)} as r where ${where})
      select (select count(*) from found) as count,
        array(select left(known, 60) from found order by id limit ${value(NAMED)}::integer) as first`,
  );
  const { count: records, first } = row!;
  return {
    count: records,
    records: `${records} ${records === 1 ? 'record has' : 'records have'}`,
    first: `${first.map((each) => `“${each}”`).join(', ')}${records > NAMED ? ', …' : ''}`,
  };
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
