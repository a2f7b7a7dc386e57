import { negate, type Condition } from './conditions.ts';

export const isNever: Condition = { kind: 'constant', value: false };

/** Constants taken out of `and`, `or` and `not`; every other condition as it is. */
export function folded(condition: Condition): Condition {
  switch (condition.kind) {
    case 'and':
    case 'or': {
      const decisive = condition.kind === 'or';
      const parts = condition.operands.filter((part) => part.kind !== 'constant' || part.value === decisive);
      const settled = parts.find((part) => part.kind === 'constant');
      if (settled !== undefined) return settled;
      const [only] = parts;
      if (parts.length === 0) return { kind: 'constant', value: !decisive };
      return parts.length === 1 ? only! : { ...condition, operands: parts };
    }
    case 'not':
      return condition.operand.kind === 'constant' ? negate(condition.operand) : condition;
    case 'among':
    case 'as':
    case 'at most':
    case 'constant':
    case 'contains':
    case 'ends with':
    case 'equal':
    case 'has role':
    case 'holds':
    case 'less':
    case 'may':
    case 'member':
    case 'missing':
    case 'some':
    case 'starts with':
    case 'within':
      return condition;
  }
}
