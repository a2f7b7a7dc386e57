import knexFactory, { type Knex } from 'knex';
import pg from 'pg';
import type { Fragment } from '../core/sql/fragment.ts';
import { KeepingClient, OTHER_RESULT_TYPE } from './kept.ts';
import { parserOf } from './readers.ts';

/** The database, or a transaction on it. Functions of the store take one and answer rows, never a builder. */
export type Database = Knex;
export type Executor = Knex | Knex.Transaction;

/** Something that asks statements in a way of its own; see `guess.ts`. */
export interface Asks {
  /** `raw`: rows are wanted as they come, see `wire.ts`. */
  asks(statement: Fragment & { readonly raw?: boolean }, kept: boolean): Promise<Record<string, unknown>[]>;
}

/** What can be asked for rows, and for nothing else. */
export type Reader = Executor | Asks;

export interface ConnectionOptions {
  /** A `postgres://` URL. */
  readonly url: string;
  /** Connections at most; two cores are kept busy by far fewer than a hundred. */
  readonly poolSize?: number;
}

/** What each session is set to. */
export const SESSION: Readonly<Record<string, string>> = {
  timezone: 'UTC',
  datestyle: 'ISO',
  jit: 'off',
  statement_timeout: '10000',
  idle_in_transaction_session_timeout: '60000',
};

/**
 * How long a database may take to let somebody in before it counts as away, in milliseconds. One that is down refuses at once; one that
 * has too much to do, or runs on a machine that has, takes seconds, and is there all the same.
 */
const CONNECT_MS = 10_000;

/**
 * A pool of connections. Nothing is opened until the first question, so an unreachable database is not an error here.
 * Statements here are short and their costs often overestimated, so compiling them (jit) would only cost time.
 * Every session speaks UTC and ISO dates; a statement that runs longer than 10 s is ended by the server.
 */
export function connect({ url, poolSize = 10 }: ConnectionOptions): Database {
  return knexFactory({
    client: KeepingClient as unknown as typeof Knex.Client,
    connection: {
      connectionString: url,
      application_name: 'firmgate',
      connectionTimeoutMillis: CONNECT_MS,
      options: Object.entries(SESSION)
        .map(([name, value]) => `-c ${name}=${value}`)
        .join(' '),
      types: {
        getTypeParser: (oid: number, format?: string) =>
          format === 'binary' ? pg.types.getTypeParser(oid, format) : parserOf(oid),
      },
    } as Knex.PgConnectionConfig,
    pool: { min: 0, max: poolSize },
    acquireConnectionTimeout: CONNECT_MS + 1_000,
    // Knex writes failed connections to the console, many times a second; they reach us as errors all the same.
    log: { warn: silent, error: silent, debug: silent, deprecate: silent },
    compileSqlOnError: false,
  });
}

/** Connections that are used, that are free, and that are waited for. */
export function connectionsOf(database: Database): Readonly<Record<'used' | 'free' | 'wanted', number>> {
  const { pool } = database.client as {
    readonly pool: { numUsed(): number; numFree(): number; numPendingAcquires(): number };
  };
  return { used: pool.numUsed(), free: pool.numFree(), wanted: pool.numPendingAcquires() };
}

function silent(): void {}

/** Asked before each trip, with how many statements go together, where a test has something to do with it, such as ending the process. */
export const statements: { before: ((asked: number) => Promise<void> | void) | null } = { before: null };

/** Runs one statement. The driver's errors pass through; `failures.ts` says what they mean. */
export async function run<Row = Record<string, unknown>>(on: Reader, statement: Fragment): Promise<Row[]> {
  if ('asks' in on) return (await on.asks(statement, false)) as Row[];
  if (statements.before !== null) await statements.before(1);
  const result: { rows: Row[] } = await on.raw(statement.text, statement.values as Knex.RawBinding[]);
  return result.rows;
}

/**
 * The same for a statement that comes again and again with other values: each connection parses and plans it once, and holds the
 * last five hundred of such. Only for texts that the rules alone make, never for one with a caller's filter or order in it. One
 * that selects `*` must stand outside of transactions: it is asked once more where a table has got another column since.
 */
export async function runKept<Row = Record<string, unknown>>(
  on: Reader,
  statement: Fragment,
): Promise<Row[]> {
  if ('asks' in on) return (await on.asks(statement, true)) as Row[];
  if (isPassing(on)) return run(on, statement);
  if (statements.before !== null) await statements.before(1);
  try {
    const raw = on.raw(statement.text, statement.values as Knex.RawBinding[]);
    const result = (await raw.options({ kept: true })) as { rows: Row[] };
    return result.rows;
  } catch (error) {
    if ((error as { code?: unknown }).code !== OTHER_RESULT_TYPE) throw error;
    // A table has got another column since. A transaction is lost with its statement: whoever began it does it anew.
    if (on.isTransaction === true) throw error;
    return run(on, statement);
  }
}

/**
 * The same database for questions of a rulebook that is not in force: their statements are not worth keeping, and would
 * take the place of those that are.
 */
export function passing(database: Database): Database {
  return database.withUserParams({ passing: true });
}

/** Knex hands the mark on to a transaction; a savepoint knows what it is in. */
export function isPassing(on: Executor): boolean {
  if ((on.userParams as { passing?: unknown } | undefined)?.passing === true) return true;
  const around = (on as Knex.Transaction).parentTransaction;
  return around !== undefined && isPassing(around);
}
