import type { CompareOperator, DurationUnit, Expression, Name, TextOperator } from '../ast.ts';
import { limits } from '../limits.ts';
import { spanning } from '../span.ts';
import type { Cursor } from './cursor.ts';
import { isNothing, likePattern } from './mistakes.ts';

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
  if (cursor.isKeyword('some') || cursor.isKeyword('no')) return parseQuantified(cursor);
  const left = parseOperand(cursor);
  const token = cursor.token;
  if (cursor.takeKeyword('within')) {
    const right = parseOperand(cursor);
    return { kind: 'within', left, right, span: spanning(left.span, right.span) };
  }
  const test = takeTextOperator(cursor);
  if (test !== null) {
    const right = parseOperand(cursor);
    return { kind: 'text test', operator: test, left, right, span: spanning(left.span, right.span) };
  }
  if (cursor.isKeyword('may') && left.kind === 'path' && left.root === 'me' && left.steps.length === 0) {
    return parseMay(cursor, left.span);
  }
  if (cursor.isKeyword('has') && left.kind === 'path' && left.root === 'me' && left.steps.length === 0) {
    cursor.next();
    cursor.expectKeyword('role', 'after “me has”');
    const role = cursor.expectName('the name of a role');
    return { kind: 'has role', role, span: cursor.since(left.span) };
  }
  if (cursor.isWord('like') || cursor.isWord('ilike')) return parseLike(cursor, left);
  if (cursor.isWord('between')) return parseBetween(cursor, left);
  if (token.kind === 'symbol' && comparisons.has(token.text)) {
    cursor.next();
    if ((token.text === '=' || token.text === '!=') && isNothing(cursor))
      return askMissing(cursor, left, token.span, token.text === '!=');
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
    if (cursor.token.kind === 'text' || cursor.token.kind === 'number') {
      const start = cursor.token.span;
      const items = cursor.list(() => parseOperand(cursor));
      const span = cursor.since(start);
      cursor.instead('the values of a list stand in brackets', span, `(${cursor.textOf(span)})`);
      return { kind: 'in', operand: left, items, negated, span: cursor.since(left.span) };
    }
    if (!cursor.isSymbol('(')) {
      const list = parseOperand(cursor);
      return { kind: 'in list', operand: left, list, negated, span: cursor.since(left.span) };
    }
    cursor.next();
    const items = cursor.list(() => parseOperand(cursor));
    cursor.expectSymbol(')', 'after the last value of the list');
    return { kind: 'in', operand: left, items, negated, span: cursor.since(left.span) };
  }
  return cursor.isKeyword('is') ? parseIs(cursor, left) : left;
}

/** `is missing`, `is present`; and what others put behind “is”. */
function parseIs(cursor: Cursor, left: Expression): Expression {
  const start = cursor.next().span;
  const not = cursor.isKeyword('not') ? cursor.next().span : null;
  if (not === null && (cursor.isKeyword('missing') || cursor.isKeyword('present'))) {
    const negated = cursor.takeKeyword('present');
    if (!negated) cursor.next();
    return { kind: 'missing', operand: left, negated, span: cursor.since(left.span) };
  }
  if (isNothing(cursor)) return askMissing(cursor, left, start, not !== null);
  if (cursor.isKeyword('present')) {
    cursor.next();
    cursor.instead('the opposite of “is present” is “is missing”', cursor.since(start), 'is missing');
    return { kind: 'missing', operand: left, negated: false, span: cursor.since(left.span) };
  }
  if (cursor.isKeyword('true') || cursor.isKeyword('false')) {
    const isTrue = cursor.isKeyword('true') === (not === null);
    cursor.next();
    const span = cursor.since(left.span);
    const value = cursor.textOf(left.span);
    const said = isTrue ? 'a boolean stands by itself' : 'the opposite of a boolean is written with “not”';
    cursor.instead(said, span, isTrue ? value : `not ${value}`);
    return isTrue ? left : { kind: 'not', operand: left, span };
  }
  const operator = not === null ? '=' : '!=';
  const words = cursor.since(start);
  const right = parseOperand(cursor);
  cursor.instead(`two values are compared with “${operator}”`, words, operator);
  return { kind: 'compare', operator, left, right, span: cursor.since(left.span) };
}

