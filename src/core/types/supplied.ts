import { suggestion } from '../diagnostics/suggest.ts';
import { tooLong, type Collection } from './schema.ts';
import { JsonDocument, JsonPatch, type Type, type Value } from './types.ts';
import { parseValue } from './values.ts';

/** What is wrong with one member of a body; `must` ends a sentence: “keeper must be the id of …”. */
export interface ShapeFault {
  readonly field: string;
  readonly must: string;
  /** The rulebook has no such name. */
  readonly unknown?: true;
}

/** Faults of one body that are told: looking for what was meant takes its time for each, and nobody reads more. */
const MOST_FAULTS = 20;

/**
 * The members of a body as values of their fields. Supplied means that the key is there, even with null.
 * Speaks of the schema alone, never of a record, so it may be answered before anything is decided. `patch`: an object for a JSON
 * field is a change of what is there.
 */
export function parseSupplied(
  collection: Collection,
  body: Readonly<Record<string, unknown>>,
  how: 'whole' | 'patch' = 'whole',
): { readonly values: ReadonlyMap<string, Value>; readonly faults: readonly ShapeFault[] } {
  const values = new Map<string, Value>();
  const faults: ShapeFault[] = [];
  for (const [key, raw] of Object.entries(body)) {
    if (faults.length === MOST_FAULTS) break;
    const field = collection.fields.get(key);
    if (field === undefined) {
      const hint = suggestion(key, collection.fields.keys());
      faults.push({
        field: key.slice(0, 64),
        must: `must be left out: ${collection.name} has no such field${hint === undefined ? '' : ` (${hint})`}`,
        unknown: true,
      });
    } else if (field.system) {
      faults.push({ field: key, must: 'must be left out: the service alone fills it in' });
    } else if (raw === null && field.required) {
      faults.push({ field: key, must: 'must have a value: it is required' });
    } else {
      const parsed = parseValue(field.type, raw);
      if (!parsed.ok) faults.push({ field: key, must: parsed.must });
      else if (tooLong(collection, new Map([[key, parsed.value]])).length > 0)
        faults.push({ field: key, must: `must have at most ${field.most} characters` });
      else values.set(key, how === 'patch' ? asPatch(parsed.value) : parsed.value);
    }
  }
  return { values, faults };
}

/** An object goes into what is there; anything else takes its place (RFC 7396, section 2). */
function asPatch(value: Value): Value {
  if (!(value instanceof JsonDocument)) return value;
  const { json } = value;
  return typeof json === 'object' && json !== null && !Array.isArray(json) ? new JsonPatch(json) : value;
}

/** The members of a body as the parameters of an action; one that is required must be there, and not null. */
export function parseParameters(
  parameters: ReadonlyMap<string, { readonly type: Type; readonly required: boolean }>,
  body: Readonly<Record<string, unknown>>,
): { readonly values: ReadonlyMap<string, Value>; readonly faults: readonly ShapeFault[] } {
  const values = new Map<string, Value>();
  const faults: ShapeFault[] = [];
  for (const [key, raw] of Object.entries(body)) {
    if (faults.length === MOST_FAULTS) break;
    const parameter = parameters.get(key);
    if (parameter === undefined) {
      const hint = suggestion(key, parameters.keys());
      const near = hint === undefined ? '' : ` (${hint})`;
      faults.push({
        field: key.slice(0, 64),
        must: `must be left out: the action takes no such value${near}`,
        unknown: true,
      });
      continue;
    }
    const parsed = parseValue(parameter.type, raw);
    if (parsed.ok) values.set(key, parsed.value);
    else faults.push({ field: key, must: parsed.must });
  }
  for (const [name, { required }] of parameters) {
    if (required && (values.get(name) ?? null) === null && !faults.some((fault) => fault.field === name))
      faults.push({ field: name, must: 'must have a value: it is required' });
  }
  return { values, faults };
}
