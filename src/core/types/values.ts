import Big from 'big.js';
import { JsonDocument, type ListType, type Scalar, type ScalarType, type Type, type Value } from './types.ts';

/** What is wrong with a value that a type does not take, as the end of a sentence: “must be …”. */
export type Parsed =
  { readonly ok: true; readonly value: Value } | { readonly ok: false; readonly must: string };

const uuidShape = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/;
const dateShape = /^(\d{4})-(\d{2})-(\d{2})$/;
const timestampShape =
  /^(\d{4}-\d{2}-\d{2})[Tt](\d{2}):(\d{2}):(\d{2})(?:\.(\d{1,9}))?(?:([Zz])|([+-])(\d{2}):(\d{2}))$/;
const decimalShape = /^-?(\d{1,60})(?:\.(\d{1,30}))?$/;

const good = (value: Value): Parsed => ({ ok: true, value });
const bad = (must: string): Parsed => ({ ok: false, must });

/**
 * Takes a value from outside (JSON, a literal) into the one shape that both engines share; `null` stays missing.
 * Strict: nothing is rounded, trimmed or guessed, except that a timestamp is carried over to UTC.
 * Texts that PostgreSQL could not hold (U+0000, lone surrogates) are refused here, by every way in.
 */
export function parseValue(type: Type, raw: unknown): Parsed {
  if (raw === null) return good(null);
  switch (type.kind) {
    case 'text':
      return parseText(raw);
    case 'one of':
      return typeof raw === 'string' && type.values.includes(raw)
        ? good(raw)
        : bad(`must be ${type.values.map((value) => JSON.stringify(value)).join(' or ')}`);
    case 'integer':
      return typeof raw === 'number' && Number.isSafeInteger(raw)
        ? good(raw === 0 ? 0 : raw)
        : bad('must be a whole number between -9007199254740991 and 9007199254740991');
    case 'decimal':
      return parseDecimal(raw);
    case 'boolean':
      return typeof raw === 'boolean' ? good(raw) : bad('must be true or false');
    case 'date':
      return typeof raw === 'string' && isDate(raw) ? good(raw) : bad('must be a date such as "2026-05-01"');
    case 'timestamp':
      return parseTimestamp(raw);
    case 'uuid':
    case 'ref': {
      const id = typeof raw === 'string' ? raw.toLowerCase() : '';
      return uuidShape.test(id)
        ? good(id)
        : bad(type.kind === 'ref' ? `must be the id of a record of ${type.collection}` : 'must be a UUID');
    }
    case 'json':
      return parseJson(raw);
    case 'list':
      return parseList(type, raw);
  }
}

/** Items of one list at most: a list is for what is looked at as a whole, and more belong into a collection. */
export const LONGEST_LIST = 1_000;

function parseList(type: ListType, raw: unknown): Parsed {
  if (!Array.isArray(raw)) return bad('must be a list, in square brackets');
  if (raw.length > LONGEST_LIST) return bad(`must be a list of at most ${LONGEST_LIST} values`);
  const items: Scalar[] = [];
  for (const each of raw as unknown[]) {
    const parsed = parseValue(type.of, each);
    if (!parsed.ok) return bad(`must be a list, each of which ${parsed.must}`);
    if (parsed.value === null) return bad('must be a list without null in it');
    items.push(parsed.value as Scalar);
  }
  return good(items);
}

/** Levels of a JSON value at most: readers of JSON everywhere are recursive. */
const DEEPEST_JSON = 32;

function parseJson(raw: unknown): Parsed {
  const walk = (each: unknown, depth: number): string | null => {
    if (depth > DEEPEST_JSON) return `must be nested at most ${DEEPEST_JSON} deep`;
    if (typeof each === 'string') {
      const text = parseText(each);
      return text.ok ? null : text.must;
    }
    if (typeof each === 'number' && !Number.isFinite(each))
      return 'must hold no number too large for 64 bits';
    if (typeof each !== 'object' || each === null) return null;
    for (const [key, inner] of Object.entries(each)) {
      const wrong = walk(key, depth) ?? walk(inner, depth + 1);
      if (wrong !== null) return wrong;
    }
    return null;
  };
  const wrong = walk(raw, 0);
  return wrong === null ? good(new JsonDocument(raw)) : bad(wrong);
}

function parseText(raw: unknown): Parsed {
  if (typeof raw !== 'string') return bad('must be a text');
  if (raw.includes('\u0000')) return bad('must not contain the character U+0000');
  if (!raw.isWellFormed()) return bad('must be valid Unicode, without half of a surrogate pair');
  return good(raw);
}

