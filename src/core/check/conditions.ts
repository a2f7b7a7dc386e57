import type { Expression, Name } from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import { suggestion } from '../diagnostics/suggest.ts';
import { limits } from '../language/limits.ts';
import { negate, type Condition, type Operand } from '../ir/conditions.ts';
import { typeName, type Type } from '../types/types.ts';
import { checkComparison, checkTextTest } from './comparisons.ts';
import type { Findings } from './context.ts';
import { checkMay } from './follows.ts';
import type { Asking } from './asking.ts';
import { checkMine, isMine } from './mine.ts';
import { checkAmong, checkMember } from './membership.ts';
import { isFunction, operandIn, operandOf } from './operands.ts';
import { resolvePath } from './paths.ts';
import { rangeIn, type CheckedRange } from './ranges.ts';
import { needsCondition, refuseInFilter, refuseWorking } from './refusals.ts';
import type { Scope } from './scope.ts';
import { checkWithin } from './trees.ts';

/**
 * Types a condition and brings it into normal form; null where something is wrong, all of it reported.
 * Nothing that passes here can fail in the closures or in SQL. Recursion is bounded by `limits.nesting`.
 */
export function checkCondition(expression: Expression, scope: Scope, findings: Findings): Condition | null {
  if (scope.budget.left-- <= 0) {
    if (scope.budget.left === -1) {
      findings.add(
        'P003',
        `this condition has more than ${limits.conditionParts} parts, its lets written out`,
        expression.span,
      );
    }
    return null;
  }
  switch (expression.kind) {
    case 'and':
    case 'or': {
      // All parts are checked before giving up, so that one pass shows every error.
      const operands = expression.operands.map((operand) => checkCondition(operand, scope, findings));
      if (operands.some((operand) => operand === null)) return null;
      return { kind: expression.kind, operands: operands as Condition[] };
    }
    case 'not': {
      const operand = checkCondition(expression.operand, scope, findings);
      return operand === null ? null : negate(operand);
    }
    case 'compare':
      return checkComparison(asking, expression, scope, findings);
    case 'in':
      return checkAmong(asking, expression, scope, findings);
    case 'in list':
      return checkMember(asking, expression.operand, expression.list, expression.negated, scope, findings);
    case 'missing': {
      const operand = checkOperand(expression.operand, scope, findings);
      if (operand === null) return null;
      const missing: Condition = { kind: 'missing', operand };
      return expression.negated ? negate(missing) : missing;
    }
    case 'boolean':
      return { kind: 'constant', value: expression.value };
    case 'path': {
      if (isMine(expression, scope)) return checkMine(asking, expression, scope, findings);
      const operand = resolvePath(expression, scope, findings);
      if (operand === null) return null;
      if (operand.type.kind === 'boolean') return { kind: 'holds', operand };
      return needsCondition(expression.span, typeName(operand.type), findings);
    }
    case 'within':
      return checkWithin(asking, expression, scope, findings);
    case 'text test':
      return checkTextTest(asking, expression, scope, findings);
    case 'quantified': {
      if (scope.filter) return refuseInFilter(expression.span, findings);
      const body = rangeIn(asking, expression, expression.body, scope, findings);
      if (body === null) return null;
      const some: Condition = { kind: 'some', range: body.range, body: body.condition };
      return expression.quantifier === 'some' ? some : negate(some);
    }
    case 'has role':
      if (scope.filter) return refuseInFilter(expression.span, findings);
      if (scope.working) return refuseWorking(expression.span, findings);
      if (scope.roles.has(expression.role.text)) return { kind: 'has role', role: expression.role.text };
      findings.add(
        'N003',
        `nobody declared a role “${expression.role.text}”`,
        expression.role.span,
        suggestion(expression.role.text, scope.roles),
      );
      return null;
    case 'may':
      if (scope.filter) return refuseInFilter(expression.span, findings);
      if (scope.working) return refuseWorking(expression.span, findings);
      return checkMay(expression, scope, findings);
    case 'call':
      if (isFunction(expression)) return needsCondition(expression.span, expression.name.text, findings);
      return scope.filter
        ? refuseInFilter(expression.span, findings)
        : scope.writeOut(expression, scope, findings);
    case 'text':
    case 'number':
    case 'now':
    case 'today':
    case 'shift':
    case 'count':
      return needsCondition(expression.span, expression.kind, findings);
  }
}

const asking: Asking = { condition: checkCondition, operand: checkOperand };

/** A value: a literal takes the type that it has by itself. */
export function checkOperand(expression: Expression, scope: Scope, findings: Findings): Operand | null {
  return operandIn(asking, expression, scope, findings);
}

/** A value for a place of a known type, such as the parameter of a let. */
export function checkOperandOf(
  expression: Expression,
  type: Type,
  scope: Scope,
  findings: Findings,
): Operand | null {
  return operandOf(asking, expression, type, scope, findings);
}

/** `v in visits`, and a condition over it. */
export function checkRange(
  range: { readonly variable: Name; readonly collection: Name; readonly span: Span },
  body: Expression | null,
  scope: Scope,
  findings: Findings,
): CheckedRange | null {
  return rangeIn(asking, range, body, scope, findings);
}
