import type { AcceptDeclaration } from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName } from './expressions.ts';
import { parseAudience, parseOperations, startsSentence } from './rules.ts';

/**
 * `accept COLLECTION feeds NAME because "…"`, `accept COLLECTION without owner because "…"`, or
 * `accept WHO may OPERATIONS on COLLECTION because "…"`.
 */
export function parseAccept(cursor: Cursor): AcceptDeclaration {
  const start = cursor.expectKeyword('accept', 'here');
  const what = startsSentence(cursor) ? parseReach(cursor) : parseAboutCollection(cursor);
  cursor.expectKeyword('because', 'and the reason');
  const because = cursor.expectText('the reason').value;
  return { kind: 'accept', ...what, because, span: cursor.since(start) };
}

type Accepted = Pick<AcceptDeclaration, 'collection' | 'accepted'>;

function parseReach(cursor: Cursor): Accepted {
  const who = parseAudience(cursor);
  cursor.expectKeyword('may', 'after who it is about');
  const operations = parseOperations(cursor);
  if (!cursor.isWord('on')) cursor.fail('P001', 'expected “on” and a collection');
  cursor.next();
  return { collection: parseCollectionName(cursor), accepted: { kind: 'reach', who, operations } };
}

function parseAboutCollection(cursor: Cursor): Accepted {
  const collection = parseCollectionName(cursor);
  if (cursor.takeKeyword('without')) {
    if (!cursor.isWord('owner')) cursor.fail('P001', 'expected “owner”');
    cursor.next();
    return { collection, accepted: { kind: 'without owner' } };
  }
  if (!cursor.isWord('feeds'))
    cursor.fail(
      'P001',
      'expected “feeds” and a role, an attribute or a collection, “without owner”, or “WHO may … on …”',
    );
  cursor.next();
  const feeds = cursor.isKeyword('people')
    ? parseCollectionName(cursor)
    : cursor.expectName('the name of a role, an attribute or a collection');
  return { collection, accepted: { kind: 'feeds', feeds } };
}
