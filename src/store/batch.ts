import type { Duplex } from 'node:stream';
import { LRUCache } from 'lru-cache';
import { serialize } from 'pg-protocol';
// What maps values to the wire is the driver's own, and comes without types.
// oxlint-disable-next-line typescript/ban-ts-comment
// @ts-expect-error
import { prepareValue } from 'pg/lib/utils.js';
import type { Fragment, SqlValue } from '../core/sql/fragment.ts';
import { isPassing, statements, type Executor, type Reader } from './connection.ts';
import {
  OTHER_RESULT_TYPE,
  beginningOf,
  noteHeld,
  noteOn,
  positioned,
  prepareAnew,
  type Connection,
  type Note,
} from './kept.ts';

import { tallies } from './tallies.ts';
import { tapOn, type Taker } from './tap.ts';
import { Columns, WireRow, columnsOf } from './wire.ts';

type Row = Record<string, unknown>;

/**
 * Asks kept statements in one trip, one after the other: one write, and one Sync, so that all of them are one transaction (or are in
 * the one that they are asked in), whose clock they share; each has a snapshot of its own, the first the oldest. Throws the driver's
 * error where any of them fails. `serializable`: they are a transaction of that kind; not within another one.
 */
export async function askTogether(
  on: Executor,
  asked: readonly Part[],
  { serializable = false } = {},
): Promise<Row[][]> {
  if (statements.before !== null) await statements.before(asked.length + (serializable ? 2 : 0));
  tallies.batches++;
  const pool = on.client as Pool;
  const connection = await pool.acquireConnection();
  try {
    const parts: Placed[] = [];
    const begin = beginningOf(connection);
    const first = serializable ? [serializably] : begin === null ? [] : [{ text: begin, values: [] }];
    const all: readonly Part[] = [...first, ...asked, ...(serializable ? [commit] : [])];
    for (const { text, values, once, raw } of all) {
      const placed = once === true ? positioned(text) : positionedOnce(text);
      const note =
        once === true ? unnamed() : (noteHeld(connection, placed) ?? (await noteOn(connection, placed)));
      if (note === null) throw new TypeError('a batch stands outside of transactions');
      parts.push({ note, text: placed, values, raw: raw === true });
    }
    const answers = await new Promise<Row[][]>((resolve, reject) => {
      connection.query(new Batch(connection, parts, resolve, reject));
    });
    return answers.slice(first.length);
  } catch (error) {
    // What was begun here is ended here; where the connection is lost, so is it.
    if (serializable) await connection.query('rollback').catch(() => undefined);
    throw error;
  } finally {
    await pool.releaseConnection(connection);
  }
}

const serializably: Part = { text: 'begin transaction isolation level serializable', values: [] };
const commit: Part = { text: 'commit', values: [] };

/** A statement of a batch. */
export interface Part extends Fragment {
  /** Its text comes seldom again: it is not kept, as it would take the place of one that does. */
  readonly once?: boolean;
  /** Its rows are wanted as they come. */
  readonly raw?: boolean;
}

export function once(statement: Fragment): Part {
  const { text, values } = statement;
  return { text, values, once: true };
}

/** A statement whose rows are wanted as they come: they are `WireRow`s, unless somebody asks in a way of their own. */
export async function rowsOf(
  on: Reader,
  { text, values }: Fragment,
  kept: boolean,
): Promise<(Row | WireRow)[]> {
  if ('asks' in on) return on.asks({ text, values, raw: true }, kept);
  const isKept = kept && !isPassing(on);
  try {
    const [rows] = await askTogether(on, [{ text, values, once: !isKept, raw: true }]);
    return rows!;
  } catch (error) {
    if (!isKept || on.isTransaction === true || (error as { code?: unknown }).code !== OTHER_RESULT_TYPE)
      throw error;
    // A table has got another column since.
    const [rows] = await askTogether(on, [{ text, values, once: true, raw: true }]);
    return rows!;
  }
}

/** The server forgets it with the next of that name. */
const UNNAMED = '';

function unnamed(): Note {
  return { name: UNNAMED, columns: null };
}

/** What is asked of knex’s own client. */
interface Pool {
  acquireConnection(): Promise<PoolConnection>;
  releaseConnection(connection: PoolConnection): Promise<void>;
}

