import type { Scalar, Type, Value } from './types.ts';

/** What a rulebook says of its collections, checked: every name resolves, every type fits. */

export interface Field {
  readonly name: string;
  /** What people call it; null: nothing is said. */
  readonly title: string | null;
  readonly type: Type;
  readonly required: boolean;
  readonly unique: boolean;
  readonly sensitive: boolean;
  /** May a person set it on their own record, though rules read it through `me`? Of people only. */
  readonly selfSet: boolean;
  /** A literal, the moment of the request, or nothing. */
  readonly default: { readonly kind: 'value'; readonly value: Scalar } | { readonly kind: 'now' } | null;
  /** Of texts: how many characters (code points) may be written into one. Null for all other types. */
  readonly most: number | null;
  /** Of references: what becomes of this record when the one that it points at is deleted. */
  readonly onDelete: 'refuse' | 'remove' | 'clear';
  /** Filled in by the service alone: `id`, `created_at`, `updated_at`. Never suppliable. */
  readonly system: boolean;
  /** Where its values are kept: its own name, until it is renamed or gets another type. See `places.ts`. */
  readonly column: Kept;
}

/** A column, or where the field would get its values if it were there already: see `passage/passage.ts`. */
export type Kept = string | Pending;

export interface Pending {
  /** The column that its values are read from; null: there is none, every value is missing. */
  readonly column: string | null;
  /** The type that they have there. */
  readonly type: Type;
  readonly timeZone: string;
  /** What stands for a missing value: the first that is there. */
  readonly fills: readonly Filling[];
}

export type Filling =
  | { readonly kind: 'value'; readonly value: Scalar }
  | { readonly kind: 'now' }
  /** Along references from the record itself. */
  | {
      readonly kind: 'path';
      readonly steps: readonly { readonly collection: string; readonly field: string }[];
    };

export interface Collection {
  readonly name: string;
  readonly title: string | null;
  /** In the order of the rulebook; `id` first, `created_at` and `updated_at` last. */
  readonly fields: ReadonlyMap<string, Field>;
  /** The field that people know a record by. */
  readonly label: string | null;
  /** The field that points at a record's parent, where the records form a tree. */
  readonly tree: string | null;
  /** Paths to the people whose own a record is; empty where nothing was said. */
  readonly owners: readonly (readonly string[])[];
  /** The table that holds its records: its own name, until it is renamed. Null: there is none yet, so it is empty. */
  readonly table: string | null;
}

/** Characters of a text that the rulebook says nothing about. */
export const MOST_CHARACTERS = 100_000;

/** The fields whose texts among these values are longer than they may be. Cost: only what could be too long is counted. */
export function tooLong({ fields }: Collection, values: ReadonlyMap<string, Value>): string[] {
  return [...values].flatMap(([name, value]) => {
    const most = fields.get(name)?.most ?? null;
    return most !== null && typeof value === 'string' && isLonger(value, most) ? [name] : [];
  });
}

function isLonger(text: string, most: number): boolean {
  if (text.length <= most) return false;
  return text.length > 2 * most || Array.from(text).length > most;
}

export type Schema = ReadonlyMap<string, Collection>;

/** The built-in collection of everybody whom the application knows. */
export const PEOPLE = 'people';

/** The name that a test identity has among them: a column of the service's own, that no rule can speak of. */
export const IDENTITY = '_identity';

/** What is read of a record to decide about it: its fields, and what the service keeps beside them. */
export function columnsOf({ name, fields }: Collection): string[] {
  return name === PEOPLE ? [...fields.keys(), IDENTITY] : [...fields.keys()];
}

const system = (name: string, type: Type): Field => ({
  name,
  title: null,
  type,
  required: true,
  unique: name === 'id',
  sensitive: false,
  selfSet: false,
  default: null,
  most: null,
  onDelete: 'refuse',
  system: true,
  column: name,
});

/** The fields that every collection has: its own id before all others, the times after them. */
export function systemFields(collection: string): { id: Field; created_at: Field; updated_at: Field } {
  return {
    id: system('id', { kind: 'ref', collection }),
    created_at: system('created_at', { kind: 'timestamp' }),
    updated_at: system('updated_at', { kind: 'timestamp' }),
  };
}

export const systemFieldNames: ReadonlySet<string> = new Set(['id', 'created_at', 'updated_at']);

const text = (name: string, unique: boolean): Field => ({
  name,
  title: null,
  type: { kind: 'text' },
  required: false,
  unique,
  sensitive: false,
  selfSet: false,
  default: null,
  most: MOST_CHARACTERS,
  onDelete: 'refuse',
  system: false,
  column: name,
});

/** The fields that `people` has before the rulebook adds its own. E-mail addresses are the label. */
export const peopleFields: readonly Field[] = [text('name', false), text('email', true)];

/** The field, or null; never a property that the object happens to inherit. */
export function fieldOf(schema: Schema, collection: string, field: string): Field | null {
  return schema.get(collection)?.fields.get(field) ?? null;
}

/** The collection, for callers that hold a name which the checker has already resolved. */
export function collectionOf(schema: Schema, name: string): Collection {
  const collection = schema.get(name);
  if (collection === undefined) throw new TypeError(`a checked name is not in the schema: ${name}`);
  return collection;
}
