import type { CompareOperator, Expression } from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import { negate, type Condition, type Operand } from '../ir/conditions.ts';
import { simpleTypes, typeName, type Type } from '../types/types.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue, naturalType, type Literal } from './literals.ts';
import { resolvePath, type Scope } from './paths.ts';

type LiteralOperand = Operand & { kind: 'literal' };

/**
 * Types a condition and brings it into normal form; null where something is wrong, all of it reported.
 * Nothing that passes here can fail in the closures or in SQL. Recursion is bounded by `limits.nesting`.
 */
export function checkCondition(expression: Expression, scope: Scope, findings: Findings): Condition | null {
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
      return checkComparison(expression, scope, findings);
    case 'in':
      return checkAmong(expression, scope, findings);
    case 'missing': {
      const operand = checkOperand(expression.operand, scope, findings);
      if (operand === null) return null;
      const missing: Condition = { kind: 'missing', operand };
      return expression.negated ? negate(missing) : missing;
    }
    case 'boolean':
      return { kind: 'constant', value: expression.value };
    case 'path': {
      const operand = resolvePath(expression, scope, findings);
      if (operand === null) return null;
      if (operand.type.kind === 'boolean') return { kind: 'holds', operand };
      return needsCondition(expression.span, typeName(operand.type), findings);
    }
    case 'text':
    case 'number':
    case 'now':
      return needsCondition(
        expression.span,
        expression.kind === 'now' ? 'timestamp' : expression.kind,
        findings,
      );
  }
}

function needsCondition(span: Span, type: string, findings: Findings): null {
  findings.add(
    'T004',
    `a condition is needed here, and this is a value (${type})`,
    span,
    'compare it with something',
  );
  return null;
}

/** A value: a literal takes the type that it has by itself. */
function checkOperand(expression: Expression, scope: Scope, findings: Findings): Operand | null {
  if (isLiteral(expression)) return asLiteral(expression, naturalType(expression), findings);
  if (expression.kind === 'now') return { kind: 'now', type: simpleTypes.timestamp };
  if (expression.kind === 'path') return resolvePath(expression, scope, findings);
  findings.add(
    'T001',
    'a condition cannot be compared as if it were a value',
    expression.span,
    'join conditions with and, or',
  );
  return null;
}

function asLiteral(literal: Literal, type: Type, findings: Findings): LiteralOperand | null {
  const value = literalValue(literal, type, findings);
  return value === null ? null : { kind: 'literal', value, type };
}

/** A literal beside a typed value takes that value's type; a fraction beside an integer stays exact. */
function literalBeside(literal: Literal, other: Type, findings: Findings): LiteralOperand | null {
  const natural = naturalType(literal);
  const fits =
    literal.kind === 'number'
      ? other.kind === 'integer' || other.kind === 'decimal'
      : literal.kind === 'boolean'
        ? other.kind === 'boolean'
        : other.kind !== 'integer' && other.kind !== 'decimal' && other.kind !== 'boolean';
  if (!fits) {
    findings.add('T001', `${typeName(other)} cannot be compared with ${natural.kind}`, literal.span);
    return null;
  }
  const type = other.kind === 'integer' && natural.kind === 'decimal' ? natural : other;
  return asLiteral(literal, type, findings);
}

function checkPair(
  left: Expression,
  right: Expression,
  scope: Scope,
  findings: Findings,
): [Operand, Operand] | null {
  if (isLiteral(left) !== isLiteral(right)) {
    const [literal, other] = isLiteral(left) ? [left, right] : [right as Literal, left];
    const typed = checkOperand(other, scope, findings);
    if (typed === null) return null;
    const operand = literalBeside(literal, typed.type, findings);
    if (operand === null) return null;
    return literal === left ? [operand, typed] : [typed, operand];
  }
  const a = checkOperand(left, scope, findings);
  const b = checkOperand(right, scope, findings);
  if (a === null || b === null) return null;
  if (comparable(a.type, b.type)) return [a, b];
  findings.add('T001', `${typeName(a.type)} cannot be compared with ${typeName(b.type)}`, {
    ...left.span,
    end: right.span.end,
  });
  return null;
}

function comparable(a: Type, b: Type): boolean {
  if (a.kind === 'ref' && b.kind === 'ref') return a.collection === b.collection;
  const family = (type: Type) =>
    type.kind === 'one of' ? 'text' : type.kind === 'integer' ? 'decimal' : type.kind;
  return family(a) === family(b);
}

const ordered: ReadonlySet<Type['kind']> = new Set(['text', 'integer', 'decimal', 'date', 'timestamp']);

function checkComparison(
  expression: Expression & { kind: 'compare' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const pair = checkPair(expression.left, expression.right, scope, findings);
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

const comparisons: Readonly<Record<CompareOperator, (left: Operand, right: Operand) => Condition>> = {
  '=': (left, right) => ({ kind: 'equal', left, right }),
  '!=': (left, right) => negate({ kind: 'equal', left, right }),
  '<': (left, right) => ({ kind: 'less', left, right }),
  '<=': (left, right) => ({ kind: 'at most', left, right }),
  '>': (left, right) => ({ kind: 'less', left: right, right: left }),
  '>=': (left, right) => ({ kind: 'at most', left: right, right: left }),
};

function checkAmong(
  expression: Expression & { kind: 'in' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const operand = checkOperand(expression.operand, scope, findings);
  if (operand === null) return null;
  const values: LiteralOperand[] = [];
  let failed = false;
  for (const item of expression.items) {
    if (!isLiteral(item)) {
      findings.add('T001', 'the list after “in” holds plain values', item.span, 'join comparisons with “or”');
      failed = true;
      continue;
    }
    const value = literalBeside(item, operand.type, findings);
    if (value === null) failed = true;
    else values.push(value);
  }
  if (failed) return null;
  const among: Condition = { kind: 'among', operand, values };
  return expression.negated ? negate(among) : among;
}
