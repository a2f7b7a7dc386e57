import type { Action, Fence, Rule, Rulebook } from '../../ir/rulebook.ts';

/** What decides an operation for anybody at all: whom each sentence speaks of is not settled yet. */
export interface OpenGrants {
  /** Null: no rule is asked for. */
  readonly rules: readonly Rule[] | null;
  readonly fences: readonly Fence[];
}

/** The rules and fences of an operation, on the record (`field` null) or on one field of it as well. */
export function everybodysGrants(
  rulebook: Rulebook,
  collection: string,
  operation: string,
  field: string | null,
): OpenGrants {
  const rules = rulebook.rules.filter((rule) => {
    if (rule.collection !== collection || !rule.operations.has(operation)) return false;
    return (
      field === null || (operation === 'read' && field === 'id') || rule.operations.get(operation)!.has(field)
    );
  });
  const fences = rulebook.fences.filter((fence) => {
    if (fence.collection !== collection || !fence.operations.has(operation)) return false;
    const about = fence.operations.get(operation)!;
    return about === null || (field !== null && about.has(field));
  });
  return { rules, fences };
}

/** Of an action: its own rules and fences, and the fences on updating the record and the fields that it sets. */
export function actionGrantsOf(
  rulebook: Rulebook,
  { collection, name, sets }: Action,
): { readonly own: OpenGrants; readonly updating: OpenGrants } {
  const fences = rulebook.fences.filter((fence) => {
    if (fence.collection !== collection || !fence.operations.has('update')) return false;
    const about = fence.operations.get('update')!;
    return about === null || [...sets.keys()].some((field) => about.has(field));
  });
  return { own: everybodysGrants(rulebook, collection, name, null), updating: { rules: null, fences } };
}
