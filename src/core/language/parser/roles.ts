import type { Inclusion, Name, PairClause, RoleDeclaration } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCondition } from './expressions.ts';
import { operations } from './rules.ts';
import { parseTitle } from './titles.ts';
import { parseWas } from './was.ts';

/** `role NAME ["TITLE"] { includes NAME, … [only PAIRS | without PAIRS] } [when CONDITION]`. */
export function parseRole(cursor: Cursor): RoleDeclaration {
  const start = cursor.expectKeyword('role', 'here');
  const name = cursor.expectName('the name of a role');
  if (cursor.isSymbol(',')) {
    cursor.instead(
      'each role has a declaration of its own',
      { ...cursor.token.span, end: cursor.peek(1).span.start },
      '\nrole ',
    );
    cursor.takeFor('role');
    return {
      kind: 'role',
      name,
      title: null,
      inclusions: [],
      when: null,
      was: null,
      span: cursor.since(start),
    };
  }
  const earlier = parseWas(cursor);
  const title = parseTitle(cursor);
  const was = earlier ?? parseWas(cursor);
  const inclusions: Inclusion[] = [];
  while (cursor.takeKeyword('includes')) inclusions.push(parseInclusion(cursor));
  const when = cursor.takeKeyword('when') ? parseCondition(cursor) : null;
  return { kind: 'role', name, title, inclusions, when, was, span: cursor.since(start) };
}

function parseInclusion(cursor: Cursor): Inclusion {
  const roles = cursor.list(() => cursor.expectName('the name of a role'));
  for (const kind of ['only', 'without'] as const) {
    if (cursor.takeKeyword(kind))
      return { roles, limit: { kind, pairs: cursor.list(() => parsePair(cursor)) } };
  }
  return { roles, limit: null };
}

/** `read`, `hives`, `hives (update, list)`. */
function parsePair(cursor: Cursor): PairClause {
  const name = parseWord(cursor, 'an operation or a collection');
  if (!cursor.takeSymbol('(')) return { name, operations: null };
  const named = cursor.list(() => parseWord(cursor, 'an operation'));
  cursor.expectSymbol(')', 'after the last operation');
  return { name, operations: named };
}

function parseWord(cursor: Cursor, what: string): Name {
  const { token } = cursor;
  const isWord = token.kind === 'keyword' && (operations.has(token.text) || token.text === 'people');
  if (!isWord) return cursor.expectName(what);
  cursor.next();
  return { text: token.text, span: token.span };
}
