import type { Readable } from 'node:stream';

/** Whoever takes the answers of prepared statements as they come over the wire. */
export interface Taker {
  /**
   * A DataRow message (PostgreSQL's protocol 3.0): `at` is behind the number of its columns, where each is the length of its value in four
   * bytes, -1 for none, and the value. The bytes stay as they are.
   */
  takeRow(bytes: Buffer, at: number): void;
  /** A statement has been carried out (CommandComplete): what comes now is of the next one. */
  takeEnd(): void;
}

/** What kinds of messages begin with: ParseComplete, BindComplete, DataRow, CommandComplete. */
const [PARSED, BOUND, ROW, ENDED] = [0x31, 0x32, 0x44, 0x43] as const;
/** A kind, and a length that counts itself. */
const HEAD = 5;
/** Behind the head, before the first column: how many there are. */
const COUNT = 2;

/**
 * Stands between a connection's stream and the driver. It cuts what comes into messages; what a statement answers where all goes well
 * is for whoever takes it, and all else, whole messages at a time, for the driver: which makes a string of each value, and an event of each
 * message.
 */
export class Tap {
  /** Who takes what comes now; null: the driver. */
  taker: Taker | null = null;
  readonly #driver: (bytes: Buffer) => void;
  /** The beginning of a message whose rest has not come: how many bytes are there, and how many it takes to go on. */
  #begun: Buffer[] = [];
  #there = 0;
  #needed = 0;

  constructor(driver: (bytes: Buffer) => void) {
    this.#driver = driver;
  }

  take(chunk: Buffer): void {
    let bytes = chunk;
    if (this.#there > 0) {
      this.#begun.push(chunk);
      this.#there += chunk.length;
      // Put together once, however many pieces it comes in.
      if (this.#there < this.#needed) return;
      bytes = Buffer.concat(this.#begun, this.#there);
      this.#begun = [];
      this.#there = 0;
    }
    let sent = 0;
    let at = 0;
    let needed = HEAD;
    while (at + HEAD <= bytes.length) {
      const length = bytes.readInt32BE(at + 1);
      if (length < HEAD - 1) throw new RangeError('a message of the database with no length');
      const next = at + 1 + length;
      if (next > bytes.length) {
        needed = next - at;
        break;
      }
      const kind = bytes[at];
      if (this.taker !== null && (kind === ROW || kind === ENDED || kind === BOUND || kind === PARSED)) {
        // What came before may say what this is of.
        if (sent < at) this.#driver(bytes.subarray(sent, at));
        if (kind === ROW) this.taker.takeRow(bytes, at + HEAD + COUNT);
        else if (kind === ENDED) this.taker.takeEnd();
        sent = next;
      }
      at = next;
    }
    if (sent < at) this.#driver(bytes.subarray(sent, at));
    if (at === bytes.length) return;
    this.#begun = [bytes.subarray(at)];
    this.#there = bytes.length - at;
    this.#needed = needed;
  }
}

const taps = new WeakMap<Readable, Tap>();

/** Puts a tap on the stream of a connection that is open, and has nothing under way. */
export function putTap(stream: Readable): void {
  const [driver, ...others] = stream.listeners('data') as ((bytes: Buffer) => void)[];
  if (driver === undefined || others.length > 0)
    throw new TypeError('the driver reads its connection in another way');
  const tap = new Tap(driver);
  stream.on('data', (chunk: Buffer) => {
    try {
      tap.take(chunk);
    } catch (error) {
      // What comes makes no sense any more: whoever waits for it is told, and the connection is used no more.
      stream.destroy(error as Error);
    }
  });
  stream.off('data', driver);
  taps.set(stream, tap);
}

export function tapOn(stream: Readable): Tap {
  return taps.get(stream)!;
}
