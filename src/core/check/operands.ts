import type { Expression } from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import { simpleTypes, typeName, type Scalar, type Type } from '../types/types.ts';
import { comparable } from './comparisons.ts';
import { refuseInFilter } from './conditions.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue, naturalType, type Literal } from './literals.ts';
import { resolvePath } from './paths.ts';
import { checkRange } from './ranges.ts';
import type { Scope } from './scope.ts';
import { shifted } from './times.ts';

export type LiteralOperand = Operand & { kind: 'literal' };

/** A value: a literal takes the type that it has by itself. */
export function checkOperand(expression: Expression, scope: Scope, findings: Findings): Operand | null {
  if (isLiteral(expression)) return asLiteral(expression, naturalType(expression), findings);
  switch (expression.kind) {
    case 'now':
      return { kind: 'now', type: simpleTypes.timestamp };
    case 'today':
      return { kind: 'today', type: simpleTypes.date };
    case 'path':
      return resolvePath(expression, scope, findings);
    case 'shift': {
      const operand = checkOperand(expression.operand, scope, findings);
      return operand === null ? null : shifted(operand, expression, findings);
    }
    case 'count': {
      if (scope.filter) return refuseInFilter(expression.span, findings);
      const counted = checkRange(expression, expression.where, scope, findings);
      if (counted === null) return null;
      return { kind: 'count', range: counted.range, where: counted.condition, type: simpleTypes.integer };
    }
    case 'call':
      if (isFunction(expression)) return checkFunction(expression, scope, findings);
      break;
    default:
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
  { name, arguments: given, span }: Expression & { kind: 'call' },
  scope: Scope,
  findings: Findings,
): Operand | null {
  const [argument] = given;
  if (argument === undefined || given.length > 1) {
    findings.add('T012', `${name.text} takes one argument, and ${given.length} are given`, span);
    return null;
  }
  const operand = checkOperand(argument, scope, findings);
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
export function checkOperandOf(
  expression: Expression,
  type: Type,
  scope: Scope,
  findings: Findings,
): Operand | null {
  if (isLiteral(expression)) return literalBeside(expression, type, findings);
  const operand = checkOperand(expression, scope, findings);
  if (operand === null || comparable(operand.type, type)) return operand;
  findings.add(
    'T012',
    `${typeName(type)} is wanted here, and this is ${typeName(operand.type)}`,
    expression.span,
  );
  return null;
}

function asLiteral(literal: Literal, type: Type, findings: Findings): LiteralOperand | null {
  const value = literalValue(literal, type, findings);
  return value === null ? null : { kind: 'literal', value: value as Scalar, type };
}

/** The types whose literals are written as texts. */
const textual: ReadonlySet<Type['kind']> = new Set(['text', 'one of', 'date', 'timestamp', 'uuid', 'ref']);

/** A literal beside a typed value takes that value's type; a fraction beside an integer stays exact. */
export function literalBeside(literal: Literal, other: Type, findings: Findings): LiteralOperand | null {
  const natural = naturalType(literal);
  const fits =
    literal.kind === 'number'
      ? other.kind === 'integer' || other.kind === 'decimal'
      : literal.kind === 'boolean'
        ? other.kind === 'boolean'
        : textual.has(other.kind);
  if (!fits) {
    findings.add('T001', `${typeName(other)} cannot be compared with ${natural.kind}`, literal.span);
    return null;
  }
  const type = other.kind === 'integer' && natural.kind === 'decimal' ? natural : other;
  return asLiteral(literal, type, findings);
}
