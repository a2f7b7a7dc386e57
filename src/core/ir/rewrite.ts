import { simpleTypes } from '../types/types.ts';
import type { Condition, Operand, PathOperand, Range } from './conditions.ts';

/** What a rewriting may change; what it leaves out stays as it is. Each answers the very node to keep it. */
export interface Rewriting {
  readonly path?: (path: PathOperand) => Operand;
  /** Asked of each condition after its parts. */
  readonly condition?: (condition: Condition) => Condition;
  /** The depth of a `some` or `count`, where all are moved. Paths from their records are the rewriter's own affair. */
  readonly depth?: (depth: number) => number;
  /** Instead of going into what is asked as somebody else, whose `me` is not the caller. */
  readonly as?: (condition: As) => Condition;
}

export type As = Condition & { readonly kind: 'as' };

/**
 * A condition with its paths and parts changed, from the leaves upwards. Nothing of the old one is changed itself, and what
 * comes out the same is the very same.
 */
export function rewriteCondition(condition: Condition, by: Rewriting): Condition {
  const rewritten = withParts(condition, by);
  return by.condition?.(rewritten) ?? rewritten;
}

function withParts(condition: Condition, by: Rewriting): Condition {
  switch (condition.kind) {
    case 'constant':
    case 'has role':
      return condition;
    case 'equal':
    case 'less':
    case 'at most':
    case 'contains':
    case 'starts with':
    case 'ends with':
    case 'within': {
      const [left, right] = [rewriteOperand(condition.left, by), rewriteOperand(condition.right, by)];
      return left === condition.left && right === condition.right ? condition : { ...condition, left, right };
    }
    case 'member': {
      const [operand, list] = [rewriteOperand(condition.operand, by), rewriteOperand(condition.list, by)];
      return operand === condition.operand && list === condition.list
        ? condition
        : { ...condition, operand, list };
    }
    case 'among':
    case 'missing':
    case 'holds': {
      const operand = rewriteOperand(condition.operand, by);
      return operand === condition.operand ? condition : { ...condition, operand };
    }
    case 'may': {
      const target = rewriteOperand(condition.target, by);
      if (target === condition.target) return condition;
      // Nobody may do anything to a record that is not there, and whether they might is unknown.
      return target.kind === 'path' ? { ...condition, target } : unknown;
    }
    case 'some': {
      const [range, body] = [moved(condition.range, by), rewriteCondition(condition.body, by)];
      return range === condition.range && body === condition.body ? condition : { ...condition, range, body };
    }
    case 'as': {
      if (by.as !== undefined) return by.as(condition);
      const inner = rewriteCondition(condition.condition, by);
      return inner === condition.condition ? condition : { ...condition, condition: inner };
    }
    case 'and':
    case 'or': {
      const operands = condition.operands.map((each) => rewriteCondition(each, by));
      return operands.every((each, index) => each === condition.operands[index])
        ? condition
        : { ...condition, operands };
    }
    case 'not': {
      const operand = rewriteCondition(condition.operand, by);
      return operand === condition.operand ? condition : { ...condition, operand };
    }
  }
}

/** Neither true nor false. */
export const unknown: Condition = { kind: 'holds', operand: { kind: 'nothing', type: simpleTypes.boolean } };

export function rewriteOperand(operand: Operand, by: Rewriting): Operand {
  switch (operand.kind) {
    case 'literal':
    case 'nothing':
    case 'now':
    case 'today':
      return operand;
    case 'path':
      return by.path?.(operand) ?? operand;
    case 'lower':
    case 'length':
    case 'shift': {
      const inner = rewriteOperand(operand.operand, by);
      return inner === operand.operand ? operand : { ...operand, operand: inner };
    }
    case 'count': {
      const [range, where] = [moved(operand.range, by), rewriteCondition(operand.where, by)];
      return range === operand.range && where === operand.where ? operand : { ...operand, range, where };
    }
  }
}

function moved(range: Range, { depth }: Rewriting): Range {
  return depth === undefined ? range : { ...range, depth: depth(range.depth) };
}
