import type { Type, Value } from '../types/types.ts';

/**
 * The small normal form of conditions: the only input of the closures and of the SQL.
 * Typed and resolved, so that neither engine has to ask what a name means.
 */

/** A value. `literal` is never missing; a missing one is written `is missing`. */
export type Operand =
  | { readonly kind: 'literal'; readonly value: Exclude<Value, null>; readonly type: Type }
  | { readonly kind: 'now'; readonly type: Type }
  | {
      readonly kind: 'path';
      /** `record`: the record being decided; `me`: the caller's record of people. */
      readonly root: 'record' | 'me';
      /** At least one; `id` is a step like any other. All but the last are references. */
      readonly steps: readonly Step[];
      readonly type: Type;
    };

/** A field of a record of `collection`. */
export interface Step {
  readonly collection: string;
  readonly field: string;
}

/** The operand is missing exactly when any side is; the result is unknown then. */
export type Condition =
  | { readonly kind: 'constant'; readonly value: boolean }
  | { readonly kind: 'equal' | 'less' | 'at most'; readonly left: Operand; readonly right: Operand }
  | {
      readonly kind: 'among';
      readonly operand: Operand;
      readonly values: readonly (Operand & { kind: 'literal' })[];
    }
  | { readonly kind: 'missing'; readonly operand: Operand }
  /** A boolean value that stands as a condition. */
  | { readonly kind: 'holds'; readonly operand: Operand }
  | { readonly kind: 'and' | 'or'; readonly operands: readonly Condition[] }
  | { readonly kind: 'not'; readonly operand: Condition };

export const always: Condition = { kind: 'constant', value: true };

/** Every operand of a condition, in reading order. */
export function* operandsOf(condition: Condition): Generator<Operand> {
  switch (condition.kind) {
    case 'constant':
      return;
    case 'equal':
    case 'less':
    case 'at most':
      yield condition.left;
      yield condition.right;
      return;
    case 'among':
      yield condition.operand;
      yield* condition.values;
      return;
    case 'missing':
    case 'holds':
      yield condition.operand;
      return;
    case 'and':
    case 'or':
      for (const operand of condition.operands) yield* operandsOf(operand);
      return;
    case 'not':
      yield* operandsOf(condition.operand);
  }
}

/** The collections whose records a condition looks at beyond the one in hand and the caller's own. */
export function collectionsRead(condition: Condition): Set<string> {
  const found = new Set<string>();
  for (const operand of operandsOf(condition)) {
    if (operand.kind === 'path') for (const step of operand.steps.slice(1)) found.add(step.collection);
  }
  return found;
}

/** `not` of a condition, without piling one on another. */
export function negate(condition: Condition): Condition {
  if (condition.kind === 'not') return condition.operand;
  if (condition.kind === 'constant') return { kind: 'constant', value: !condition.value };
  return { kind: 'not', operand: condition };
}
