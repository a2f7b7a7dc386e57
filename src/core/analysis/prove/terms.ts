import type { Type } from '../../types/types.ts';

/** Terms of SMT-LIB 2.6, and the little algebra that keeps them short. */

/** Something that the solver cannot be told. */
export class CannotEncode extends Error {
  override readonly name = 'CannotEncode';
}

/** A value: what it is, and whether it is there at all. Both are terms of the solver. */
export interface Encoded {
  readonly term: string;
  readonly present: string;
  readonly type: Type;
}

/** Kleene's truth: when it is true, and when it is false; neither is unknown. */
export interface Both {
  readonly yes: string;
  readonly no: string;
}

export const MICROSECONDS_A_DAY = 86_400_000_000n;
/** 0001-01-01 and 9999-12-31 as days from 1970. */
export const FIRST_DAY = -719_162n;
export const LAST_DAY = 2_932_896n;

/** Is a day, or a moment, within the years that the language knows? */
export function inRange(term: string, { kind }: Type): string {
  const unit = kind === 'timestamp' ? MICROSECONDS_A_DAY : 1n;
  return `(and (<= ${integer(FIRST_DAY * unit)} ${term}) (< ${term} ${integer((LAST_DAY + 1n) * unit)}))`;
}

/** Days from 1970. */
export function daysOf(date: string): bigint {
  return BigInt(Date.parse(`${date}T00:00:00Z`)) / 86_400_000n;
}

export function microsecondsOf(moment: string): bigint {
  const fraction = /\.(\d+)Z$/.exec(moment)?.[1] ?? '';
  const seconds = Date.parse(moment.replace(/\.\d+Z$/, 'Z'));
  return BigInt(seconds) * 1_000n + BigInt(fraction.padEnd(6, '0'));
}

export function equal(a: Encoded, b: Encoded): string {
  const kinds = [a.type.kind, b.type.kind];
  if (kinds.includes('one of') && !sameValues(a.type, b.type)) return `(= ${plain(a)} ${plain(b)})`;
  return kinds.includes('decimal') ? `(= ${asReal(a)} ${asReal(b)})` : `(= ${a.term} ${b.term})`;
}

/**
 * Is the value in a list? `is` says so of a term of the type of its values, and the value may be of another that it can be compared with.
 */
export function member(is: (term: string) => string, of: Type, value: Encoded): string {
  const { term, type } = value;
  if (of.kind === 'one of') {
    if (sameValues(of, type) && !isText(term)) return is(term);
    const text = plain(value);
    return or(
      of.values.map((each) => and([`(= ${text} ${textLiteral(each)})`, is(constructor(of.values, each))])),
    );
  }
  if (of.kind === 'decimal') return is(asReal(value));
  if (of.kind === 'integer' && type.kind === 'decimal')
    return and([`(is_int ${term})`, is(`(to_int ${term})`)]);
  return is(plain(value));
}

/** A literal that is none of the values of its type stands as a text. */
function isText(term: string): boolean {
  return term.startsWith('"');
}

function asReal({ term, type }: Encoded): string {
  return type.kind === 'integer' ? `(to_real ${term})` : term;
}

/** One of a few, as the text that it is; any other value as it is. */
export function plain(value: Encoded): string {
  const { term, type } = value;
  if (type.kind !== 'one of' || isText(term)) return term;
  return type.values.reduceRight(
    (rest, each) => `(ite (= ${term} ${constructor(type.values, each)}) ${textLiteral(each)} ${rest})`,
    '""',
  );
}

function sameValues(a: Type, b: Type): boolean {
  return a.kind === 'one of' && b.kind === 'one of' && enumName(a.values) === enumName(b.values);
}

export function enumName(values: readonly string[]): string {
  // A name that no other list of values has, in letters that a symbol can have.
  return `E_${Array.from(values.join('\u0000'), (each) => each.codePointAt(0)!.toString(16)).join('_')}`;
}

/** The value of an enumeration in SMT-LIB, from which it can be read back. */
export function constructor(values: readonly string[], value: string): string {
  return `${enumName(values)}_${values.indexOf(value)}`;
}

export function known(present: readonly string[], test: string): Both {
  return { yes: and([...present, test]), no: and([...present, not(test)]) };
}

export function and(parts: readonly string[]): string {
  const some = parts.filter((part) => part !== 'true');
  if (some.includes('false')) return 'false';
  if (some.length === 0) return 'true';
  return some.length === 1 ? some[0]! : `(and ${some.join(' ')})`;
}

export function or(parts: readonly string[]): string {
  const some = parts.filter((part) => part !== 'false');
  if (some.includes('true')) return 'true';
  if (some.length === 0) return 'false';
  return some.length === 1 ? some[0]! : `(or ${some.join(' ')})`;
}

export function not(part: string): string {
  if (part === 'true') return 'false';
  return part === 'false' ? 'true' : `(not ${part})`;
}

export function integer(value: bigint): string {
  return value < 0n ? `(- ${-value})` : String(value);
}

export function real(value: string): string {
  const [digits, sign] = value.startsWith('-') ? [value.slice(1), '-'] : [value, ''];
  const whole = digits.includes('.') ? digits : `${digits}.0`;
  return sign === '' ? whole : `(- ${whole})`;
}

/**
 * Texts of SMT-LIB end at U+2FFFF. Up to here any characters beyond, of which a rule that names none only asks whether they are the same
 * and which comes first, have others to stand for them.
 */
const LAST_CHARACTER = 0x2_ff00;

/**
 * A text in SMT-LIB: a quote is doubled, everything but plain letters is written by its number.
 *
 * @throws CannotEncode for characters that the standard has not.
 */
export function textLiteral(text: string): string {
  const written = Array.from(text, (each) => {
    if (each === '"') return '""';
    const point = each.codePointAt(0)!;
    if (point > LAST_CHARACTER) throw new CannotEncode(`the character U+${point.toString(16).toUpperCase()}`);
    return point < 0x20 || point > 0x7e || each === '\\' ? `\\u{${point.toString(16)}}` : each;
  });
  return `"${written.join('')}"`;
}

/** Does a term speak of a record that a quantifier goes through? */
export function isBound(term: string): boolean {
  return /\b(?:x\d*|y)\b/.test(term);
}