function parseDecimal(raw: unknown): Parsed {
  const must = 'must be a decimal as a text of plain digits, such as "12.50"';
  // A JSON number has been through floating point already; only whole ones are certainly what was meant.
  const text = typeof raw === 'number' && Number.isSafeInteger(raw) ? String(raw) : raw;
  if (typeof text !== 'string' || !decimalShape.test(text)) return bad(must);
  return good(text);
}

function isDate(text: string): boolean {
  const parts = dateShape.exec(text);
  if (parts === null || parts[1] === '0000') return false;
  const date = new Date(`${text}T00:00:00Z`);
  return !Number.isNaN(date.getTime()) && date.toISOString().startsWith(text);
}

function parseTimestamp(raw: unknown): Parsed {
  const must = 'must be a time with its zone (RFC 3339), such as "2026-05-01T12:00:00Z"';
  const parts = typeof raw === 'string' ? timestampShape.exec(raw) : null;
  if (parts === null) return bad(must);
  const [, date = '', hours = '', minutes = '', seconds = '', fraction = '', , sign, zoneHours, zoneMinutes] =
    parts;
  // A leap second (RFC 3339 allows :60) is refused: PostgreSQL would carry it into the next minute.
  if (!isDate(date) || Number(hours) > 23 || Number(minutes) > 59 || Number(seconds) > 59) return bad(must);
  if (Number(zoneHours ?? 0) > 15 || Number(zoneMinutes ?? 0) > 59) return bad(must);
  if (/[1-9]/.test(fraction.slice(6))) return bad(`${must}, no finer than a microsecond`);
  const offset = (sign === '-' ? -1 : 1) * (Number(zoneHours ?? 0) * 60 + Number(zoneMinutes ?? 0));
  const utc = new Date(Date.parse(`${date}T${hours}:${minutes}:${seconds}Z`) - offset * 60_000);
  if (utc.getUTCFullYear() < 1 || utc.getUTCFullYear() > 9999) return bad(must);
  return good(formatTimestamp(utc.toISOString().slice(0, 19), fraction));
}

/** `2026-05-01T12:00:00` and the digits after the point, as the one shape of a timestamp. */
export function formatTimestamp(seconds: string, fraction: string): string {
  const digits = fraction.slice(0, 6).replace(/0+$/, '');
  return digits === '' ? `${seconds}Z` : `${seconds}.${digits}Z`;
}

/**
 * Order of two present values of one type: negative, zero or positive.
 * Text compares by code point, as `COLLATE "C"` does; decimals exactly, against integers too.
 */
export function compareValues(kind: ScalarType['kind'], a: Scalar, b: Scalar): number {
  switch (kind) {
    case 'integer':
    case 'boolean':
      return Number(a) - Number(b);
    case 'decimal':
      return new Big(a as string | number).cmp(new Big(b as string | number));
    case 'timestamp':
      // Without its closing Z a shorter fraction is a prefix of a longer one, so plain order is time's order.
      return compareCodeUnits((a as string).slice(0, -1), (b as string).slice(0, -1));
    case 'date':
    case 'uuid':
    case 'ref':
      return compareCodeUnits(a as string, b as string);
    case 'text':
    case 'one of':
      return compareCodePoints(a as string, b as string);
  }
}

/** The same for values that are the same: `1.5` and `1.50` are one number. */
export function valueKey(kind: ScalarType['kind'], value: Scalar): Scalar {
  return kind === 'decimal' || kind === 'integer' ? new Big(value as string | number).toFixed() : value;
}

/** Are two values of one type the same? Missing is the same as missing. */
export function sameValue(type: Type, a: Value, b: Value): boolean {
  if (a === null || b === null) return a === b;
  if (type.kind === 'json') return JSON.stringify(a) === JSON.stringify(b);
  if (type.kind !== 'list') return compareValues(type.kind, a as Scalar, b as Scalar) === 0;
  const [left, right] = [a as readonly Scalar[], b as readonly Scalar[]];
  return (
    left.length === right.length &&
    left.every((each, index) => compareValues(type.of.kind, each, right[index]!) === 0)
  );
}

function compareCodeUnits(a: string, b: string): number {
  return a === b ? 0 : a < b ? -1 : 1;
}

function compareCodePoints(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    if (a.charCodeAt(i) !== b.charCodeAt(i)) return rank(a.charCodeAt(i)) - rank(b.charCodeAt(i));
  }
  return a.length - b.length;
}

/** Surrogates stand for code points above U+FFFF, so they come after every other code unit. */
function rank(unit: number): number {
  return unit >= 0xd800 && unit <= 0xdfff ? unit + 0x10000 : unit;
}
