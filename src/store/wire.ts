import { LRUCache } from 'lru-cache';
import pg from 'pg';
import { HOW } from './json-bytes.ts';
import { parserOf } from './readers.ts';

/** What the server says of the columns of a statement. */
type Described = readonly { readonly name: string; readonly dataTypeID: number }[];

/** The columns of a statement, as they come. */
export class Columns {
  readonly all: readonly Column[];
  /** The place of each, by name. */
  readonly at: ReadonlyMap<string, number>;

  constructor(described: Described) {
    this.all = described.map(({ name, dataTypeID }) => ({
      name,
      type: dataTypeID,
      read: parserOf(dataTypeID),
      how: howOf(dataTypeID),
    }));
    this.at = new Map(this.all.map(({ name }, index) => [name, index]));
  }

  are(described: Described): boolean {
    return (
      described.length === this.all.length &&
      described.every(
        ({ name, dataTypeID }, at) => this.all[at]!.name === name && this.all[at]!.type === dataTypeID,
      )
    );
  }
}

/** By the names of prepared statements, which tell their texts; bounded by how many columns they have. */
const known = new LRUCache<string, Columns>({
  maxSize: 30_000,
  sizeCalculation: ({ all }) => all.length + 1,
});

/** The same for each connection that holds the statement: with what is worked out from them they take some kilobytes. */
export function columnsOf(name: string, described: Described): Columns {
  const same = known.get(name);
  if (same?.are(described) === true) return same;
  const columns = new Columns(described);
  known.set(name, columns);
  return columns;
}

export interface Column {
  readonly name: string;
  /** The server's number of it. */
  readonly type: number;
  /** The value of a text that came. */
  readonly read: (text: string) => unknown;
  /** How its bytes become JSON: one of `HOW`. */
  readonly how: number;
}

/** Where the columns of one row are, in turn where it begins and how long it is; a length of -1: there is no value. */
type Places = Int32Array;

const LOWER_F = 0x66;

/** A row as it came: bytes, of which values are made when they are asked for. It keeps what came with it. */
export class WireRow {
  readonly columns: Columns;
  readonly #bytes: Buffer;
  readonly #at: number;

  /** `at`: where its first column is. */
  constructor(columns: Columns, bytes: Buffer, at: number) {
    this.columns = columns;
    this.#bytes = bytes;
    this.#at = at;
  }

  value(name: string): unknown {
    const index = this.columns.at.get(name);
    return index === undefined ? null : this.#read(index, this.#placeOf(index));
  }

  /** Is it a truth value, and false? */
  isFalse(name: string): boolean {
    const index = this.columns.at.get(name);
    if (index === undefined) return false;
    const at = this.#placeOf(index);
    return this.#bytes.readInt32BE(at) === 1 && this.#bytes[at + 4] === LOWER_F;
  }

  /** All of them. */
  values(): Record<string, unknown> {
    const values: Record<string, unknown> = {};
    let at = this.#at;
    for (const [index, { name }] of this.columns.all.entries()) {
      values[name] = this.#read(index, at);
      at += 4 + Math.max(0, this.#bytes.readInt32BE(at));
    }
    return values;
  }

  #placeOf(index: number): number {
    let at = this.#at;
    for (let before = 0; before < index; before++) at += 4 + Math.max(0, this.#bytes.readInt32BE(at));
    return at;
  }

  #read(index: number, at: number): unknown {
    const length = this.#bytes.readInt32BE(at);
    return length < 0
      ? null
      : this.columns.all[index]!.read(this.#bytes.toString('utf8', at + 4, at + 4 + length));
  }

  /** The bytes it is in, and where in them. `places`: to be written to. */
  placesIn(places: Places): Buffer {
    const bytes = this.#bytes;
    let at = this.#at;
    for (let index = 0; index < this.columns.all.length; index++) {
      const length = (bytes[at]! << 24) | (bytes[at + 1]! << 16) | (bytes[at + 2]! << 8) | bytes[at + 3]!;
      at += 4;
      places[2 * index] = at;
      places[2 * index + 1] = length;
      if (length > 0) at += length;
    }
    return bytes;
  }
}

const { builtins } = pg.types;

function howOf(oid: number): number {
  switch (oid) {
    case builtins.INT8:
      return HOW.number;
    case builtins.BOOL:
      return HOW.truth;
    case builtins.NUMERIC:
    case builtins.DATE:
    case builtins.UUID:
      return HOW.quoted;
    case builtins.TIMESTAMPTZ:
      return HOW.moment;
    case builtins.TEXT:
      return HOW.text;
    default:
      return HOW.anew;
  }
}
