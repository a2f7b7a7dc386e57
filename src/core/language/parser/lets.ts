import type { LetDeclaration } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName, parseCondition } from './expressions.ts';

/** `let NAME(PARAMETER: TYPE, …) = CONDITION`. */
export function parseLet(cursor: Cursor): LetDeclaration {
  const start = cursor.expectKeyword('let', 'here');
  const name = cursor.expectName('a name for the condition');
  cursor.expectSymbol('(', `after ${name.text}`);
  const parameters = cursor.isSymbol(')') ? [] : cursor.list(() => parseParameter(cursor));
  cursor.expectSymbol(')', 'after the last parameter');
  cursor.expectSymbol('=', 'before the condition');
  const body = parseCondition(cursor);
  return { kind: 'let', name, parameters, body, span: cursor.since(start) };
}

/** `hive: hives`, `limit: integer`. */
function parseParameter(cursor: Cursor): LetDeclaration['parameters'][number] {
  const name = cursor.expectName('the name of a parameter');
  cursor.expectSymbol(':', `after ${name.text}`);
  return { name, type: parseCollectionName(cursor) };
}