interface PoolConnection extends Connection {
  query(asked: string): Promise<unknown>;
  query(asked: Batch): Batch;
}

const placed = new LRUCache<string, string>({
  maxSize: 8_000_000,
  sizeCalculation: (text) => 2 * text.length,
});

function positionedOnce(text: string): string {
  let known = placed.get(text);
  if (known === undefined) placed.set(text, (known = positioned(text)));
  return known;
}

interface Placed {
  readonly note: Note;
  readonly text: string;
  readonly values: readonly SqlValue[];
  readonly raw: boolean;
}

/** What the driver hands a query that is its own: see the source of pg. */
interface Wire {
  readonly stream: Duplex;
  readonly parsedStatements: Record<string, unknown>;
}

/** A query of the driver, of several statements. What it is asked comes in their order. */
class Batch implements Taker {
  readonly #connection: PoolConnection;
  readonly #parts: readonly Placed[];
  readonly #resolve: (rows: Row[][]) => void;
  readonly #reject: (error: unknown) => void;
  readonly #rows: Row[][];
  readonly #parsed = new Set<Placed>();
  #at = 0;
  #wire: Wire | null = null;
  #failed: unknown = null;

  constructor(
    connection: PoolConnection,
    parts: readonly Placed[],
    resolve: (rows: Row[][]) => void,
    reject: (error: unknown) => void,
  ) {
    this.#connection = connection;
    this.#parts = parts;
    this.#resolve = resolve;
    this.#reject = reject;
    this.#rows = parts.map(() => []);
  }

  submit(wire: Wire): Error | null {
    const { stream, parsedStatements } = wire;
    const messages: Buffer[] = [];
    try {
      for (const part of this.#parts) {
        const { note, text, values } = part;
        const { name } = note;
        if (name === UNNAMED || parsedStatements[name] === undefined) {
          messages.push(serialize.parse({ name, text }));
          if (name !== UNNAMED) this.#parsed.add(part);
          note.columns = null;
        }
        messages.push(
          serialize.bind({ portal: '', statement: name, values: [...values], valueMapper: prepareValue }),
        );
        if (note.columns === null) messages.push(serialize.describe({ type: 'P', name: '' }));
        messages.push(serialize.execute());
      }
    } catch (error) {
      return error as Error;
    }
    messages.push(serialize.sync());
    this.#wire = wire;
    tapOn(stream).taker = this;
    // In one piece: the system is asked to send once, and of many pieces it would have to look at each.
    stream.write(Buffer.concat(messages));
    return null;
  }

  handleRowDescription({ fields }: { fields: readonly { name: string; dataTypeID: number }[] }): void {
    const { note } = this.#parts[this.#at]!;
    note.columns = note.name === UNNAMED ? new Columns(fields) : columnsOf(note.name, fields);
  }

  takeRow(bytes: Buffer, at: number): void {
    if (this.#failed !== null) return;
    const { note, raw } = this.#parts[this.#at]!;
    try {
      const row = new WireRow(note.columns!, bytes, at);
      this.#rows[this.#at]!.push(raw ? (row as unknown as Row) : row.values());
    } catch (error) {
      this.#failed = error;
    }
  }

  takeEnd(): void {
    const part = this.#parts[this.#at++]!;
    if (part.note.name !== UNNAMED) this.#wire!.parsedStatements[part.note.name] = part.text;
    this.#parsed.delete(part);
  }

  handleEmptyQuery(): void {}

  handlePortalSuspended(): void {}

  handleError(error: unknown): void {
    this.#leave();
    // Whether one was parsed before the fault is not told: it goes by another name from now on, and so does one whose table changed.
    const failing = this.#parts[this.#at];
    const isChanged = (error as { code?: unknown }).code === OTHER_RESULT_TYPE && failing !== undefined;
    for (const part of isChanged ? new Set([...this.#parsed, failing]) : this.#parsed)
      prepareAnew(this.#connection, part.text);
    this.#reject(error);
  }

  handleReadyForQuery(): void {
    this.#leave();
    if (this.#failed === null) this.#resolve(this.#rows);
    else this.#reject(this.#failed);
  }

  /** What comes from now on is another's. */
  #leave(): void {
    if (this.#wire !== null) tapOn(this.#wire.stream).taker = null;
  }
}
