import type { Knex } from 'knex';
import { sql, type Fragment } from '../core/sql/fragment.ts';
import { SESSION, type Database } from './connection.ts';

/** The database, or what stands before it, is not as the service needs it; the message says what to do. */
export class UnfitSessions extends Error {}

/**
 * Makes sure that a connection is one session of the database, and set up as the service counts on. A pooler that gives each transaction
 * whichever session is free would run a prepared statement in a session that has not prepared it, or has another one by that name. Two
 * connections are enough to find out: while the second is in a transaction, the first must still be answered by its own session.
 */
export async function assureSessions(database: Database): Promise<void> {
  const client = database.client as Knex.Client;
  const connections: object[] = [];
  const on = async <Row>(connection: object, statement: Fragment): Promise<Row[]> => {
    const raw = database.raw(statement.text, statement.values as Knex.RawBinding[]);
    return ((await raw.connection(connection)) as { rows: Row[] }).rows;
  };
  const sessionOf = async (connection: object) =>
    (await on<{ pid: number }>(connection, sql`select pg_backend_pid() as pid`))[0]!.pid;
  try {
    for (let count = 0; count < 2; count++)
      connections.push((await client.acquireConnection()) as unknown as object);
    const [first, second] = connections as [object, object];
    const own = await sessionOf(first);
    await on(second, sql`begin`);
    try {
      const other = await sessionOf(second);
      if (other === own || (await sessionOf(first)) !== own) throw new UnfitSessions(SHARED);
    } finally {
      await on(second, sql`rollback`);
    }
    for (const [name, wanted] of Object.entries(SESSION)) {
      const [row] = await on<{ is: string }>(
        first,
        sql`select setting as is from pg_settings where lower(name) = ${literalName(name)}`,
      );
      if (row?.is.split(',')[0] !== wanted) throw new UnfitSessions(settingMissing(name, wanted, row?.is));
    }
  } catch (error) {
    throw refusedOptions(error) ? new UnfitSessions(REFUSED) : error;
  } finally {
    for (const connection of connections) await client.releaseConnection(connection);
  }
}

function literalName(name: string): Fragment {
  return { text: `'${name}'`, values: [] };
}

const SHARED =
  'each transaction may be given another session of the database: connect to PostgreSQL itself, or to a pooler that keeps a session for as long as the connection lasts (pool_mode = session)';
const REFUSED =
  'what stands before the database refuses the settings of a session: connect to PostgreSQL itself, or let the pooler pass the startup parameter “options” on, or pass over it and set them for the role';

function settingMissing(name: string, wanted: string, is: string | undefined): string {
  return `the session has ${name} = ${is ?? 'nothing'} and not ${wanted}: connect to PostgreSQL itself, or set it for the role, with ALTER ROLE … SET ${name} = '${wanted}'`;
}

/** SQLSTATE of a protocol violation; so a pooler says that it does not know a parameter of the start. */
function refusedOptions(error: unknown): boolean {
  const { code, message = '' } = error as { code?: unknown; message?: string };
  return code === '08P01' && message.includes('startup parameter');
}
