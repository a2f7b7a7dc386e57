import type { CompareOperator, Expression, Name } from '../ast.ts';
import { limits } from '../limits.ts';
import { spanning } from '../span.ts';
import type { Cursor } from './cursor.ts';

const comparisons: ReadonlySet<string> = new Set(['=', '!=', '<', '<=', '>', '>=']);

/** `or` binds loosest, then `and`, then `not`, then comparisons: docs/language.md, “Grammar”. */
export function parseCondition(cursor: Cursor): Expression {
  return parseChain(cursor, 'or', () => parseChain(cursor, 'and', () => parseNot(cursor)));
}

function parseChain(cursor: Cursor, word: 'and' | 'or', operand: () => Expression): Expression {
  const first = operand();
  if (!cursor.isKeyword(word)) return first;
  const operands = [first];
  while (cursor.takeKeyword(word)) {
    operands.push(operand());
    if (operands.length > limits.conditionParts) {
      cursor.fail('P003', `this condition has more than ${limits.conditionParts} parts`);
    }
  }
  return { kind: word, operands, span: spanning(first.span, operands.at(-1)!.span) };
}

function parseNot(cursor: Cursor): Expression {
  const start = cursor.token.span;
  if (!cursor.takeKeyword('not')) return parsePredicate(cursor);
  const operand = cursor.nested(() => parseNot(cursor));
  return { kind: 'not', operand, span: spanning(start, operand.span) };
}

function parsePredicate(cursor: Cursor): Expression {
  const left = parseOperand(cursor);
  const token = cursor.token;
  if (token.kind === 'symbol' && comparisons.has(token.text)) {
    cursor.next();
    const right = parseOperand(cursor);
    return {
      kind: 'compare',
      operator: token.text as CompareOperator,
      left,
      right,
      span: spanning(left.span, right.span),
    };
  }
  if (cursor.isKeyword('in') || (cursor.isKeyword('not') && cursor.isKeyword('in', 1))) {
    const negated = cursor.takeKeyword('not');
    cursor.next();
    cursor.expectSymbol('(', 'after “in”');
    const items = cursor.list(() => parseOperand(cursor));
    cursor.expectSymbol(')', 'after the last value of the list');
    return { kind: 'in', operand: left, items, negated, span: cursor.since(left.span) };
  }
  if (cursor.takeKeyword('is')) {
    const negated = cursor.isKeyword('present');
    if (!cursor.takeKeyword('missing') && !cursor.takeKeyword('present')) {
      cursor.fail('P001', 'expected “missing” or “present” after “is”', 'two values are compared with =');
    }
    return { kind: 'missing', operand: left, negated, span: cursor.since(left.span) };
  }
  return left;
}

/** A value, or a condition in brackets. */
export function parseOperand(cursor: Cursor): Expression {
  const token = cursor.token;
  const start = token.span;
  switch (token.kind) {
    case 'text':
      cursor.next();
      return { kind: 'text', value: token.value, span: start };
    case 'number':
      cursor.next();
      return { kind: 'number', text: token.text, span: start };
    case 'name':
      return { kind: 'path', root: 'bare', steps: parseSteps(cursor), span: cursor.since(start) };
    case 'symbol':
      if (token.text === '-') {
        cursor.next();
        const digits = cursor.token;
        if (digits.kind !== 'number') return cursor.fail('P001', 'expected a number after “-”');
        cursor.next();
        return { kind: 'number', text: `-${digits.text}`, span: cursor.since(start) };
      }
      if (token.text === '(') {
        return cursor.nested(() => {
          cursor.next();
          const inner = parseCondition(cursor);
          cursor.expectSymbol(')', 'to close the bracket');
          return { ...inner, span: cursor.since(start) };
        });
      }
      break;
    case 'keyword':
      if (token.text === 'true' || token.text === 'false') {
        cursor.next();
        return { kind: 'boolean', value: token.text === 'true', span: start };
      }
      if (token.text === 'now') {
        cursor.next();
        return { kind: 'now', span: start };
      }
      if (token.text === 'me' || token.text === 'this') {
        cursor.next();
        const steps = cursor.takeSymbol('.') ? parseSteps(cursor) : [];
        return { kind: 'path', root: token.text, steps, span: cursor.since(start) };
      }
      return cursor.fail(
        'P001',
        'expected a value or a condition',
        `as the name of a field, write it in backticks: \`${token.text}\``,
      );
    case 'end':
      break;
  }
  return cursor.fail('P001', 'expected a value or a condition');
}

function parseSteps(cursor: Cursor): Name[] {
  const steps = [cursor.expectName('the name of a field')];
  while (cursor.takeSymbol('.')) {
    steps.push(cursor.expectName('the name of a field'));
    if (steps.length > limits.pathSteps) {
      cursor.fail('T010', `a path has at most ${limits.pathSteps} steps`);
    }
  }
  return steps;
}
