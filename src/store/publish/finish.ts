import { sql } from '../../core/sql/fragment.ts';
import { identifier } from '../../core/sql/identifiers.ts';
import { run, type Database } from '../connection.ts';
import { alter, atLength, briefly, dropConstraint } from './definitions.ts';

/**
 * The third step of publishing: what columns are held to since the switch is looked at for the records that were there before. Reads and
 * writes go on meanwhile. Answers what does not hold, in sentences: a record that was written at the very moment of the switch.
 */
export async function finish(database: Database): Promise<string[]> {
  const notes: string[] = [];
  const open = await run<{ name: string; table: string; column: string }>(
    database,
    sql`select c.conname as name, t.relname as table, a.attname as column
      from pg_constraint as c join pg_class as t on t.oid = c.conrelid
        join pg_attribute as a on a.attrelid = c.conrelid and a.attnum = c.conkey[1]
      where t.relnamespace = 'records'::regnamespace and not c.convalidated order by 2, 1`,
  );
  for (const { name, table, column } of open) {
    try {
      await atLength(database, (on) => alter(on, table, sql`validate constraint ${identifier(name)}`));
    } catch (error) {
      if (!violations.has(String((error as { code?: unknown }).code))) throw error;
      notes.push(
        `a record of ${table} was written at the moment of the change and breaks what ${column} is held to now: find it, change it, and publish again`,
      );
      continue;
    }
    if (!name.startsWith('n_')) continue;
    await briefly(database, async (on) => {
      // The check has been looked at, so this looks at nothing.
      await alter(on, table, sql`alter column ${identifier(column)} set not null`);
      await dropConstraint(on, table, name);
    });
  }
  return notes;
}

/** PostgreSQL: a value is missing, points at nothing, or is not allowed. */
const violations: ReadonlySet<string> = new Set(['23502', '23503', '23514']);
