/** How the bytes of a value become JSON. */
export const HOW = {
  /** Between quotes; nothing in them has to be escaped. */
  quoted: 1,
  /** Between quotes, and escaped. */
  text: 2,
  /** `2026-05-01 12:00:00.5+00` */
  moment: 3,
  /** `t` or `f` */
  truth: 4,
  /** A whole number of so few digits that a JavaScript number holds it exactly, whichever they are. */
  number: 5,
  /** By way of the value. */
  anew: 6,
} as const;

/** Where a field is found in a row, and how its member is written. Places are those of `WireRow.placesIn`. */
export interface Member {
  readonly field: string;
  /** `,"field":` and `"field"`. */
  readonly key: Buffer;
  readonly name: Buffer;
  readonly at: number;
  readonly how: number;
  /** The value of its text. */
  readonly read: (text: string) => unknown;
  /** Where it is told whether it is shown; or `SHOWN`, or `WITHHELD`. */
  readonly flag: number;
}

export const SHOWN = -1;
export const WITHHELD = -2;

const FIRST_BYTES = 65_536;
/** What is kept from one to the next at most. */
const KEPT_BYTES = 1_048_576;
/** `\u001f` */
const LONGEST_ESCAPE = 6;
const EXACT_DIGITS = 15;

const [QUOTE, BACKSLASH, SPACE, COMMA, DASH, PLUS, ZERO, LOWER_T, UPPER_T, UPPER_Z] = [
  0x22, 0x5c, 0x20, 0x2c, 0x2d, 0x2b, 0x30, 0x74, 0x54, 0x5a,
] as const;
const [ID, NULL, TRUE, FALSE, BEHIND, END] = ['{"id":', 'null', 'true', 'false', ',"_withheld":[', ']}'].map(
  (each) => Buffer.from(each),
) as [Buffer, Buffer, Buffer, Buffer, Buffer, Buffer];
/** How what must be escaped is written, by its byte. */
const ESCAPES = Array.from({ length: BACKSLASH + 1 }, (_, byte) =>
  Buffer.from(JSON.stringify(String.fromCharCode(byte)).slice(1, -1)),
);
const DAY = '2026-05-01'.length;
const UTC = '+00'.length;

/**
 * Records as JSON (RFC 8259), put together as bytes from what came over the wire, in UTF-8. What is written comes to the same, character by
 * character, as `JSON.stringify` makes of the same values: both escape the quote, the backslash and what is below U+0020, and nothing else.
 * Cost: a nanosecond or two a byte.
 */
export class JsonBytes {
  #bytes = Buffer.allocUnsafeSlow(FIRST_BYTES);
  #length = 0;
  /** All bits of all texts that were written: below 0x80 they are ASCII, of which a string is made without looking at it again. */
  #seen = 0;

  /** Nothing is written yet: whatever was, and was not taken, as something about it failed, is another's. */
  begin(): void {
    this.#length = 0;
    this.#seen = 0;
  }

  byte(byte: number): void {
    this.#room(1)[this.#length++] = byte;
  }

  /** An object of the id, these members, of which `of` names those that are wanted, and `_withheld`. `id`: where it is. */
  record(
    source: Buffer,
    places: Int32Array,
    id: number,
    members: readonly Member[],
    of: ReadonlySet<string> | null,
  ): void {
    this.#fixed(ID);
    this.#text(source, places[id]!, places[id]! + places[id + 1]!);
    let withheld = 0;
    for (let index = 0; index < members.length; index++) {
      const member = members[index]!;
      if (of !== null && !of.has(member.field)) continue;
      if (member.flag !== SHOWN && !isTrue(source, places, member.flag)) {
        withheld++;
        continue;
      }
      this.#fixed(member.key);
      const from = places[member.at]!;
      const length = places[member.at + 1]!;
      if (length < 0) this.#fixed(NULL);
      else this.#value(source, from, from + length, member);
    }
    this.#fixed(BEHIND);
    for (let index = 0; withheld > 0; index++) {
      const { flag, field, name } = members[index]!;
      if (flag === SHOWN || isTrue(source, places, flag) || (of !== null && !of.has(field))) continue;
      this.#fixed(name);
      if (--withheld > 0) this.byte(COMMA);
    }
    this.#fixed(END);
  }

