import type { TypeName } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName } from './expressions.ts';

/** Types of one word. */
export const simpleTypeWords: ReadonlySet<string> = new Set([
  'text',
  'integer',
  'decimal',
  'boolean',
  'date',
  'timestamp',
  'uuid',
  'json',
]);

/** `text`, `ref hives`, `one of ("a", "b")`, `list of text`. */
export function parseType(cursor: Cursor): TypeName {
  const start = cursor.token.span;
  if (cursor.takeKeyword('ref')) {
    return { kind: 'ref', collection: parseCollectionName(cursor), span: cursor.since(start) };
  }
  if (cursor.takeKeyword('one')) {
    cursor.expectKeyword('of', 'after “one”');
    cursor.expectSymbol('(', 'before the values');
    const values = cursor.list(() => cursor.expectText('a value'));
    cursor.expectSymbol(')', 'after the last value');
    return { kind: 'one of', values, span: cursor.since(start) };
  }
  if (cursor.isWord('list') && cursor.isKeyword('of', 1)) {
    cursor.next();
    cursor.next();
    const of = cursor.nested(() => parseType(cursor));
    return { kind: 'list', of, span: cursor.since(start) };
  }
  return { kind: 'simple', name: cursor.expectName('a type (text, integer, ref COLLECTION, …)') };
}

/** Does a type begin at the token after the present one? */
export function typeFollows(cursor: Cursor): boolean {
  const next = cursor.peek(1);
  if (next.kind === 'keyword') return next.text === 'ref' || next.text === 'one';
  if (next.kind !== 'name') return false;
  return simpleTypeWords.has(next.text) || (next.text === 'list' && cursor.isKeyword('of', 2));
}
