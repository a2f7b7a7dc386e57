import { createHash } from 'node:crypto';
import type { Readable } from 'node:stream';
import type { Knex } from 'knex';
// The dialect is made to be extended, and comes without types of its own.
// oxlint-disable-next-line typescript/ban-ts-comment
// @ts-expect-error
import PostgresDialect from 'knex/lib/dialects/postgres/index.js';
// oxlint-disable-next-line typescript/ban-ts-comment
// @ts-expect-error
import PostgresTransaction from 'knex/lib/dialects/postgres/execution/pg-transaction.js';
import { LRUCache } from 'lru-cache';
import { putTap } from './tap.ts';
import type { Columns } from './wire.ts';

/** Statements that one connection holds prepared at most: what a hundred collections and a handful of roles need, some megabytes. */
export const KEPT_STATEMENTS = 500;

/** SQLSTATE of “cached plan must not change result type”. */
export const OTHER_RESULT_TYPE = '0A000';

/** What is asked of the dialect for one statement: see the source of knex. */
interface Asked {
  readonly sql: string;
  options?: { name?: string; kept?: boolean };
}

export interface Connection {
  query(text: string): Promise<unknown>;
  /** `parsedStatements`: pg's own notes on what it has prepared, by name. */
  readonly connection: { readonly parsedStatements: Record<string, unknown>; readonly stream: Readable };
}

const Dialect = PostgresDialect as new (config: Knex.Config) => {
  acquireRawConnection(): Promise<Connection>;
  _query(connection: Connection, asked: Asked): Promise<unknown>;
  positionBindings(text: string): string;
};

const Transaction = PostgresTransaction as new (
  client: object,
  ...given: unknown[]
) => {
  readonly isolationLevel?: string;
};

/** Connections whose transaction is begun with the first statement in it: one trip less. */
const toBegin = new WeakMap<object, string>();

/** A transaction that begins when something is first asked in it. */
class LateTransaction extends Transaction {
  begin(connection: Connection): Promise<void> {
    const { isolationLevel } = this;
    const how = isolationLevel === undefined ? '' : ` transaction isolation level ${isolationLevel}`;
    toBegin.set(connection, `begin${how}`);
    return Promise.resolve();
  }
}

/** What is to be sent before anything else on this connection; from then on it counts as sent. */
export function beginningOf(connection: object): string | null {
  const begin = toBegin.get(connection) ?? null;
  toBegin.delete(connection);
  return begin;
}

/**
 * The dialect, with statements that are kept: each connection parses and plans them once, and holds the last that were asked for.
 * One that has not been asked for longest makes room for another. A name is a digest of its text, so that no two texts ever share
 * one, on whichever connection.
 */
export class KeepingClient extends Dialect {
  transaction(...given: unknown[]): object {
    return new LateTransaction(this, ...given);
  }

  override async acquireRawConnection(): Promise<Connection> {
    const connection = await super.acquireRawConnection();
    putTap(connection.connection.stream);
    return connection;
  }

  override async _query(connection: Connection, asked: Asked): Promise<unknown> {
    const begin = beginningOf(connection);
    if (begin !== null) await super._query(connection, { sql: begin });
    if (asked.options?.kept !== true) return super._query(connection, asked);
    const note = await noteOn(connection, asked.sql);
    asked.options = note === null ? {} : { name: note.name };
    try {
      return await super._query(connection, asked);
    } catch (error) {
      if ((error as { code?: unknown }).code === OTHER_RESULT_TYPE) prepareAnew(connection, asked.sql);
      throw error;
    }
  }
}

/** Texts whose tables have changed since they were prepared, with how often: they go by other names. */
const changed = new LRUCache<string, number>({
  maxSize: 8_000_000,
  sizeCalculation: (_, text) => text.length,
});

/** From now on the text is prepared anew, by another name. */
export function prepareAnew(connection: Connection, text: string): void {
  changed.set(text, (changed.get(text) ?? 0) + 1);
  held.get(connection)?.delete(text);
}

/** What is known of a statement on a connection. */
export interface Note {
  readonly name: string;
  /** How its answers are read; null until the server has described them. */
  columns: Columns | null;
}

/** What each connection holds, by texts: all that is known of a statement goes with it. */
const held = new WeakMap<Connection, LRUCache<string, Note>>();

/** The note of a statement that the connection holds already; null where it does not, or where its table has changed. */
export function noteHeld(connection: Connection, text: string): Note | null {
  const known = held.get(connection)?.get(text);
  return known !== undefined && known.name.endsWith(`_${changed.get(text) ?? 0}`) ? known : null;
}

/** The note of a statement on a connection; null where no room could be made. */
export async function noteOn(connection: Connection, text: string): Promise<Note | null> {
  let notes = held.get(connection);
  if (notes === undefined) {
    notes = new LRUCache({ max: KEPT_STATEMENTS });
    held.set(connection, notes);
  }
  // Another connection may have found out that its table has changed: then it goes by another name here, too.
  const same = noteHeld(connection, text);
  if (same !== null) return same;
  const known = notes.get(text);
  if (known === undefined && notes.size >= KEPT_STATEMENTS) {
    const [oldest, { name }] = [...notes.rentries()][0] as [string, Note];
    try {
      await connection.query(`deallocate "${name}"`);
    } catch {
      // Within a transaction that has failed nothing can be given back; nor will the statement itself be carried out.
      return null;
    }
    delete connection.connection.parsedStatements[name];
    notes.delete(oldest);
  }
  const note = { name: `kept_${digestOf(text)}_${changed.get(text) ?? 0}`, columns: null };
  notes.set(text, note);
  return note;
}

/** The text with the server's own placeholders. */
export function positioned(text: string): string {
  return Dialect.prototype.positionBindings(text);
}

function digestOf(text: string): string {
  return createHash('sha256').update(text).digest('hex').slice(0, 32);
}
