import { suggestion } from '../diagnostics/suggest.ts';
import type { Collection } from './schema.ts';
import type { Value } from './types.ts';
import { parseValue } from './values.ts';

/** What is wrong with one member of a body; `must` ends a sentence: “keeper must be the id of …”. */
export interface ShapeFault {
  readonly field: string;
  readonly must: string;
}

/**
 * The members of a body as values of their fields. Supplied means that the key is there, even with null.
 * Speaks of the schema alone, never of a record, so it may be answered before anything is decided.
 */
export function parseSupplied(
  collection: Collection,
  body: Readonly<Record<string, unknown>>,
): { readonly values: ReadonlyMap<string, Value>; readonly faults: readonly ShapeFault[] } {
  const values = new Map<string, Value>();
  const faults: ShapeFault[] = [];
  for (const [key, raw] of Object.entries(body)) {
    const field = collection.fields.get(key);
    if (field === undefined) {
      const hint = suggestion(key, collection.fields.keys());
      faults.push({
        field: key.slice(0, 64),
        must: `must be left out: ${collection.name} has no such field${hint === undefined ? '' : ` (${hint})`}`,
      });
    } else if (field.system) {
      faults.push({ field: key, must: 'must be left out: the service alone fills it in' });
    } else if (raw === null && field.required) {
      faults.push({ field: key, must: 'must have a value: it is required' });
    } else {
      const parsed = parseValue(field.type, raw);
      if (parsed.ok) values.set(key, parsed.value);
      else faults.push({ field: key, must: parsed.must });
    }
  }
  return { values, faults };
}
