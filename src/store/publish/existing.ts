import { sql, value } from '../../core/sql/fragment.ts';
import { RECORDS_SCHEMA, tableOf } from '../../core/sql/identifiers.ts';
import type { Collection } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';

/** What is in the database already: table → column → its type, as PostgreSQL calls it in `columnType`. */
export type ExistingTables = ReadonlyMap<string, ReadonlyMap<string, string>>;

/** Reads the catalogue of the application's collections. Columns of our own (`_…`) are left out. */
export async function existingTables(on: Executor): Promise<ExistingTables> {
  const rows = await run<{ table: string; column: string; type: string }>(
    on,
    sql`
      select c.relname as table, a.attname as column, format_type(a.atttypid, null) as type
      from pg_class as c
        join pg_namespace as n on n.oid = c.relnamespace
        join pg_attribute as a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
      where n.nspname = ${value(RECORDS_SCHEMA)} and c.relkind = 'r' and left(a.attname, 1) <> '_'`,
  );
  const tables = new Map<string, Map<string, string>>();
  for (const { table, column, type } of rows) {
    const columns = tables.get(table) ?? new Map<string, string>();
    columns.set(column, type.replace('timestamp with time zone', 'timestamptz'));
    tables.set(table, columns);
  }
  return tables;
}

/** How many records a collection has, with full sight. */
export async function countRecords(on: Executor, collection: Collection): Promise<number> {
  const [row] = await run<{ count: number }>(on, sql`select count(*) as count from ${tableOf(collection)}`);
  return row!.count;
}
