import { LRUCache } from 'lru-cache';
import pg from 'pg';
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
      json: writerOf(dataTypeID),
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
  /** The same as JSON (RFC 8259), without making a value of it where the text says it already. */
  readonly json: (text: string) => string;
}

/** A row as it came: texts, of which values are made when they are asked for. */
export class WireRow {
  readonly columns: Columns;
  readonly texts: readonly (string | null)[];

  constructor(columns: Columns, texts: readonly (string | null)[]) {
    this.columns = columns;
    this.texts = texts;
  }

  value(name: string): unknown {
    const index = this.columns.at.get(name);
    const text = index === undefined ? null : this.texts[index]!;
    return text === null ? null : this.columns.all[index!]!.read(text);
  }
}

const { builtins } = pg.types;

/** Digits of a whole number that a JavaScript number holds exactly, whichever they are. */
const EXACT_DIGITS = 15;

function writerOf(oid: number): Column['json'] {
  const read = parserOf(oid);
  const anew = (text: string) => JSON.stringify(read(text));
  switch (oid) {
    case builtins.INT8:
      return (text) => (text.length <= EXACT_DIGITS ? text : anew(text));
    case builtins.BOOL:
      return (text) => (text === 't' ? 'true' : 'false');
    // Nothing in them has to be escaped.
    case builtins.NUMERIC:
    case builtins.DATE:
    case builtins.UUID:
      return (text) => `"${text}"`;
    case builtins.TIMESTAMPTZ:
      return (text) => `"${read(text) as string}"`;
    case builtins.TEXT:
      return JSON.stringify;
    default:
      return anew;
  }
}
