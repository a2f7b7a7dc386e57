import type { CollectionPassage, FieldPassage, Passage } from '../../core/passage/passage.ts';
import { fillingOf, standardOf } from '../../core/passage/passage.ts';
import { conversion, converted } from '../../core/sql/converting.ts';
import { commaList, literal, sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { column as columnAt, columnType, identifier, recordKey, stored } from '../../core/sql/identifiers.ts';
import { searchedFields } from '../../core/sql/indexes.ts';
import { convertingIn, fillSql, relation } from '../../core/sql/relations.ts';
import { collectionOf, fieldOf, type Field, type Schema } from '../../core/types/schema.ts';
import { typeName } from '../../core/types/types.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { alone, alter, atLength, briefly } from './definitions.ts';
import { changesBetween, demandsOf, hold } from './demands.ts';
import { NAMED, faults } from './faults.ts';
import { constraintName } from './names.ts';

/**
 * The first of three steps of publishing: whatever only adds. New tables, new columns beside those in force, values made in them in
 * batches, and kept equal by triggers while the version in force goes on writing; indexes beside its writes. Nobody reads any of it
 * yet. What was begun is listed in `gate.prepared`, so that it can be taken away again: see `clean.ts`.
 */
export async function prepare(
  database: Database,
  passage: Passage,
  before: Schema,
  { indexes = true, named = true }: { readonly indexes?: boolean; readonly named?: boolean } = {},
): Promise<{ readonly notes: readonly string[] }> {
  const fresh = passage.collections.filter(({ was }) => was === null);
  const standing = passage.collections.filter(({ was }) => was !== null);
  const { problems, notes: found } = await atLength(database, (on) => faultsOf(on, passage, before, named));
  if (problems.length > 0) throw new PublishRefused(problems);
  const notes = [...found];
  await makeTables(database, passage, fresh);
  const added = standing.flatMap(({ name, table }) =>
    passage.fields
      .filter((each) => each.collection === name && (each.was === null || each.made))
      .map((each) => ({ ...each, table })),
  );
  for (const each of added) await addColumn(database, each);
  for (const { table } of standing)
    notes.push(
      ...(await makeValues(
        database,
        passage,
        added.filter((each) => each.table === table && each.made),
      )),
    );
  for (const each of added) await refuseMissing(database, passage, each, named);
  for (const each of added) await holdColumn(database, passage, each);
  // An index that holds users to something new is for what is to come into force alone.
  if (indexes) await makeIndexes(database, passage, standing, before);
  return { notes };
}

/** New tables with all that they need: nobody writes to them yet. */
async function makeTables(
  database: Database,
  { final, fields }: Passage,
  fresh: readonly CollectionPassage[],
): Promise<void> {
  if (fresh.length === 0) return;
  for (const { table } of fresh) await noteBegun(database, 'table', table);
  await briefly(database, async (on) => {
    for (const { table } of fresh)
      await run(
        on,
        sql`create table ${stored(table)} (id uuid primary key, created_at timestamptz not null, updated_at timestamptz not null)`,
      );
    // All tables are there before the first reference between them.
    const own = fresh.flatMap(({ name, table }) =>
      fields.filter(({ collection }) => collection === name).map((each) => ({ ...each, table })),
    );
    for (const { table, column, field } of own) await defineColumn(on, table, column, field);
    for (const { table, column, field } of own) {
      const demands = demandsOf(final.schema, field, column);
      for (const kind of changesBetween(null, demands)) {
        if (kind !== 'u') await hold(on, table, column, kind, demands, { later: false });
        else if (demands.unique) await makeUnique(on, table, column);
      }
      if (demands.target !== null) await index(on, table, column);
    }
    for (const { name, table } of fresh)
      for (const each of searchedFields(final).get(name) ?? [])
        await index(on, table, fieldOf(final.schema, name, each)!.column as string);
  });
}

async function makeUnique(on: Executor, table: string, column: string): Promise<void> {
  const name = identifier(constraintName('u', table, column));
  await alter(on, table, sql`add constraint ${name} unique (${identifier(column)})`);
}

/** With the id behind it the index also serves a page of “my records”, which is the question asked most. */
async function index(on: Executor, table: string, column: string): Promise<void> {
  const name = identifier(constraintName('i', table, column));
  await run(on, sql`create index if not exists ${name} on ${stored(table)} (${identifier(column)}, id)`);
}

async function defineColumn(on: Executor, table: string, column: string, field: Field): Promise<void> {
  const { type } = field;
  const collation = columnType(type).text === 'text' ? sql` collate "C"` : sql``;
  await alter(on, table, sql`add column ${identifier(column)} ${columnType(type)}${collation}`);
  // Kept as it is, so that its size can be told without reading it.
  if (type.kind === 'json' || type.kind === 'list')
    await alter(on, table, sql`alter column ${identifier(column)} set storage external`);
}

type Added = FieldPassage & { readonly table: string };

async function addColumn(database: Database, { table, column, field, made }: Added): Promise<void> {
  await noteBegun(database, 'column', table, column);
  await briefly(database, async (on) => {
    const name = identifier(column);
    if (made || field.default === null) return defineColumn(on, table, column, field);
    const standard = field.default.kind === 'now' ? sql`now()` : literal(field.default.value);
    const collation = columnType(field.type).text === 'text' ? sql` collate "C"` : sql``;
    // Fills the records that are there without writing them, and those that the version in force makes until the switch.
    await alter(on, table, sql`add column ${name} ${columnType(field.type)}${collation} default ${standard}`);
  });
}

/** Records whose values are made in one go, so that nobody waits long for one of them. */
const BATCH = 500;

/**
 * Makes the values of new columns of a table: by triggers for all records that are written from now on, and in batches, by the same
 * triggers, for those that are there. Answers what was filled in.
 */
async function makeValues(database: Database, passage: Passage, made: readonly Added[]): Promise<string[]> {
  if (made.length === 0) return [];
  for (const each of made) await addTrigger(database, passage, each);
  const { table } = made[0]!;
  const fills = made.filter(({ fill }) => fill !== null);
  const flags = fills.map(
    (each, index) =>
      sql`${columnAt('w', each.column)} is not null${filledSql(each)} as ${identifier(`filled_${index}`)}`,
  );
  const counts = fills.map(() => 0);
  for (let after: string | null = null; ;) {
    const rows: ({ id: string } & Record<string, boolean>)[] = await atLength(database, (on) =>
      run(
        on,
        sql`with batch as (select id from ${stored(table)} where ${value(after)}::text is null or id > ${recordKey(after)} order by id limit ${value(BATCH)}::integer for no key update)
          update ${stored(table)} as w set ${identifier(made[0]!.column)} = ${columnAt('w', made[0]!.column)}
          from batch where w.id = batch.id returning ${commaList([sql`w.id`, ...flags])}`,
      ),
    );
    for (const row of rows)
      for (const index of counts.keys()) if (row[`filled_${index}`] === true) counts[index]!++;
    if (rows.length < BATCH) break;
    after = rows.reduce((last, { id }) => (id > last ? id : last), '');
  }
  return fills.map(({ collection, field }, index) => {
    const count = counts[index]!;
    return `${collection}.${field.name} is filled in for ${count} ${count === 1 ? 'record' : 'records'}`;
  });
}

/** In this transaction records are written by the rules that are to come: what they write is not made of what was. */
export async function withoutTriggers(on: Executor): Promise<void> {
  await run(on, sql`set local firmgate.triggers = 'off'`);
}

/** The trigger that makes the values of one column, and notes which have no meaning there. */
async function addTrigger(database: Database, passage: Passage, each: Added): Promise<void> {
  const { table, column, collection } = each;
  const name = identifier(triggerName(table, column));
  const made = madeValue(passage, each);
  const fits =
    each.from === null ? sql`true` : fitsSql(passage, each, sql`new.${identifier(columnBefore(each))}`);
  const body = [
    'begin',
    sql`new.${identifier(column)} := (select ${made} from ${rowOf(passage, collection, 'new')} as r);`.text,
    sql`if not coalesce(${fits}, true) then insert into gate.misfits values (${literal(table)}, ${literal(column)}, new.id) on conflict do nothing; end if;`
      .text,
    'return new;',
    'end',
  ]
    .join('\n')
    // It stands inside a text of its own now, where a question mark is no place for a value.
    .replaceAll('\\?', '?');
  await run(
    database,
    sql`create or replace function gate.${name}() returns trigger language plpgsql as ${literal(body)}`,
  );
  await briefly(database, (on) =>
    run(
      on,
      sql`create trigger ${name} before insert or update on ${stored(table)} for each row when (coalesce(current_setting('firmgate.triggers', true), '') <> 'off') execute function gate.${name}()`,
    ),
  );
}

/** Of what was there before, only what was missing is filled. */
function filledSql({ was }: Added): Fragment {
  return was === null ? sql`` : sql` and w.${identifier(was.column as string)} is null`;
}

function columnBefore({ was }: FieldPassage): string {
  return was!.column as string;
}

export function triggerName(table: string, column: string): string {
  return `m_${table}__${column}`;
}

/** A record as it is, by the new names, from a row whose columns go by `alias`. */
function rowOf({ present }: Passage, collection: string, alias: string): Fragment {
  const definition = collectionOf(present.schema, collection);
  const columns = [...definition.fields.values()].map((field) => {
    const at = field.column;
    const type = columnType(field.type);
    if (typeof at !== 'string' && at.column === null) return sql`null::${type} as ${identifier(field.name)}`;
    if (typeof at === 'string') return sql`${rowColumn(alias, at)} as ${identifier(field.name)}`;
    const value = converted(
      rowColumn(alias, at.column!),
      at.type,
      field.type,
      convertingIn(present.schema, at.timeZone),
    );
    return sql`${value} as ${identifier(field.name)}`;
  });
  return sql`(select ${commaList(columns)})`;
}

function rowColumn(alias: string, at: string): Fragment {
  return alias === 'new' ? sql`new.${identifier(at)}` : columnAt(alias, at);
}

/** The value that a record gets in the new column, from the record as it is under `r`. */
function madeValue({ present }: Passage, { was, fill, field }: FieldPassage): Fragment {
  const fills = [...(fill === null ? [] : [fillingOf(fill)]), ...(was === null ? standardOf(field) : [])];
  const parts = [
    ...(was === null ? [] : [columnAt('r', field.name)]),
    ...fills.map((each) => fillSql(present.schema, each, 'r')),
  ];
  const type = columnType(field.type);
  return sql`coalesce(${commaList(parts.map((part) => sql`(${part})::${type}`))})`;
}

function fitsSql({ present }: Passage, { from, field }: FieldPassage, of: Fragment): Fragment {
  const known = conversion(from!, field.type, convertingIn(present.schema, present.timeZone))!;
  return sql`(${of} is null or ${known.fits(of)})`;
}

/** Named of values that do not fit. */
const FIRST = 10;

/** What is there already and does not fit what is declared: said before anything is begun. `named`: with the first records. */
export async function faultsOf(
  on: Executor,
  passage: Passage,
  before: Schema,
  named: boolean,
): Promise<{ readonly problems: readonly string[]; readonly notes: readonly string[] }> {
  const problems: string[] = [];
  const notes: string[] = [];
  for (const each of passage.fields) {
    if (each.was === null) continue;
    if (each.from === null) problems.push(...(await constraintFaults(on, passage, each, before, named)));
    else {
      const { note, problem } = await conversionFaults(on, passage, each, named);
      if (problem !== null) problems.push(problem);
      if (note !== null) notes.push(note);
    }
  }
  return { problems, notes };
}

async function conversionFaults(
  on: Executor,
  passage: Passage,
  each: FieldPassage,
  named: boolean,
): Promise<{ readonly note: string | null; readonly problem: string | null }> {
  const { collection, field } = each;
  const { present } = passage;
  const { table } = collectionOf(present.schema, collection);
  const at = columnBefore(each);
  const unfit = sql`exists (select 1 from ${stored(table!)} as w where w.id = r.id and not ${fitsSql(passage, each, columnAt('w', at))})`;
  const found = await faults(on, present.schema, collection, unfit, named ? FIRST : 0);
  const [row] = await run<{ count: number }>(
    on,
    sql`select count(*) as count from ${stored(table!)} where ${identifier(at)} is not null`,
  );
  const { count } = row!;
  const change = `${collection}.${field.name} becomes ${typeName(field.type)}`;
  if (found.count === 0) return { note: `${change}: all ${count} values fit`, problem: null };
  const problem = `${change}: ${count - found.count} of ${count} values fit, and ${found.records} one that does not${found.first}: change those first, or declare a field with a new name`;
  return { note: null, problem };
}

async function constraintFaults(
  on: Executor,
  { present, final }: Passage,
  { collection, field, was, column, made }: FieldPassage,
  before: Schema,
  named: boolean,
): Promise<string[]> {
  const name = `${collection}.${field.name}`;
  const at = columnAt('r', field.name);
  const is = demandsOf(final.schema, field, column);
  const changes = changesBetween(demandsOf(before, was!, was!.column as string), { ...is });
  const ask = (where: Fragment) => faults(on, present.schema, collection, where, named ? NAMED : 0);
  const problems: string[] = [];
  for (const kind of changes) {
    // What is filled is asked when it has been.
    if (kind === 'n' && is.required && !made) {
      const without = await ask(sql`${at} is null`);
      if (without.count > 0)
        problems.push(
          `${name} is required, and ${without.records} no value${without.first}: fill them in first, by hand or by “fill ${field.name} …”, or publish the field without “required”`,
        );
    } else if (kind === 'u' && is.unique) {
      const others = relation(present.schema, collection);
      const repeated = await ask(
        sql`exists (select 1 from ${others} as o where ${columnAt('o', field.name)} = ${at} and o.id <> r.id)`,
      );
      if (repeated.count > 0)
        problems.push(
          `${name} is unique, and ${repeated.records} a value there that another has, too${repeated.first}: change those first`,
        );
    } else if (kind === 'f' && is.target !== null && field.type.kind === 'ref') {
      const target = relation(present.schema, field.type.collection);
      const lost = await ask(
        sql`${at} is not null and not exists (select 1 from ${target} as t where t.id = ${at})`,
      );
      if (lost.count > 0)
        problems.push(
          `${name} points at ${field.type.collection}, and ${lost.records} a reference there to none of them${lost.first}: add a field with a new name, or take those references away first`,
        );
    } else if (kind === 'c' && is.allowed !== null) {
      const outside = await ask(sql`not (${demandsOf(final.schema, field, field.name).allowed!})`);
      if (outside.count > 0)
        problems.push(
          `${outside.records} a value in ${name} that its type no longer allows${outside.first}: change those first, or keep the value in the list`,
        );
    }
  }
  return problems;
}

/** What must have a value and has none, now that it is filled. */
async function refuseMissing(
  database: Database,
  { final }: Passage,
  each: Added,
  named: boolean,
): Promise<void> {
  const { collection, field, was, made } = each;
  if (!field.required || (!made && field.default !== null)) return;
  const without = await atLength(database, (on) =>
    faults(on, final.schema, collection, sql`${columnAt('r', field.name)} is null`, named ? NAMED : 0),
  );
  if (without.count === 0) return;
  const fill = was === null && !made ? `say what they get, by “fill ${field.name} …”` : 'fill them in first';
  throw new PublishRefused([
    `${collection}.${field.name} is required, and ${without.records} no value${without.first}: ${fill}, or publish the field without “required”`,
  ]);
}

/** A new column is held to what is asked of it before it is in force; only that it must have a value waits for the switch. */
async function holdColumn(database: Database, { final }: Passage, each: Added): Promise<void> {
  const { table, column, field } = each;
  const demands = demandsOf(final.schema, field, column);
  for (const kind of ['f', 'c'] as const) {
    if ((kind === 'f' ? demands.target : demands.allowed) === null) continue;
    await briefly(database, (on) => hold(on, table, column, kind, demands, { later: true }));
    const name = identifier(constraintName(kind, table, column));
    await atLength(database, (on) => alter(on, table, sql`validate constraint ${name}`));
  }
}

/** Indexes on tables that are in use: made beside the writes. */
async function makeIndexes(
  database: Database,
  { final, fields }: Passage,
  standing: readonly CollectionPassage[],
  before: Schema,
): Promise<void> {
  const searched = searchedFields(final);
  const there = await indexesThere(database);
  for (const { name, table } of standing) {
    for (const each of fields.filter(({ collection }) => collection === name)) {
      const demands = demandsOf(final.schema, each.field, each.column);
      const known = each.was !== null && !each.made ? demandsOf(before, each.was, each.column) : null;
      if (demands.unique && known?.unique !== true) await uniqueIndex(database, each, table, there);
      if (demands.target !== null || searched.get(name)?.has(each.field.name) === true)
        await plainIndex(database, table, each.column, there);
    }
    for (const each of searched.get(name) ?? [])
      if (collectionOf(final.schema, name).fields.get(each)!.system)
        await plainIndex(database, table, each, there);
  }
}

async function plainIndex(
  database: Database,
  table: string,
  column: string,
  there: ReadonlyMap<string, boolean>,
): Promise<void> {
  const name = constraintName('i', table, column);
  if (there.get(name) === true) return;
  await noteBegun(database, 'index', table, name);
  await run(database, sql`drop index if exists ${stored(name)}`);
  await alone(
    database,
    sql`create index concurrently ${identifier(name)} on ${stored(table)} (${identifier(column)}, id)`,
  );
}

/** PostgreSQL’s codes for a value that is there twice, and for an index entry that is too large. */
const REPEATED = '23505';
const TOO_LARGE = '54000';

async function uniqueIndex(
  database: Database,
  { collection, field, column }: FieldPassage,
  table: string,
  there: ReadonlyMap<string, boolean>,
): Promise<void> {
  const name = constraintName('u', table, column);
  await noteBegun(database, 'index', table, name);
  if (there.has(name)) await run(database, sql`drop index if exists ${stored(name)}`);
  try {
    await alone(
      database,
      sql`create unique index concurrently ${identifier(name)} on ${stored(table)} (${identifier(column)})`,
    );
  } catch (error) {
    const { code } = error as { code?: unknown };
    if (code === TOO_LARGE)
      throw new PublishRefused([
        `${collection}.${field.name} is unique, and some value there is longer than the 2,000 bytes or so that can be told apart quickly: shorten it first, or publish the field without “unique”`,
      ]);
    if (code === REPEATED)
      throw new PublishRefused([
        `${collection}.${field.name} is unique, and some value is there more than once: change those first`,
      ]);
    throw error;
  }
}

/** The indexes on records by name, and whether each is whole. */
async function indexesThere(on: Executor): Promise<Map<string, boolean>> {
  const rows = await run<{ name: string; whole: boolean }>(
    on,
    sql`select c.relname as name, i.indisvalid as whole from pg_index as i join pg_class as c on c.oid = i.indexrelid
      where c.relnamespace = 'records'::regnamespace`,
  );
  return new Map(rows.map(({ name, whole }) => [name, whole]));
}

/** What is begun is listed first, so that it can be found whatever happens. */
async function noteBegun(
  on: Executor,
  kind: 'table' | 'column' | 'index',
  table: string,
  name = '',
): Promise<void> {
  await run(
    on,
    sql`insert into gate.prepared (kind, relation, name) values (${value(kind)}, ${value(table)}, ${value(name)}) on conflict do nothing`,
  );
}
