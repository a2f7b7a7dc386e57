import type { Knex } from 'knex';
import { sql, value } from '../../core/sql/fragment.ts';
import type { Database } from '../connection.ts';
import { OneByOne } from '../one-by-one.ts';

/**
 * Writes that would turn each other back take turns before their transactions begin: first in this process, where waiting
 * costs no connection, and then by a lock of the database, so that all processes are in one queue. Measured with 16 clients on
 * one group: with tries and pauses alone 109 of 640 writes were given up; in turns none, in less than half the time.
 */
const writers = new OneByOne(2_000, 'too many writes wait for each other');

/** Does the work when it is its turn, on a connection of its own that holds the lock from before its transaction to after. */
export function inTurn<T>(
  database: Database,
  group: string,
  work: (connection: unknown) => Promise<T>,
): Promise<T> {
  return writers.run(database, () => locked(database, group, work), group);
}

async function locked<T>(
  database: Database,
  group: string,
  work: (connection: unknown) => Promise<T>,
): Promise<T> {
  const client = database.client as Knex.Client;
  const connection = (await client.acquireConnection()) as { end(): Promise<void> };
  const on = (statement: ReturnType<typeof sql>) =>
    database.raw(statement.text, statement.values as Knex.RawBinding[]).connection(connection);
  const key = sql`hashtextextended(${value(`firmgate writes ${group}`)}, 0)`;
  try {
    await on(sql`select pg_advisory_lock(${key})`);
    try {
      return await work(connection);
    } finally {
      // The work is done or undone already. A connection that may hold the lock for ever must not go back among the others.
      await on(sql`select pg_advisory_unlock(${key})`).catch(() => connection.end());
    }
  } finally {
    await client.releaseConnection(connection);
  }
}
