import type { Expression } from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import { simpleTypes, typeName, type Scalar, type Type, type Value } from '../types/types.ts';
import { parseValue } from '../types/values.ts';
import type { Findings } from './context.ts';

export type Literal = Expression & { kind: 'text' | 'number' | 'boolean' };

export function isLiteral(expression: Expression): expression is Literal {
  return expression.kind === 'text' || expression.kind === 'number' || expression.kind === 'boolean';
}

/** The type of a literal that stands beside no typed value. */
export function naturalType(literal: Literal): Type {
  if (literal.kind === 'number')
    return literal.text.includes('.') ? simpleTypes.decimal : simpleTypes.integer;
  return literal.kind === 'text' ? simpleTypes.text : simpleTypes.boolean;
}

/** A literal as a value of the type wanted, or null with what is wrong reported. */
export function literalValue(literal: Literal, type: Type, findings: Findings): Exclude<Value, null> | null {
  const raw = literal.kind === 'number' ? numberFor(literal.text, type) : literal.value;
  const parsed = parseValue(type, raw);
  if (parsed.ok) return parsed.value;
  findings.add('T002', `this value does not fit ${typeName(type)}: it ${parsed.must}`, literal.span);
  return null;
}

function numberFor(text: string, type: Type): string | number {
  // A decimal keeps its digits as they were written; they never pass through floating point.
  return type.kind === 'decimal' ? text : Number(text);
}

/** A literal as an operand of the type wanted. */
export function asLiteral(literal: Literal, type: Type, findings: Findings): LiteralOperand | null {
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

export type LiteralOperand = Operand & { kind: 'literal' };