/** `= null` and its like: whether a value is missing is asked by itself, as a comparison with it is never true. */
function askMissing(
  cursor: Cursor,
  left: Expression,
  from: Expression['span'],
  negated: boolean,
): Expression {
  cursor.next();
  const right = negated ? 'is present' : 'is missing';
  cursor.instead(`whether there is a value is asked with “${right}”`, cursor.since(from), right);
  return { kind: 'missing', operand: left, negated, span: cursor.since(left.span) };
}

/** `like "%x%"`. */
function parseLike(cursor: Cursor, left: Expression): Expression {
  const start = cursor.next().span;
  const { token } = cursor;
  const pattern = token.kind === 'text' ? likePattern(token.value) : null;
  if (pattern === null)
    return cursor.fail('P001', 'texts are compared with contains, starts with or ends with, not “like”');
  cursor.next();
  const { operator, text } = pattern;
  const span = cursor.since(start);
  cursor.instead(
    'texts are compared with contains, starts with or ends with, not “like”',
    span,
    `${operator} ${JSON.stringify(text)}`,
  );
  const right: Expression = { kind: 'text', value: text, span: token.span };
  const whole = cursor.since(left.span);
  return operator === '='
    ? { kind: 'compare', operator, left, right, span: whole }
    : { kind: 'text test', operator: operator as TextOperator, left, right, span: whole };
}

/** `between 1 and 5`. */
function parseBetween(cursor: Cursor, left: Expression): Expression {
  const start = cursor.next().span;
  const least = parseOperand(cursor);
  cursor.expectKeyword('and', 'between the two bounds');
  const most = parseOperand(cursor);
  const span = cursor.since(left.span);
  const value = cursor.textOf(left.span);
  cursor.instead(
    'what lies between two values is written with “>=” and “<=”',
    cursor.since(start),
    `>= ${cursor.textOf(least.span)} and ${value} <= ${cursor.textOf(most.span)}`,
  );
  return {
    kind: 'and',
    operands: [
      { kind: 'compare', operator: '>=', left, right: least, span },
      { kind: 'compare', operator: '<=', left, right: most, span },
    ],
    span,
  };
}

/** `me may read hive`, `me may update hive (notes)`, `me may delete this.hive`. */
function parseMay(cursor: Cursor, start: Expression['span']): Expression {
  cursor.expectKeyword('may', 'here');
  const { token } = cursor;
  const word = token.kind === 'keyword' ? token.text : '';
  if (word !== 'read' && word !== 'update' && word !== 'delete') {
    return cursor.fail('P001', 'expected read, update or delete after “me may”');
  }
  cursor.next();
  const target = parsePath(cursor);
  if (word !== 'update')
    return { kind: 'may', operation: word, target, fields: [], span: cursor.since(start) };
  cursor.expectSymbol('(', 'and the fields, as in “me may update hive (notes)”');
  const fields = cursor.list(() => cursor.expectName('the name of a field'));
  cursor.expectSymbol(')', 'after the last field');
  return { kind: 'may', operation: word, target, fields, span: cursor.since(start) };
}

/** A path alone, which a bracket may follow. */
function parsePath(cursor: Cursor): Expression & { kind: 'path' } {
  const start = cursor.token.span;
  for (const root of ['this', 'old', 'new'] as const) {
    if (!cursor.takeKeyword(root)) continue;
    const steps = cursor.takeSymbol('.') ? parseSteps(cursor) : [];
    return { kind: 'path', root, steps, span: cursor.since(start) };
  }
  return { kind: 'path', root: 'bare', steps: parseSteps(cursor), span: cursor.since(start) };
}

/** `some v in visits has (…)`: its brackets are always written, so that it is plain how far it reaches. */
function parseQuantified(cursor: Cursor): Expression {
  const start = cursor.token.span;
  const quantifier = cursor.takeKeyword('some') ? 'some' : (cursor.next(), 'no' as const);
  const { variable, collection } = parseRange(cursor);
  cursor.expectKeyword('has', `after ${collection.text}`);
  cursor.expectSymbol('(', 'after “has”');
  const body = cursor.nested(() => parseCondition(cursor));
  cursor.expectSymbol(')', 'to close the bracket');
  return { kind: 'quantified', quantifier, variable, collection, body, span: cursor.since(start) };
}

