import type { AttributeDeclaration, ClaimDeclaration, EveryExpression } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCondition, parseOperand, parseRange } from './expressions.ts';
import { parseType } from './types.ts';
import { parseWas } from './was.ts';

/** `attribute NAME TYPE = VALUE`, or `= every VALUE for VARIABLE in COLLECTION [where CONDITION]`. */
export function parseAttribute(cursor: Cursor): AttributeDeclaration {
  const start = cursor.expectKeyword('attribute', 'here');
  const name = cursor.expectName('the name of the attribute');
  const type = parseType(cursor);
  const was = parseWas(cursor);
  cursor.expectSymbol('=', 'before what it is worked out from');
  const every = cursor.isWord('every') && !cursor.isSymbol('.', 1) && !cursor.isSymbol('(', 1);
  const value = every ? parseEvery(cursor) : parseOperand(cursor);
  return { kind: 'attribute', name, type, was, value, span: cursor.since(start) };
}

function parseEvery(cursor: Cursor): EveryExpression {
  const start = cursor.next().span;
  const value = parseOperand(cursor);
  if (!cursor.isWord('for')) cursor.fail('P001', 'expected “for” and the records that it is taken from');
  cursor.next();
  const { variable, collection } = parseRange(cursor);
  const where = cursor.takeKeyword('where') ? parseCondition(cursor) : null;
  return { kind: 'every', value, variable, collection, where, span: cursor.since(start) };
}

/** `claim NAME TYPE from "CLAIM"`: what the caller's token says. */
export function parseClaim(cursor: Cursor): ClaimDeclaration {
  const start = cursor.expectKeyword('claim', 'here');
  const name = cursor.expectName('the name of the attribute');
  const type = parseType(cursor);
  const was = parseWas(cursor);
  if (!cursor.isWord('from')) cursor.fail('P001', 'expected “from” and the name of the claim');
  cursor.next();
  const claim = cursor.expectText('the name of the claim').value;
  return { kind: 'claim', name, type, was, claim, span: cursor.since(start) };
}
