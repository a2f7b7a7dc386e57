import type { CompareOperator, Expression } from '../language/ast.ts';
import { negate, type Condition, type Operand } from '../ir/conditions.ts';
import { typeName, type Type } from '../types/types.ts';
import type { Findings } from './context.ts';
import type { Asking } from './asking.ts';
import { isLiteral, type Literal } from './literals.ts';
import { checkMember } from './membership.ts';
import { comparable } from './comparable.ts';
import { literalBeside } from './literals.ts';
import type { Scope } from './scope.ts';

/** The types that have an order. */
const ordered: ReadonlySet<Type['kind']> = new Set(['text', 'integer', 'decimal', 'date', 'timestamp']);

/** Each comparison in normal form. */
const comparisons: Readonly<Record<CompareOperator, (left: Operand, right: Operand) => Condition>> = {
  '=': (left, right) => ({ kind: 'equal', left, right }),
  '!=': (left, right) => negate({ kind: 'equal', left, right }),
  '<': (left, right) => ({ kind: 'less', left, right }),
  '<=': (left, right) => ({ kind: 'at most', left, right }),
  '>': (left, right) => ({ kind: 'less', left: right, right: left }),
  '>=': (left, right) => ({ kind: 'at most', left: right, right: left }),
};

/** `a = b` and the orders: both sides of types that can be compared. */
export function checkComparison(
  asking: Asking,
  expression: Expression & { kind: 'compare' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const pair = checkPair(asking, expression.left, expression.right, scope, findings);
  if (pair === null) return null;
  const [left, right] = pair;
  const { operator } = expression;
  if (operator !== '=' && operator !== '!=') {
    const unordered = [left, right].find((operand) => !ordered.has(operand.type.kind));
    if (unordered !== undefined) {
      findings.add('T005', `${typeName(unordered.type)} has no order`, expression.span, 'use = or !=');
      return null;
    }
  }
  return comparisons[operator](left, right);
}

function checkPair(
  asking: Asking,
  left: Expression,
  right: Expression,
  scope: Scope,
  findings: Findings,
): [Operand, Operand] | null {
  if (isLiteral(left) !== isLiteral(right)) {
    const [literal, other] = isLiteral(left) ? [left, right] : [right as Literal, left];
    const typed = asking.operand(other, scope, findings);
    if (typed === null) return null;
    const operand = literalBeside(literal, typed.type, findings);
    if (operand === null) return null;
    return literal === left ? [operand, typed] : [typed, operand];
  }
  const a = asking.operand(left, scope, findings);
  const b = asking.operand(right, scope, findings);
  if (a === null || b === null) return null;
  if (comparable(a.type, b.type)) return [a, b];
  findings.add('T001', `${typeName(a.type)} cannot be compared with ${typeName(b.type)}`, {
    ...left.span,
    end: right.span.end,
  });
  return null;
}

/** `contains`, `starts with`, `ends with` of texts; `contains` of a list, too. */
export function checkTextTest(
  asking: Asking,
  expression: Expression & { kind: 'text test' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const { operator } = expression;
  const left = asking.operand(expression.left, scope, findings);
  if (left?.type.kind === 'list' && operator === 'contains')
    return checkMember(asking, expression.right, expression.left, false, scope, findings);
  const right = asking.operand(expression.right, scope, findings);
  if (left === null || right === null) return null;
  const wrong = [left, right].findIndex(({ type }) => type.kind !== 'text' && type.kind !== 'one of');
  if (wrong === -1) return { kind: operator, left, right };
  findings.add(
    'T001',
    `“${operator}” is about texts, and this is ${typeName((wrong === 0 ? left : right).type)}`,
    (wrong === 0 ? expression.left : expression.right).span,
  );
  return null;
}
