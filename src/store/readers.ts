import pg from 'pg';
import { parse as parseArray } from 'postgres-array';
import { JsonDocument } from '../core/types/types.ts';
import { formatTimestamp } from '../core/types/values.ts';

/** Types come over the wire as text; each is read into the one shape of `core/types/types.ts`. */
const readers = new Map<number, (text: string) => unknown>([
  [pg.types.builtins.INT8, Number],
  [pg.types.builtins.NUMERIC, String],
  [pg.types.builtins.DATE, String],
  [pg.types.builtins.TIMESTAMPTZ, readTimestamp],
  [pg.types.builtins.JSONB, (text) => new JsonDocument(JSON.parse(text))],
  // Lists, by the types of their items: bool, int8, numeric, date, timestamptz; texts and uuids are read as they come.
  [1000, (text) => parseArray(text, (each) => each === 't')],
  [1016, (text) => parseArray(text, Number)],
  [1231, (text) => parseArray(text, String)],
  [1182, (text) => parseArray(text, String)],
  [1185, (text) => parseArray(text, readTimestamp)],
]);

/** How a value of a type is read from its text. */
export function parserOf(oid: number): (text: string) => unknown {
  return readers.get(oid) ?? pg.types.getTypeParser(oid, 'text');
}

/** `2026-05-01 12:00:00.5+00`, as the server writes it in UTC, in the one shape of a timestamp. */
function readTimestamp(text: string): string {
  const parts = /^(\d{4}-\d{2}-\d{2}) (\d{2}:\d{2}:\d{2})(?:\.(\d+))?\+00$/.exec(text);
  if (parts === null) throw new RangeError('a timestamp outside the years 0001 to 9999');
  return formatTimestamp(`${parts[1]}T${parts[2]}`, parts[3] ?? '');
}
