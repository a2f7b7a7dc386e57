import type { Expression } from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import { simpleTypes, typeName, type Type } from '../types/types.ts';
import type { Asking } from './asking.ts';
import { comparable } from './comparable.ts';
import type { Findings } from './context.ts';
import { asLiteral, isLiteral, literalBeside, naturalType } from './literals.ts';
import { resolvePath } from './paths.ts';
import { rangeIn } from './ranges.ts';
import { refuseInFilter } from './refusals.ts';
import type { Scope } from './scope.ts';
import { shifted } from './times.ts';

/** A value: a literal takes the type that it has by itself. */
export function operandIn(
  asking: Asking,
  expression: Expression,
  scope: Scope,
  findings: Findings,
): Operand | null {
  if (isLiteral(expression)) return asLiteral(expression, naturalType(expression), findings);
  switch (expression.kind) {
    case 'now':
      return { kind: 'now', type: simpleTypes.timestamp };
    case 'today':
      return { kind: 'today', zone: scope.zone, type: simpleTypes.date };
    case 'path':
      return resolvePath(expression, scope, findings);
    case 'shift': {
      const operand = asking.operand(expression.operand, scope, findings);
      return operand === null ? null : shifted(operand, expression, scope.zone, findings);
    }
    case 'count': {
      if (scope.filter) return refuseInFilter(expression.span, findings);
      const counted = rangeIn(asking, expression, expression.where, scope, findings);
      if (counted === null) return null;
      return { kind: 'count', range: counted.range, where: counted.condition, type: simpleTypes.integer };
    }
    case 'call':
      if (isFunction(expression)) return checkFunction(asking, expression, scope, findings);
      break;
    case 'and':
    case 'boolean':
    case 'compare':
    case 'has role':
    case 'in':
    case 'in list':
    case 'may':
    case 'missing':
    case 'not':
    case 'number':
    case 'or':
    case 'quantified':
    case 'text':
    case 'text test':
    case 'within':
  }
  findings.add(
    'T001',
    'a condition cannot be compared as if it were a value',
    expression.span,
    'join conditions with and, or',
  );
  return null;
}

/** Is it a function of the language, and no let? */
export function isFunction(call: Expression & { kind: 'call' }): boolean {
  return call.name.text === 'lower' || call.name.text === 'length';
}

/** `lower(…)` and `length(…)`, each of one text. */
function checkFunction(
  asking: Asking,
  { name, arguments: given, span }: Expression & { kind: 'call' },
  scope: Scope,
  findings: Findings,
): Operand | null {
  const [argument] = given;
  if (argument === undefined || given.length > 1) {
    findings.add('T012', `${name.text} takes one argument, and ${given.length} are given`, span);
    return null;
  }
  const operand = asking.operand(argument, scope, findings);
  if (operand === null) return null;
  if (operand.type.kind !== 'text' && operand.type.kind !== 'one of') {
    findings.add('T001', `${name.text} is about texts, and this is ${typeName(operand.type)}`, argument.span);
    return null;
  }
  return name.text === 'lower'
    ? { kind: 'lower', operand, type: simpleTypes.text }
    : { kind: 'length', operand, type: simpleTypes.integer };
}

/** A value for a place of a known type, such as the parameter of a let. */
export function operandOf(
  asking: Asking,
  expression: Expression,
  type: Type,
  scope: Scope,
  findings: Findings,
): Operand | null {
  if (isLiteral(expression)) return literalBeside(expression, type, findings);
  const operand = asking.operand(expression, scope, findings);
  if (operand === null || comparable(operand.type, type)) return operand;
  findings.add(
    'T012',
    `${typeName(type)} is wanted here, and this is ${typeName(operand.type)}`,
    expression.span,
  );
  return null;
}
