import { PEOPLE, type Collection, type Field } from '../types/schema.ts';
import type { Type } from '../types/types.ts';
import { sql, value, type Fragment, type SqlValue } from './fragment.ts';

/** The PostgreSQL schema that holds the application's collections. */
export const RECORDS_SCHEMA = 'records';

const wellFormed = /^[a-z_][a-z0-9_]*$/;

/**
 * A name of the declared schema, or an alias of our own, as a quoted identifier. The lexer lets only such names
 * into a rulebook; that is checked once more here, where a mistake would be an injection.
 */
export function identifier(name: string): Fragment {
  if (!wellFormed.test(name) || name.length > 63)
    throw new TypeError('an identifier that is not well formed');
  return Object.freeze({ text: `"${name}"`, values: [] });
}

/** A table that holds records, by its own name. */
export function stored(name: string): Fragment {
  return Object.freeze({ text: `"${RECORDS_SCHEMA}".${identifier(name).text}`, values: [] });
}

/** The table of people, whose built-in fields and own columns never change their names. */
export const peopleTable = stored(PEOPLE);

/** The table that records of a collection are written to. */
export function tableOf({ name, table: kept }: Collection): Fragment {
  if (kept === null) throw new TypeError(`a collection that has no table yet: ${name}`);
  return stored(kept);
}

/** The column that a field is written to. */
export function columnOf({ name, column: kept }: Field): Fragment {
  if (typeof kept !== 'string') throw new TypeError(`a field that has no column of its own yet: ${name}`);
  return identifier(kept);
}

/** The id of a record as a bound value. This and the three below are all that says what a key is. */
export function recordKey(id: SqlValue): Fragment {
  return sql`${value(id)}::uuid`;
}

export function recordKeys(ids: readonly string[]): Fragment {
  return sql`${value(ids)}::uuid[]`;
}

/** The same of what is a fragment already. */
export function asRecordKey(id: Fragment): Fragment {
  return sql`(${id})::uuid`;
}

export function asRecordKeys(ids: Fragment): Fragment {
  return sql`(${ids})::uuid[]`;
}

/** The id of something of the service's own: staff, links, shares, groups. */
export function ownKey(id: SqlValue): Fragment {
  return sql`${value(id)}::uuid`;
}

export function ownKeys(ids: readonly string[]): Fragment {
  return sql`${value(ids)}::uuid[]`;
}

/** A column of the record that goes by `alias`. */
export function column(alias: string, field: string): Fragment {
  return Object.freeze({ text: `${identifier(alias).text}.${identifier(field).text}`, values: [] });
}

/**
 * The alias of a record that is looked at from within another: its kind, and how deep it is, so that no two around each
 * other are the same, however long the chain.
 */
export function aliasBelow(alias: string, kind: 'm' | 'o' | 's' | 'w'): string {
  return `${kind}${Number(/\d+$/.exec(alias)?.[0] ?? 0) + 1}`;
}

const columnTypes: Readonly<Record<Exclude<Type['kind'], 'list'>, string>> = {
  text: 'text',
  'one of': 'text',
  integer: 'bigint',
  decimal: 'numeric',
  boolean: 'boolean',
  date: 'date',
  timestamp: 'timestamptz',
  uuid: 'uuid',
  ref: 'uuid',
  json: 'jsonb',
};

/** The column type of a field type, also the cast of a bound value. */
export function columnType(type: Type): Fragment {
  const text = type.kind === 'list' ? `${columnTypes[type.of.kind]}[]` : columnTypes[type.kind];
  return Object.freeze({ text, values: [] });
}
