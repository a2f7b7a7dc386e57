import type { CompareOperator } from '../language/ast.ts';
import { negate, type Condition, type Operand } from '../ir/conditions.ts';
import type { Type } from '../types/types.ts';

/** Can values of these types be compared? Integers with decimals, a `one of` with texts, references to one collection. */
export function comparable(a: Type, b: Type): boolean {
  if (a.kind === 'ref' && b.kind === 'ref') return a.collection === b.collection;
  const family = (type: Type) =>
    type.kind === 'one of' ? 'text' : type.kind === 'integer' ? 'decimal' : type.kind;
  return family(a) === family(b);
}

/** The types that have an order. */
export const ordered: ReadonlySet<Type['kind']> = new Set([
  'text',
  'integer',
  'decimal',
  'date',
  'timestamp',
]);

/** Each comparison in normal form. */
export const comparisons: Readonly<Record<CompareOperator, (left: Operand, right: Operand) => Condition>> = {
  '=': (left, right) => ({ kind: 'equal', left, right }),
  '!=': (left, right) => negate({ kind: 'equal', left, right }),
  '<': (left, right) => ({ kind: 'less', left, right }),
  '<=': (left, right) => ({ kind: 'at most', left, right }),
  '>': (left, right) => ({ kind: 'less', left: right, right: left }),
  '>=': (left, right) => ({ kind: 'at most', left: right, right: left }),
};
