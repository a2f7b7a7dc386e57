import type { Type } from '../types/types.ts';

/** Can values of these types be compared? Integers with decimals, a `one of` with texts, references to one collection. */
export function comparable(a: Type, b: Type): boolean {
  if (a.kind === 'ref' && b.kind === 'ref') return a.collection === b.collection;
  // A list is asked for its members, a JSON value for its presence.
  if (a.kind === 'list' || a.kind === 'json') return false;
  const family = (type: Type) =>
    type.kind === 'one of' ? 'text' : type.kind === 'integer' ? 'decimal' : type.kind;
  return family(a) === family(b);
}
