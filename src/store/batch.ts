import { LRUCache } from 'lru-cache';
// What maps values to the wire is the driver's own, and comes without types.
// oxlint-disable-next-line typescript/ban-ts-comment
// @ts-expect-error
import { prepareValue } from 'pg/lib/utils.js';
import type { Fragment, SqlValue } from '../core/sql/fragment.ts';
import { parserOf, statements, type Executor } from './connection.ts';
import { OTHER_RESULT_TYPE, beginningOf, nameOn, positioned, prepareAnew, type Connection } from './kept.ts';

type Row = Record<string, unknown>;

/**
 * Asks kept statements in one trip, one after the other: one write, and one Sync, so that all of them are one transaction (or are in
 * the one that they are asked in), whose clock they share; each has a snapshot of its own, the first the oldest. Throws the driver's
 * error where any of them fails.
 */
export async function askTogether(
  on: Executor,
  asked: readonly (Fragment & { readonly once?: true })[],
): Promise<Row[][]> {
  if (statements.before !== null) await statements.before();
  const pool = on.client as Pool;
  const connection = await pool.acquireConnection();
  try {
    const parts: Part[] = [];
    const begin = beginningOf(connection);
    const first = begin === null ? [] : [{ text: begin, values: [] }];
    for (const { text, values, once } of [...first, ...asked] as typeof asked) {
      const placed = once === true ? positioned(text) : positionedOnce(text);
      const name = once === true ? UNNAMED : await nameOn(connection, placed);
      if (name === null) throw new TypeError('a batch stands outside of transactions');
      parts.push({ name, text: placed, values });
    }
    const answers = await new Promise<Row[][]>((resolve, reject) => {
      connection.query(new Batch(connection, parts, resolve, reject));
    });
    return answers.slice(first.length);
  } finally {
    await pool.releaseConnection(connection);
  }
}

/** A statement whose text comes seldom again: it is not kept, as it would take the place of one that does. */
export function once(statement: Fragment): Fragment & { readonly once: true } {
  return { ...statement, once: true };
}

/** The server forgets it with the next of that name. */
const UNNAMED = '';

/** What is asked of knex’s own client. */
interface Pool {
  acquireConnection(): Promise<PoolConnection>;
  releaseConnection(connection: PoolConnection): Promise<void>;
}

interface PoolConnection extends Connection {
  query(asked: string): Promise<unknown>;
  query(asked: Batch): Batch;
}

const placed = new LRUCache<string, string>({ max: 2_000 });

function positionedOnce(text: string): string {
  let known = placed.get(text);
  if (known === undefined) placed.set(text, (known = positioned(text)));
  return known;
}

interface Part {
  readonly name: string;
  readonly text: string;
  readonly values: readonly SqlValue[];
}

interface Column {
  readonly name: string;
  readonly read: (text: string) => unknown;
}

/** How the answers of prepared statements are read, by their names: each connection knows its own. */
const described = new WeakMap<object, Map<string, readonly Column[]>>();

/** What the driver hands a query that is its own: see the source of pg. */
interface Wire {
  readonly stream: { cork(): void; uncork(): void };
  readonly parsedStatements: Record<string, unknown>;
  parse(statement: { name: string; text: string }): void;
  bind(bound: object): void;
  describe(what: { type: 'P'; name: string }): void;
  execute(portal: { portal: string; rows: number }): void;
  sync(): void;
}

/** A query of the driver, of several statements. What it is asked comes in their order. */
class Batch {
  readonly #connection: PoolConnection;
  readonly #parts: readonly Part[];
  readonly #resolve: (rows: Row[][]) => void;
  readonly #reject: (error: unknown) => void;
  readonly #rows: Row[][];
  readonly #columns: Map<string, readonly Column[]>;
  readonly #parsed = new Set<Part>();
  #at = 0;
  #failed: unknown = null;

  constructor(
    connection: PoolConnection,
    parts: readonly Part[],
    resolve: (rows: Row[][]) => void,
    reject: (error: unknown) => void,
  ) {
    this.#connection = connection;
    this.#parts = parts;
    this.#resolve = resolve;
    this.#reject = reject;
    this.#rows = parts.map(() => []);
    this.#columns = described.get(connection) ?? new Map<string, readonly Column[]>();
    described.set(connection, this.#columns);
  }

  submit(wire: Wire): null {
    wire.stream.cork();
    try {
      for (const part of this.#parts) {
        const { name, text, values } = part;
        if (name === UNNAMED || wire.parsedStatements[name] === undefined) {
          wire.parse({ name, text });
          if (name !== UNNAMED) this.#parsed.add(part);
          this.#columns.delete(name);
        }
        wire.bind({
          portal: '',
          statement: name,
          values,
          binary: false,
          valueMapper: prepareValue as unknown,
        });
        if (!this.#columns.has(name)) wire.describe({ type: 'P', name: '' });
        wire.execute({ portal: '', rows: 0 });
      }
      wire.sync();
    } finally {
      wire.stream.uncork();
    }
    return null;
  }

  handleRowDescription({ fields }: { fields: readonly { name: string; dataTypeID: number }[] }): void {
    const columns = fields.map(({ name, dataTypeID }) => ({ name, read: parserOf(dataTypeID) }));
    this.#columns.set(this.#parts[this.#at]!.name, columns);
  }

  handleDataRow({ fields }: { fields: readonly (string | null)[] }): void {
    if (this.#failed !== null) return;
    const columns = this.#columns.get(this.#parts[this.#at]!.name)!;
    try {
      const row: Row = {};
      for (let index = 0; index < fields.length; index++) {
        const text = fields[index]!;
        const { name, read } = columns[index]!;
        row[name] = text === null ? null : read(text);
      }
      this.#rows[this.#at]!.push(row);
    } catch (error) {
      this.#failed = error;
    }
  }

  handleCommandComplete(_: unknown, wire: Wire): void {
    const part = this.#parts[this.#at++]!;
    if (part.name !== UNNAMED) wire.parsedStatements[part.name] = part.text;
    this.#parsed.delete(part);
  }

  handleEmptyQuery(): void {}

  handlePortalSuspended(): void {}

  handleError(error: unknown): void {
    // Whether one was parsed before the fault is not told: it goes by another name from now on, and so does one whose table changed.
    const failing = this.#parts[this.#at];
    const isChanged = (error as { code?: unknown }).code === OTHER_RESULT_TYPE && failing !== undefined;
    for (const part of isChanged ? new Set([...this.#parsed, failing]) : this.#parsed)
      prepareAnew(this.#connection, part.text);
    this.#reject(error);
  }

  handleReadyForQuery(): void {
    if (this.#failed === null) this.#resolve(this.#rows);
    else this.#reject(this.#failed);
  }
}
