import { sql, value } from '../../core/sql/fragment.ts';
import { RECORDS_SCHEMA, tableOf } from '../../core/sql/identifiers.ts';
import type { Collection } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';

/** What is in the database already: table → column → its type and whether it must have a value. */
export type ExistingTables = ReadonlyMap<string, ReadonlyMap<string, ExistingColumn>>;

export interface ExistingColumn {
  readonly type: string;
  readonly required: boolean;
}

/** Reads the catalogue of the application's collections. Columns of our own (`_…`) are left out. */
export async function existingTables(on: Executor): Promise<ExistingTables> {
  const rows = await run<{ table: string; column: string; type: string; required: boolean }>(
    on,
    sql`
      select c.relname as table, a.attname as column, format_type(a.atttypid, null) as type, a.attnotnull as required
      from pg_class as c
        join pg_namespace as n on n.oid = c.relnamespace
        join pg_attribute as a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
      where n.nspname = ${value(RECORDS_SCHEMA)} and c.relkind = 'r' and left(a.attname, 1) <> '_'`,
  );
  const tables = new Map<string, Map<string, ExistingColumn>>();
  for (const row of rows) {
    const columns = tables.get(row.table) ?? new Map<string, ExistingColumn>();
    columns.set(row.column, {
      type: row.type.replace('timestamp with time zone', 'timestamptz'),
      required: row.required,
    });
    tables.set(row.table, columns);
  }
  return tables;
}

/** How many records a collection has, with full sight. */
export async function countRecords(on: Executor, collection: Collection): Promise<number> {
  const [row] = await run<{ count: number }>(on, sql`select count(*) as count from ${tableOf(collection)}`);
  return row!.count;
}
