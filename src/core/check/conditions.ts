import type { Expression, Name } from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import { suggestion } from '../diagnostics/suggest.ts';
import { limits } from '../language/limits.ts';
import { always, negate, type Condition, type Operand, type Range } from '../ir/conditions.ts';
import { simpleTypes, typeName, type Type } from '../types/types.ts';
import { comparable, comparisons, ordered } from './comparisons.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue, naturalType, type Literal } from './literals.ts';
import { recordOperand, resolvePath } from './paths.ts';
import { unknownCollection } from './schema.ts';
import type { Scope } from './scope.ts';
import { shifted } from './times.ts';

type LiteralOperand = Operand & { kind: 'literal' };

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
    case 'within':
      return checkWithin(expression, scope, findings);
    case 'text test':
      return checkTextTest(expression, scope, findings);
    case 'quantified': {
      const body = checkRange(expression, expression.body, scope, findings);
      if (body === null) return null;
      const some: Condition = { kind: 'some', range: body.range, body: body.condition };
      return expression.quantifier === 'some' ? some : negate(some);
    }
    case 'has role':
      if (scope.filter) return refuseInFilter(expression.span, findings);
      if (scope.roles.has(expression.role.text)) return { kind: 'has role', role: expression.role.text };
      findings.add(
        'N003',
        `nobody declared a role “${expression.role.text}”`,
        expression.role.span,
        suggestion(expression.role.text, scope.roles),
      );
      return null;
    case 'may':
      return scope.filter ? refuseInFilter(expression.span, findings) : checkMay(expression, scope, findings);
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

function refuseInFilter(span: Span, findings: Findings): null {
  findings.add('R008', 'a filter speaks of the fields of a record, and compares them with values', span);
  return null;
}

function isFunction(call: Expression & { kind: 'call' }): boolean {
  return call.name.text === 'lower' || call.name.text === 'length';
}

/** `me may read hive`: the path leads to one record, and the fields are of its collection. */
function checkMay(
  expression: Expression & { kind: 'may' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const { operation, target, fields } = expression;
  const path = resolvePath(target, scope, findings);
  if (path === null) return null;
  if (path.kind !== 'path' || path.type.kind !== 'ref') {
    findings.add(
      'T003',
      `“me may ${operation}” is about a record, and this is ${typeName(path.type)}`,
      target.span,
    );
    return null;
  }
  const { collection } = path.type;
  const known = scope.schema.get(collection)!.fields;
  for (const field of fields) {
    if (known.has(field.text)) continue;
    findings.add(
      'N002',
      `${collection} has no field “${field.text}”`,
      field.span,
      suggestion(field.text, known.keys()),
    );
    return null;
  }
  return { kind: 'may', operation, collection, target: path, fields: fields.map((field) => field.text) };
}

/** `v in visits`, and a condition over it: the variable may hide no other name. */
function checkRange(
  range: { readonly variable: Name; readonly collection: Name; readonly span: Span },
  body: Expression | null,
  scope: Scope,
  findings: Findings,
): { range: Range; condition: Condition } | null {
  const { variable, collection } = range;
  if (scope.filter) return refuseInFilter(range.span, findings);
  if (!scope.schema.has(collection.text)) {
    unknownCollection(collection, scope.schema.keys(), findings);
    return null;
  }
  const isField = scope.record !== null && scope.schema.get(scope.record)!.fields.has(variable.text);
  if (isField || scope.variables.has(variable.text)) {
    findings.add(
      'N005',
      `“${variable.text}” has a meaning here already`,
      variable.span,
      'choose another name',
    );
    return null;
  }
  const depth = scope.depth + 1;
  const variables = new Map(scope.variables).set(variable.text, recordOperand(depth, collection.text));
  const condition = body === null ? always : checkCondition(body, { ...scope, variables, depth }, findings);
  return condition === null ? null : { range: { collection: collection.text, depth }, condition };
}

/** Both sides are records of one collection, and that is a tree. */
function checkWithin(
  expression: Expression & { kind: 'within' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const left = checkOperand(expression.left, scope, findings);
  const right = checkOperand(expression.right, scope, findings);
  if (left === null || right === null) return null;
  if (
    left.type.kind !== 'ref' ||
    right.type.kind !== 'ref' ||
    left.type.collection !== right.type.collection
  ) {
    const types = `${typeName(left.type)} and ${typeName(right.type)}`;
    findings.add(
      'T001',
      `“within” is about two records of one tree, and these are ${types}`,
      expression.span,
    );
    return null;
  }
  const { collection } = left.type;
  const { tree } = scope.schema.get(collection)!;
  if (tree !== null) return { kind: 'within', left, right, parent: { collection, field: tree } };
  findings.add(
    'T013',
    `${collection} is no tree`,
    expression.span,
    `say so in its block, such as: tree by parent`,
  );
  return null;
}

function checkTextTest(
  expression: Expression & { kind: 'text test' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const [left, right] = [expression.left, expression.right].map((each) => {
    const operand = checkOperand(each, scope, findings);
    if (operand === null || operand.type.kind === 'text' || operand.type.kind === 'one of') return operand;
    findings.add(
      'T001',
      `“${expression.operator}” is about texts, and this is ${typeName(operand.type)}`,
      each.span,
    );
    return null;
  }) as [Operand | null, Operand | null];
  return left === null || right === null ? null : { kind: expression.operator, left, right };
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
