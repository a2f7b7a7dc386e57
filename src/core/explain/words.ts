import { callerName } from '../decide/caller.ts';
import type { Condition, Operand, PathOperand } from '../ir/conditions.ts';
import type { Value } from '../types/types.ts';
import { JsonDocument } from '../types/types.ts';

/**
 * A condition in the words of the language. What a `let` stood for is written out, and the records of quantifiers go by
 * the first letters of their collection, so it may differ from what was written; what it says is the same.
 */
export function conditionWords(condition: Condition): string {
  return words(condition, false);
}

/** `tight`: the place binds more tightly than `and`, so what is looser stands in brackets. */
function words(condition: Condition, tight: boolean): string {
  switch (condition.kind) {
    case 'constant':
      return condition.value ? 'always' : 'never';
    case 'equal':
      return `${operandWords(condition.left)} = ${operandWords(condition.right)}`;
    case 'less':
      return `${operandWords(condition.left)} < ${operandWords(condition.right)}`;
    case 'at most':
      return `${operandWords(condition.left)} <= ${operandWords(condition.right)}`;
    case 'contains':
    case 'starts with':
    case 'ends with':
    case 'within':
      return `${operandWords(condition.left)} ${condition.kind} ${operandWords(condition.right)}`;
    case 'member':
      return `${operandWords(condition.operand)} in ${operandWords(condition.list)}`;
    case 'among':
      return `${operandWords(condition.operand)} in (${condition.values.map(operandWords).join(', ')})`;
    case 'missing':
      return `${operandWords(condition.operand)} is missing`;
    case 'holds':
      return operandWords(condition.operand);
    case 'has role':
      return `me has role ${condition.role}`;
    case 'may': {
      const fields = condition.fields.length === 0 ? '' : ` (${condition.fields.join(', ')})`;
      return `me may ${condition.operation} ${operandWords(condition.target)}${fields}`;
    }
    case 'some': {
      const { collection, depth } = condition.range;
      return `some ${variableName(depth)} in ${collection} has (${words(condition.body, false)})`;
    }
    case 'as':
      if (condition.sharing !== undefined)
        return `somebody who shares it could (${words(condition.condition, false)})`;
      return `${callerName(condition.caller)} could by themself (${words(condition.condition, false)})`;
    case 'and':
    case 'or': {
      const joined = condition.operands.map((each) => words(each, true)).join(` ${condition.kind} `);
      return tight ? `(${joined})` : joined;
    }
    case 'not':
      return negated(condition.operand);
  }
}

function negated(condition: Condition): string {
  switch (condition.kind) {
    case 'equal':
      return `${operandWords(condition.left)} != ${operandWords(condition.right)}`;
    case 'missing':
      return `${operandWords(condition.operand)} is present`;
    case 'some': {
      const { collection, depth } = condition.range;
      return `no ${variableName(depth)} in ${collection} has (${words(condition.body, false)})`;
    }
    case 'among':
    case 'and':
    case 'as':
    case 'at most':
    case 'constant':
    case 'contains':
    case 'ends with':
    case 'has role':
    case 'holds':
    case 'less':
    case 'may':
    case 'member':
    case 'not':
    case 'or':
    case 'starts with':
    case 'within':
      return `not (${words(condition, false)})`;
  }
}

export function operandWords(operand: Operand): string {
  switch (operand.kind) {
    case 'literal':
      return typeof operand.value === 'string' ? JSON.stringify(operand.value) : String(operand.value);
    case 'nothing':
      return 'missing';
    case 'now':
    case 'today':
      return operand.kind;
    case 'path':
      return pathWords(operand);
    case 'lower':
    case 'length':
      return `${operand.kind}(${operandWords(operand.operand)})`;
    case 'shift': {
      const { days, minutes } = operand;
      const amount = days === 0 ? minutes : days;
      const [number, unit] =
        days !== 0 ? [days, 'days'] : amount % 60 === 0 ? [amount / 60, 'hours'] : [amount, 'minutes'];
      return `${operandWords(operand.operand)} ${number < 0 ? '-' : '+'} ${Math.abs(number)} ${unit}`;
    }
    case 'count': {
      const { collection, depth } = operand.range;
      return `count(${variableName(depth)} in ${collection} where ${words(operand.where, false)})`;
    }
  }
}

function pathWords({ root, steps }: PathOperand): string {
  // The id of a record is written as the record itself.
  const named = steps.map((step) => step.field).filter((field, index) => field !== 'id' || index > 0);
  switch (root) {
    case 'record':
      return named.length === 0 ? 'this' : named.join('.');
    case 'me':
    case 'old':
    case 'new':
      return [root, ...named].join('.');
    default:
      return [variableName(root), ...named].join('.');
  }
}

/** The record that a quantifier of this depth speaks of. */
export function variableName(depth: number): string {
  return depth === 1 ? 'it' : `it${depth}`;
}

/** A value as the language writes it; a missing one says so. */
export function valueWords(value: Value): string {
  if (value === null) return 'missing';
  if (value instanceof JsonDocument) return JSON.stringify(value.json);
  if (Array.isArray(value)) return `[${value.map((each) => valueWords(each as Value)).join(', ')}]`;
  return typeof value === 'string' ? JSON.stringify(value) : String(value);
}