/** `v in visits`. */
export function parseRange(cursor: Cursor): { variable: Name; collection: Name } {
  const variable = cursor.expectName('a name for the record, such as v');
  cursor.expectKeyword('in', `after ${variable.text}`);
  return { variable, collection: parseCollectionName(cursor) };
}

/** The name of a collection: any name, or the built-in `people`. */
export function parseCollectionName(cursor: Cursor): Name {
  if (cursor.isKeyword('people')) return { text: 'people', span: cursor.next().span };
  return cursor.expectName('the name of a collection');
}

function takeTextOperator(cursor: Cursor): TextOperator | null {
  if (cursor.takeKeyword('contains')) return 'contains';
  for (const word of ['starts', 'ends'] as const) {
    if (!cursor.isWord(word) || !cursor.peekWord('with')) continue;
    cursor.next();
    cursor.next();
    return `${word} with`;
  }
  return null;
}

const units: Readonly<Record<string, DurationUnit>> = {
  minute: 'minutes',
  minutes: 'minutes',
  hour: 'hours',
  hours: 'hours',
  day: 'days',
  days: 'days',
  week: 'weeks',
  weeks: 'weeks',
};

/** A value, which may be moved in time: `created_at + 48 hours - 5 minutes`. Or a condition in brackets. */
export function parseOperand(cursor: Cursor): Expression {
  let operand = parseSimpleOperand(cursor);
  for (let moved = 0; cursor.isSymbol('+') || cursor.isSymbol('-'); moved++) {
    if (moved >= limits.pathSteps) cursor.fail('P003', `a time is moved at most ${limits.pathSteps} times`);
    const backwards = cursor.takeSymbol('-');
    if (!backwards) cursor.next();
    operand = {
      kind: 'shift',
      operand,
      backwards,
      ...parseDuration(cursor),
      span: cursor.since(operand.span),
    };
  }
  return operand;
}

function parseDuration(cursor: Cursor): { amount: number; unit: DurationUnit } {
  const amount = cursor.token;
  const word = cursor.peek(1);
  const unit = word.kind === 'name' && Object.hasOwn(units, word.text) ? units[word.text] : undefined;
  if (amount.kind !== 'number' || !/^\d{1,7}$/.test(amount.text) || unit === undefined) {
    return cursor.fail('P001', 'expected a duration such as 48 hours', 'units: minutes, hours, days, weeks');
  }
  cursor.next();
  cursor.next();
  return { amount: Number(amount.text), unit };
}

function parseSimpleOperand(cursor: Cursor): Expression {
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
      if (cursor.isSymbol('(', 1)) return parseCall(cursor);
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
      if (token.text === 'now' || token.text === 'today') {
        cursor.next();
        if (cursor.isSymbol('(') && cursor.isSymbol(')', 1)) {
          const brackets = { ...cursor.token.span, end: cursor.peek(1).span.end };
          cursor.instead(`“${token.text}” stands without brackets`, brackets, '');
          cursor.next();
          cursor.next();
        }
        return { kind: token.text, span: start };
      }
      if (token.text === 'me' || token.text === 'this' || token.text === 'old' || token.text === 'new') {
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

/** `lower(code)`, `on_duty(this)`, `count(v in visits where …)`. */
function parseCall(cursor: Cursor): Expression {
  const name = cursor.expectName('a name');
  cursor.expectSymbol('(', `after ${name.text}`);
  return cursor.nested(() => {
    if (name.text === 'count') {
      const { variable, collection } = parseRange(cursor);
      const where = cursor.takeKeyword('where') ? parseCondition(cursor) : null;
      cursor.expectSymbol(')', 'to close the bracket');
      return { kind: 'count', variable, collection, where, span: cursor.since(name.span) };
    }
    const given = cursor.isSymbol(')') ? [] : cursor.list(() => parseOperand(cursor));
    cursor.expectSymbol(')', 'after the last argument');
    return { kind: 'call', name, arguments: given, span: cursor.since(name.span) };
  });
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
