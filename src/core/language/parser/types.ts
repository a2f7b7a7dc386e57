import type { TypeName } from '../ast.ts';
import type { Span } from '../span.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName } from './expressions.ts';
import { foreignTypes } from './mistakes.ts';

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
  if (cursor.takeKeyword('ref') || takeReferences(cursor)) {
    if (cursor.isSymbol('(')) return parseBracketedRef(cursor, start);
    return { kind: 'ref', collection: parseCollectionName(cursor), span: cursor.since(start) };
  }
  const isEnum = cursor.isWord('enum');
  if (isEnum) cursor.instead('a choice is written “one of (…)”', cursor.next().span, 'one of ');
  if (isEnum || cursor.takeKeyword('one')) {
    if (!isEnum) cursor.expectKeyword('of', 'after “one”');
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
  const name = cursor.expectName('a type (text, integer, ref COLLECTION, …)');
  const meant = Object.hasOwn(foreignTypes, name.text) ? foreignTypes[name.text] : undefined;
  if (meant === undefined) return { kind: 'simple', name };
  // A length or a precision, which types have none of here.
  if (cursor.takeSymbol('(')) {
    cursor.list(() => cursor.next());
    cursor.expectSymbol(')', 'to close the bracket');
  }
  const span = cursor.since(start);
  cursor.instead(`“${name.text}” is written “${meant}” here`, span, meant);
  return { kind: 'simple', name: { text: meant, span } };
}

/** `references`. */
function takeReferences(cursor: Cursor): boolean {
  if (!cursor.isWord('references')) return false;
  cursor.instead('what points at another record is written “ref COLLECTION”', cursor.next().span, 'ref');
  return true;
}

/** `ref(people)`. */
function parseBracketedRef(cursor: Cursor, start: Span): TypeName {
  const open = cursor.next().span;
  const collection = parseCollectionName(cursor);
  cursor.expectSymbol(')', 'to close the bracket');
  const span = cursor.since(open);
  cursor.instead('the collection stands without brackets: “ref COLLECTION”', span, ` ${collection.text}`);
  return { kind: 'ref', collection, span: cursor.since(start) };
}

/** Does a type begin at the token after the present one, or a title, which stands before a type alone? */
export function typeFollows(cursor: Cursor): boolean {
  const at = cursor.peek(1).kind === 'text' ? 2 : 1;
  const next = cursor.peek(at);
  if (next.kind === 'keyword') return next.text === 'ref' || next.text === 'one';
  if (next.kind !== 'name') return false;
  return simpleTypeWords.has(next.text) || (next.text === 'list' && cursor.isKeyword('of', at + 1));
}
