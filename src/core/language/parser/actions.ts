import type { ActionDeclaration, InvariantDeclaration } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName, parseCondition } from './expressions.ts';
import { parseAssignment, parseFieldList, parseOperation } from './rules.ts';
import { parseType } from './types.ts';

/** `action NAME on COLLECTION [(PARAMETER TYPE [required], …)] [sets FIELD = VALUE, …]`. */
export function parseAction(cursor: Cursor): ActionDeclaration {
  const start = cursor.expectKeyword('action', 'here');
  const name = cursor.expectName('the name of the action');
  if (!cursor.isWord('on')) cursor.fail('P001', 'expected “on” and the collection');
  cursor.next();
  const collection = parseCollectionName(cursor);
  let parameters: ActionDeclaration['parameters'] = [];
  if (cursor.takeSymbol('(')) {
    parameters = cursor.isSymbol(')') ? [] : cursor.list(() => parseParameter(cursor));
    cursor.expectSymbol(')', 'after the last parameter');
  }
  let sets: ActionDeclaration['sets'] = [];
  if (cursor.isWord('sets')) {
    cursor.next();
    sets = cursor.list(() => parseAssignment(cursor));
  }
  return { kind: 'action', name, collection, parameters, sets, span: cursor.since(start) };
}

function parseParameter(cursor: Cursor): ActionDeclaration['parameters'][number] {
  const name = cursor.expectName('the name of a parameter');
  const type = parseType(cursor);
  const required = cursor.isWord('required');
  if (required) cursor.next();
  return { name, type, required };
}

/** `invariant "TITLE" OPERATION COLLECTION [(FIELDS)] only if CONDITION`. */
export function parseInvariant(cursor: Cursor): InvariantDeclaration {
  const start = cursor.expectKeyword('invariant', 'here');
  const title = cursor.expectText('what must hold');
  const named = parseOperation(cursor);
  if (named.fields !== null) cursor.fail('P001', 'expected the collection; the fields come behind it');
  const collection = parseCollectionName(cursor);
  const fields = cursor.isSymbol('(') ? parseFieldList(cursor) : null;
  const operation = { ...named, fields };
  cursor.expectKeyword('only', `after ${collection.text}`);
  if (!cursor.isWord('if')) cursor.fail('P001', 'expected “if” and a condition');
  cursor.next();
  const only = parseCondition(cursor);
  return { kind: 'invariant', title, operation, collection, only, span: cursor.since(start) };
}
