import { Buffer, isUtf8 } from 'node:buffer';

/** What is wrong with a text that should be JSON, and where: a JSON Pointer (RFC 6901), empty for the whole. */
export interface JsonFault {
  readonly pointer: string;
  /** The end of a sentence: “must …”. */
  readonly must: string;
}

/** Levels at most: whatever is made of a body may go through it by recursion. */
const DEEPEST = 64;
/** Names at most in one object: each is looked up among the others, here and by whoever reads the object. */
const MOST_NAMES = 5_000;

/**
 * Reads bytes as I-JSON (RFC 7493): UTF-8, no name twice in one object, no half of a surrogate pair, and no number that would not
 * come back as it was sent. What is read here says the same to every reader behind. `values`: texts, numbers, lists and objects at
 * most, as each costs more than its bytes. `toKeep`: U+0000 is refused as well, since PostgreSQL holds it nowhere. Cost: linear,
 * 3 to 20 ms for a megabyte.
 */
export function readJson(
  bytes: Uint8Array,
  { values, toKeep }: Bounds,
): { readonly value: unknown } | JsonFault {
  // A decoder that refuses what is not UTF-8 takes ten times as long.
  if (!isUtf8(bytes)) return { pointer: '', must: 'must be UTF-8' };
  const text = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).toString('utf8');
  const fault = new Walk(text, values, toKeep).fault();
  if (fault !== null) return fault;
  try {
    return { value: JSON.parse(text) };
  } catch {
    return { pointer: '', must: 'must be valid JSON' };
  }
}

interface Bounds {
  readonly values: number;
  readonly toKeep: boolean;
}

/** An object or a list; `at` is where the walk stands in it. */
interface Level {
  readonly isObject: boolean;
  first: string | null;
  /** The names so far, from the second on: where a body is of many objects, most have one. */
  names: Set<string> | null;
  at: string | number;
}

/**
 * Goes over the tokens of a text in one pass and without recursion. Whether it is JSON is not asked here: of one that is not, no
 * fault need be found.
 */
class Walk {
  readonly #text: string;
  readonly #most: number;
  readonly #toKeep: boolean;
  readonly #levels: Level[] = [];
  #at = 0;
  /** Is the next text the name of a member? */
  #naming = false;

  #left: number;

  constructor(text: string, values: number, toKeep: boolean) {
    this.#text = text;
    this.#toKeep = toKeep;
    this.#most = values;
    this.#left = values;
  }

  fault(): JsonFault | null {
    for (; this.#at < this.#text.length; this.#at++) {
      const must = this.#token(this.#text.charCodeAt(this.#at));
      if (must !== null) return { pointer: this.#pointer(), must };
    }
    return null;
  }

  #token(sign: number): string | null {
    switch (sign) {
      case 0x7b: // {
      case 0x5b: // [
        if (this.#levels.length === DEEPEST) return `must be nested at most ${DEEPEST} deep`;
        if (--this.#left < 0) return this.#tooMany();
        this.#naming = sign === 0x7b;
        this.#levels.push({ isObject: this.#naming, first: null, names: null, at: this.#naming ? '' : 0 });
        return null;
      case 0x7d: // }
      case 0x5d: // ]
        this.#levels.pop();
        this.#naming = false;
        return null;
      case 0x2c: {
        // ,
        const level = this.#levels.at(-1);
        if (level === undefined) return null;
        this.#naming = level.isObject;
        if (typeof level.at === 'number') level.at++;
        return --this.#left < 0 ? this.#tooMany() : null;
      }
      case 0x22: // "
        return this.#string();
      default:
        return isNumeral(sign) ? this.#number() : null;
    }
  }

  #tooMany(): string {
    this.#levels.length = 0;
    return `must hold at most ${this.#most} values`;
  }

  #string(): string | null {
    const begun = this.#at;
    this.#at = endOfText(this.#text, begun);
    if (this.#at === this.#text.length) return null;
    const found = plainText(this.#text.slice(begun, this.#at + 1));
    const fault = this.#naming ? this.#name(found) : null;
    if (fault !== null) return fault;
    if (!found.isWellFormed()) return 'must be valid Unicode, without half of a surrogate pair';
    return this.#toKeep && found.includes('\u0000') ? 'must not contain the character U+0000' : null;
  }

  #name(found: string): string | null {
    const level = this.#levels.at(-1)!;
    this.#naming = false;
    level.at = found;
    if (level.first === null) {
      level.first = found;
      return null;
    }
    level.names ??= new Set([level.first]);
    if (level.names.has(found)) return 'must stand only once in its object';
    level.names.add(found);
    if (level.names.size <= MOST_NAMES) return null;
    this.#levels.pop();
    return `must hold at most ${MOST_NAMES} names in one object`;
  }

  #number(): string | null {
    const begun = this.#at;
    while (isOfNumber(this.#text.charCodeAt(this.#at + 1))) this.#at++;
    return comesBack(this.#text.slice(begun, this.#at + 1))
      ? null
      : 'must be a number that keeps its value in 64 bits of floating point: send any other as a text';
  }

  #pointer(): string {
    const escaped = (each: string | number) =>
      String(each).slice(0, 100).toWellFormed().replaceAll('~', '~0').replaceAll('/', '~1');
    return this.#levels
      .slice(0, 8)
      .map(({ at }) => `/${escaped(at)}`)
      .join('');
  }
}

/** What a text in quotes says; where its escapes are none, reading the whole will tell. */
function plainText(raw: string): string {
  if (!raw.includes('\\')) return raw.slice(1, -1);
  try {
    return JSON.parse(raw) as string;
  } catch {
    return '';
  }
}

/** Where the quote stands that ends what the one at `begun` begins; the length of the whole where there is none. */
function endOfText(text: string, begun: number): number {
  for (let at = begun + 1; at < text.length; at++) {
    const sign = text.charCodeAt(at);
    if (sign === 0x22) return at;
    // What is escaped ends nothing.
    if (sign === 0x5c) at++;
  }
  return text.length;
}

function isNumeral(sign: number): boolean {
  return (sign >= 0x30 && sign <= 0x39) || sign === 0x2d;
}

/** Digits, and `-`, `+`, `.`, `e`, `E`. */
function isOfNumber(sign: number): boolean {
  return isNumeral(sign) || sign === 0x2b || sign === 0x2e || sign === 0x45 || sign === 0x65;
}

/** Is a number, read as JavaScript reads it and written again, of the value that it had? Fifteen digits always are. */
function comesBack(text: string): boolean {
  if (text.length <= 15 && !/e/i.test(text)) return true;
  const read = Number(text);
  return Number.isFinite(read) && plainForm(text) === plainForm(String(read));
}

/** The digits that count, and where the point stands: `1.50e3` and `1500` are one. */
function plainForm(text: string): string {
  const [, sign = '', whole = '', fraction = '', exponent = '0'] =
    /^(-?)(\d+)(?:\.(\d*))?(?:[eE]([+-]?\d+))?$/.exec(text) ?? [];
  const digits = `${whole}${fraction}`.replace(/^0+/, '');
  const counting = digits.replace(/0+$/, '');
  if (counting === '') return '0';
  return `${sign}${counting}e${Number(exponent) - fraction.length + digits.length - counting.length}`;
}
