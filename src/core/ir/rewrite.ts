import type { Condition, Operand, PathOperand } from './conditions.ts';

/** What a rewriting may change; what it leaves out stays as it is. Each answers the very node to keep it. */
export interface Rewriting {
  readonly path?: (path: PathOperand) => PathOperand;
  /** Asked of each condition after its parts. */
  readonly condition?: (condition: Condition) => Condition;
}

/** A condition with its paths and parts changed, from the leaves upwards. Nothing of the old one is changed itself. */
export function rewriteCondition(condition: Condition, by: Rewriting): Condition {
  const inner = (each: Condition) => rewriteCondition(each, by);
  const operand = (each: Operand) => rewriteOperand(each, by);
  const rewritten = ((): Condition => {
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
      case 'within':
        return { ...condition, left: operand(condition.left), right: operand(condition.right) };
      case 'member':
        return { ...condition, operand: operand(condition.operand), list: operand(condition.list) };
      case 'among':
      case 'missing':
      case 'holds':
        return { ...condition, operand: operand(condition.operand) };
      case 'may':
        return { ...condition, target: rewriteOperand(condition.target, by) as PathOperand };
      case 'some':
        return { ...condition, body: inner(condition.body) };
      case 'as':
        return { ...condition, condition: inner(condition.condition) };
      case 'and':
      case 'or':
        return { ...condition, operands: condition.operands.map(inner) };
      case 'not':
        return { ...condition, operand: inner(condition.operand) };
    }
  })();
  return by.condition?.(rewritten) ?? rewritten;
}

function rewriteOperand(operand: Operand, by: Rewriting): Operand {
  switch (operand.kind) {
    case 'literal':
    case 'now':
    case 'today':
      return operand;
    case 'path':
      return by.path?.(operand) ?? operand;
    case 'lower':
    case 'length':
    case 'shift':
      return { ...operand, operand: rewriteOperand(operand.operand, by) };
    case 'count':
      return { ...operand, where: rewriteCondition(operand.where, by) };
  }
}
