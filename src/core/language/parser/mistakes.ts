import type { Keyword } from '../tokens.ts';
import type { Cursor } from './cursor.ts';

/**
 * What people write who come from another language, and what it is called here. Each is reported with a fix, and read as what was
 * meant, so that nothing after it is misunderstood.
 */

/** Words for a value that is missing. */
const nothing: ReadonlySet<string> = new Set(['null', 'nil', 'none', 'undefined', 'nothing']);

/** Words for “may”. */
const permitting: ReadonlySet<string> = new Set(['can', 'could', 'should', 'must', 'shall', 'might']);

/** Types of other languages. */
export const foreignTypes: Readonly<Record<string, string>> = {
  string: 'text', str: 'text', varchar: 'text', char: 'text', character: 'text',
  int: 'integer', bigint: 'integer', smallint: 'integer', long: 'integer', number: 'integer',
  float: 'decimal', double: 'decimal', numeric: 'decimal', real: 'decimal', money: 'decimal',
  bool: 'boolean',
  datetime: 'timestamp', timestamptz: 'timestamp', time: 'timestamp',
  jsonb: 'json', object: 'json',
  guid: 'uuid',
}; // prettier-ignore

/** Words that begin a declaration elsewhere. */
export const foreignDeclarations: Readonly<Record<string, Keyword>> = {
  table: 'collection', entity: 'collection', model: 'collection', resource: 'collection', class: 'collection',
  rule: 'rules', policy: 'rules', policies: 'rules', permissions: 'rules',
  roles: 'role', group: 'role',
  user: 'people', users: 'people', person: 'people',
  function: 'let', def: 'let', define: 'let',
}; // prettier-ignore

/** Does a word that means “missing” stand here, and no path that begins with it? */
export function isNothing(cursor: Cursor, ahead = 0): boolean {
  const token = cursor.peek(ahead);
  const isWord = token.kind === 'name' && !token.quoted && nothing.has(token.text);
  const more = cursor.isSymbol('.', ahead + 1) || cursor.isSymbol('(', ahead + 1);
  return (isWord && !more) || cursor.isKeyword('missing', ahead);
}

/** `may`, or what is written for it. */
export function takeMay(cursor: Cursor, where: string): void {
  const { token } = cursor;
  if (token.kind === 'name' && !token.quoted && permitting.has(token.text)) {
    cursor.instead(`“${token.text}” is written “may” here`, token.span, 'may');
    cursor.next();
  } else cursor.expectKeyword('may', where);
}

/** A comma before the next part of a sentence is passed over. */
export function passComma(cursor: Cursor): void {
  if (!cursor.isSymbol(',') || !beginsPart(cursor, 1)) return;
  cursor.instead('no comma stands between the parts of a sentence', cursor.token.span, '');
  cursor.next();
}

/** Does the next part of a sentence begin here? */
export function beginsPart(cursor: Cursor, ahead = 0): boolean {
  const token = cursor.peek(ahead);
  return token.kind === 'keyword' && parts.has(token.text);
}

const parts: ReadonlySet<string> = new Set<Keyword>(['when', 'where', 'unless', 'stamp', 'because']);

/** Does a condition stand here that no word leads in? Asked where a sentence could end, too. */
export function beginsCondition(cursor: Cursor): boolean {
  const { token } = cursor;
  if (token.kind === 'symbol') return token.text === '(';
  if (token.kind === 'keyword') return leading.has(token.text);
  if (token.kind !== 'name') return false;
  const next = cursor.peek(1);
  if (next.kind === 'symbol') return comparing.has(next.text);
  return next.kind === 'keyword' ? joining.has(next.text) : next.kind === 'name' && testing.has(next.text);
}

const leading: ReadonlySet<string> = new Set<Keyword>([
  'not',
  'me',
  'this',
  'old',
  'new',
  'some',
  'no',
  'true',
  'now',
]);
const comparing: ReadonlySet<string> = new Set(['=', '!=', '<', '<=', '>', '>=', '.', '(']);
const joining: ReadonlySet<string> = new Set<Keyword>(['is', 'in', 'contains', 'within', 'not', 'and', 'or']);
const testing: ReadonlySet<string> = new Set(['starts', 'ends', 'like', 'ilike', 'between']);

/** `"%x%"` and its like, as the test of a text that it stands for; null for a pattern of another kind. */
export function likePattern(pattern: string): { operator: string; text: string } | null {
  const parts_ = /^(%?)([^%_]*)(%?)$/.exec(pattern);
  if (parts_ === null) return null;
  const [, before, text = '', behind] = parts_;
  const operator = before ? (behind ? 'contains' : 'ends with') : behind ? 'starts with' : '=';
  return { operator, text };
}
