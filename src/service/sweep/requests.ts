import { fieldOf, type Schema } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import type { Asking } from './door.ts';

/** The request that would carry out a write. */
export function writing(
  operation: string,
  collection: string,
  id: string,
  values: ReadonlyMap<string, Value>,
): Asking {
  const path = `/v1/records/${collection}`;
  const body = Object.fromEntries(values);
  switch (operation) {
    case 'create':
      return { method: 'POST', path, body };
    case 'update':
      return { method: 'PATCH', path: `${path}/${id}`, body };
    case 'delete':
      return { method: 'DELETE', path: `${path}/${id}` };
    default:
      return { method: 'POST', path: `${path}/${id}/actions/${operation}`, body };
  }
}

export function where(condition: string): string {
  return `where=${encodeURIComponent(condition)}`;
}

export function quoted(field: string): string {
  return `\`${field}\``;
}

/** The value as a filter can name it; null where it cannot. */
export function literalOf(schema: Schema, collection: string, field: string, value: Value): string | null {
  if (value === null) return null;
  const { type } = fieldOf(schema, collection, field)!;
  switch (type.kind) {
    case 'list':
    case 'json':
      return null;
    case 'integer':
    case 'boolean':
      return JSON.stringify(value);
    case 'decimal':
      return value as string;
    default:
      // What a quoted text cannot hold as it is.
      return /["\\\p{Cc}]/u.test(value as string) ? null : `"${value as string}"`;
  }
}
