/** The types of fields and of the values in conditions. */
export type Type = ScalarType | { readonly kind: 'json' } | ListType;

/** A list never holds a missing value; a list that is not there is missing itself. */
export interface ListType {
  readonly kind: 'list';
  readonly of: ScalarType;
}

/** The types whose values can be compared. */
export type ScalarType =
  | { readonly kind: 'text' }
  | { readonly kind: 'integer' }
  | { readonly kind: 'decimal' }
  | { readonly kind: 'boolean' }
  | { readonly kind: 'date' }
  | { readonly kind: 'timestamp' }
  | { readonly kind: 'uuid' }
  | { readonly kind: 'one of'; readonly values: readonly string[] }
  | { readonly kind: 'ref'; readonly collection: string };

export const simpleTypes = {
  text: { kind: 'text' },
  integer: { kind: 'integer' },
  decimal: { kind: 'decimal' },
  boolean: { kind: 'boolean' },
  date: { kind: 'date' },
  timestamp: { kind: 'timestamp' },
  uuid: { kind: 'uuid' },
  json: { kind: 'json' },
} as const satisfies Record<string, Type>;

/**
 * A value as both engines and the JSON interface hold it; `null` is a missing value.
 *
 * | type | shape |
 * |---|---|
 * | text, one of | string without U+0000 and without lone surrogates |
 * | integer | number, whole, within ±(2^53 − 1) (the range of RFC 7493, I-JSON) |
 * | decimal | string, plain digits, at most 60 before and 30 after the point |
 * | boolean | boolean |
 * | date | string, RFC 3339 full-date, years 0001 to 9999 |
 * | timestamp | string, RFC 3339 in UTC with `Z`, microseconds, no trailing zeros |
 * | uuid, ref | string, lower-case RFC 9562 |
 * | list | array of values, none of them missing |
 * | json | `JsonDocument` |
 */
export type Value = Scalar | readonly Scalar[] | JsonDocument | null;

/** A present value that is no list. */
export type Scalar = string | number | boolean;

/** A JSON value (RFC 8259) of any shape; conditions only ask whether it is there. */
export class JsonDocument {
  readonly json: unknown;

  constructor(json: unknown) {
    this.json = json;
  }

  toJSON(): unknown {
    return this.json;
  }
}

/** A change of a JSON value: what a merge patch (RFC 7396) makes of the one that is there. Conditions see that one is there. */
export class JsonPatch extends JsonDocument {}

/** The type in the words of the language, for messages. */
export function typeName(type: Type): string {
  switch (type.kind) {
    case 'one of':
      return `one of (${type.values.map((value) => JSON.stringify(value)).join(', ')})`;
    case 'ref':
      return `ref ${type.collection}`;
    case 'list':
      return `list of ${typeName(type.of)}`;
    case 'boolean':
    case 'date':
    case 'decimal':
    case 'integer':
    case 'json':
    case 'text':
    case 'timestamp':
    case 'uuid':
      return type.kind;
  }
}
