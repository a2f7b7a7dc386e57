import type { Knex } from 'knex';
import { sql, type Fragment } from '../../core/sql/fragment.ts';
import { identifier, stored } from '../../core/sql/identifiers.ts';
import { run, statements, type Database, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';

/** Changes of tables, made so that nobody who works waits for long. */

/** How long a change of a table waits for its lock, and so how long others wait behind it, at most. */
const LOCK_WAIT_MS = 40;
/** And how often it is tried, with pauses, before it is given up: about a minute. */
const ATTEMPTS = 300;
const PAUSE_MS = 200;

/** PostgreSQL: the lock was not to be had in time; a deadlock. */
const notNow: ReadonlySet<string> = new Set(['55P03', '40P01']);

/** The locks were not to be had together in time. */
export class NotNow extends Error {
  readonly code = '55P03';
}

/** Does the work in a transaction (within one: a savepoint) of its own as soon as its locks can be had at once. */
export async function briefly<T>(on: Executor, work: (transaction: Executor) => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await on.transaction(async (transaction) => {
        await run(transaction, lockWait(`${LOCK_WAIT_MS}ms`));
        const done = await work(transaction);
        if (on.isTransaction === true) await run(transaction, lockWait('0'));
        return done;
      });
    } catch (error) {
      if (!notNow.has(String((error as { code?: unknown }).code))) throw error;
      if (attempt === ATTEMPTS)
        throw new PublishRefused([
          'a table is in use by something that does not end, such as a backup: publish again when it has ended',
        ]);
      await new Promise((resolve) => setTimeout(resolve, PAUSE_MS * Math.random()));
    }
  }
}

function lockWait(time: string): Fragment {
  return { text: `set local lock_timeout = '${time}'`, values: [] };
}

/** Work that looks at all records of a table, in a transaction of its own that may take its time. */
export async function atLength<T>(on: Executor, work: (transaction: Executor) => Promise<T>): Promise<T> {
  return on.transaction(async (transaction) => {
    await run(transaction, sql`set local statement_timeout = '30min'`);
    return work(transaction);
  });
}

/** A statement that must stand outside of any transaction, such as the making of an index beside writes. */
export async function alone(database: Database, statement: Fragment): Promise<void> {
  const client = database.client as Knex.Client;
  const connection = (await client.acquireConnection()) as { end(): Promise<void> };
  const on = (each: Fragment) =>
    database.raw(each.text, each.values as Knex.RawBinding[]).connection(connection);
  try {
    await on(sql`set statement_timeout = '30min'`);
    if (statements.before !== null) await statements.before(1);
    await on(statement);
  } finally {
    // A connection that may not be as the others must not go back among them.
    await on(sql`reset statement_timeout`).catch(() => connection.end());
    await client.releaseConnection(connection);
  }
}

export async function alter(on: Executor, table: string, change: Fragment): Promise<void> {
  await run(on, sql`alter table ${stored(table)} ${change}`);
}

export async function dropConstraint(on: Executor, table: string, name: string): Promise<void> {
  await alter(on, table, sql`drop constraint if exists ${identifier(name)}`);
}