  /** All that was written since it was begun. */
  take(): string {
    const text =
      this.#seen < 0x80
        ? this.#bytes.toString('latin1', 0, this.#length)
        : this.#bytes.toString('utf8', 0, this.#length);
    this.begin();
    if (this.#bytes.length > KEPT_BYTES) this.#bytes = Buffer.allocUnsafeSlow(FIRST_BYTES);
    return text;
  }

  #value(source: Buffer, from: number, end: number, { how, read }: Member): void {
    switch (how) {
      case HOW.text:
        return this.#text(source, from, end);
      case HOW.quoted:
        return this.#quoted(source, from, end);
      case HOW.truth:
        return this.#fixed(source[from] === LOWER_T ? TRUE : FALSE);
      case HOW.number:
        if (end - from <= EXACT_DIGITS) return this.#range(source, from, end);
        break;
      case HOW.moment:
        if (isOrdinary(source, from, end)) return this.#moment(source, from, end);
        break;
      default:
    }
    const text = JSON.stringify(read(source.toString('utf8', from, end)));
    const most = 3 * text.length;
    this.#length += this.#room(most).write(text, this.#length, most, 'utf8');
    this.#seen |= 0x80;
  }

  #fixed(text: Buffer): void {
    this.#range(text, 0, text.length);
  }

  /** Bytes that stand as they are, of ASCII. */
  #range(source: Buffer, from: number, end: number): void {
    const bytes = this.#room(end - from);
    let at = this.#length;
    for (let index = from; index < end; index++) bytes[at++] = source[index]!;
    this.#length = at;
  }

  #quoted(source: Buffer, from: number, end: number): void {
    const bytes = this.#room(end - from + 2);
    let at = this.#length;
    bytes[at++] = QUOTE;
    for (let index = from; index < end; index++) bytes[at++] = source[index]!;
    bytes[at++] = QUOTE;
    this.#length = at;
  }

  #moment(source: Buffer, from: number, end: number): void {
    const bytes = this.#room(end - from + 2);
    let at = this.#length;
    bytes[at++] = QUOTE;
    for (let index = from; index < end - UTC; index++) bytes[at++] = source[index]!;
    bytes[this.#length + 1 + DAY] = UPPER_T;
    bytes[at++] = UPPER_Z;
    bytes[at++] = QUOTE;
    this.#length = at;
  }

  #text(source: Buffer, from: number, end: number): void {
    let bytes = this.#room(end - from + 2);
    let at = this.#length;
    let seen = this.#seen;
    bytes[at++] = QUOTE;
    for (let index = from; index < end; index++) {
      const byte = source[index]!;
      if (byte >= SPACE && byte !== QUOTE && byte !== BACKSLASH) {
        seen |= byte;
        bytes[at++] = byte;
        continue;
      }
      const escape = ESCAPES[byte]!;
      this.#length = at;
      bytes = this.#room(LONGEST_ESCAPE + end - index + 1);
      for (let each = 0; each < escape.length; each++) bytes[at++] = escape[each]!;
    }
    bytes[at++] = QUOTE;
    this.#length = at;
    this.#seen = seen;
  }

  /** Where there are so many bytes more. */
  #room(more: number): Buffer {
    if (this.#length + more > this.#bytes.length) this.#grow(this.#length + more);
    return this.#bytes;
  }

  #grow(needed: number): void {
    const larger = Buffer.allocUnsafeSlow(Math.max(needed, 2 * this.#bytes.length));
    this.#bytes.copy(larger, 0, 0, this.#length);
    this.#bytes = larger;
  }
}

/** Does a flag say so? One that has no value does not. */
function isTrue(source: Buffer, places: Int32Array, flag: number): boolean {
  return flag >= 0 && places[flag + 1] === 1 && source[places[flag]!] === LOWER_T;
}

/** A moment of a year with four digits, in the zone of every session. */
function isOrdinary(source: Buffer, from: number, end: number): boolean {
  return (
    source[from + 4] === DASH &&
    source[from + DAY] === SPACE &&
    source[end - 3] === PLUS &&
    source[end - 2] === ZERO &&
    source[end - 1] === ZERO
  );
}
