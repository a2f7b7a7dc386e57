import type {
  CollectionDeclaration,
  Expression,
  FieldDeclaration,
  FillClause,
  Mark,
  Name,
  OnDelete,
} from '../ast.ts';
import type { Span } from '../span.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName, parseOperand } from './expressions.ts';
import { leftOpen } from './left-open.ts';
import { isNothing } from './mistakes.ts';
import { parseTitle } from './titles.ts';
import { parseType, typeFollows } from './types.ts';
import { parseWas } from './was.ts';

const marks: ReadonlySet<string> = new Set<Mark>(['required', 'unique', 'label', 'sensitive']);

/** `collection NAME ["TITLE"] { … }`, and `people { … }`, which extends the built-in collection. */
export function parseCollection(cursor: Cursor): CollectionDeclaration {
  const start = cursor.token.span;
  if (!cursor.isKeyword('people')) cursor.expectKeyword('collection', 'here');
  const name = parseCollectionName(cursor);
  const earlier = parseWas(cursor);
  const title = parseTitle(cursor);
  const was = earlier ?? parseWas(cursor);
  cursor.expectSymbol('{', `to open ${name.text}`);
  const fields: FieldDeclaration[] = [];
  const owners: (Expression & { kind: 'path' })[] = [];
  const pieces: Span[] = [];
  const fills: FillClause[] = [];
  let tree: Name | null = null;
  const read = () => ({ kind: 'collection', name, title, fields, owners, tree, was, fills, pieces }) as const;
  while (!cursor.atEnd && !cursor.isSymbol('}')) {
    if (leftOpen(cursor, `“${name.text}” is`)) return { ...read(), span: cursor.since(start) };
    cursor.recover(
      () => {
        const begin = cursor.token.span;
        if (cursor.takeKeyword('tree')) {
          cursor.expectKeyword('by', 'after “tree”');
          tree = cursor.expectName('the field that points at the parent');
        } else if (cursor.takeKeyword('owned') || takeOwner(cursor)) {
          cursor.expectKeyword('by', 'after “owned”');
          owners.push(...cursor.list(() => parseOwner(cursor)));
        } else if (beginsFill(cursor)) {
          fills.push(parseFill(cursor));
        } else {
          fields.push(parseField(cursor));
        }
        pieces.push(cursor.since(begin));
        if (cursor.isSymbol(',')) cursor.instead('no comma stands between fields', cursor.next().span, '');
      },
      () => cursor.startsLine(),
    );
  }
  cursor.expectSymbol('}', `to close ${name.text}`);
  return { ...read(), span: cursor.since(start) };
}

/** A field may be called “fill”, too: then a type follows, and no `from`. */
function beginsFill(cursor: Cursor): boolean {
  if (!cursor.isWord('fill') || cursor.peek(1).kind !== 'name') return false;
  const after = cursor.peek(2);
  const from = after.kind === 'name' && after.text === 'from';
  return from || (cursor.isSymbol('=', 2) && !typeFollows(cursor));
}

/** `fill FIELD from PATH`, `fill FIELD = VALUE`. */
function parseFill(cursor: Cursor): FillClause {
  const start = cursor.next().span;
  const field = cursor.expectName('the field that is to be filled');
  if (!cursor.takeSymbol('=')) cursor.next();
  const value = parseOperand(cursor);
  return { field, value, span: cursor.since(start) };
}

/** `owner by`. */
function takeOwner(cursor: Cursor): boolean {
  if (!cursor.isWord('owner') || !cursor.isKeyword('by', 1)) return false;
  const span = { ...cursor.token.span, end: cursor.peek(1).span.end };
  cursor.instead('who owns a record is written “owned by …”', span, 'owned by');
  cursor.next();
  return true;
}

function parseOwner(cursor: Cursor): Expression & { kind: 'path' } {
  const path = parseOperand(cursor);
  if (path.kind !== 'path' || path.root === 'me') {
    return cursor.fail('P001', 'expected a path to the owner, such as keeper or hive.keeper');
  }
  return path;
}

/** `NAME ["TITLE"] TYPE MARKS`. */
function parseField(cursor: Cursor): FieldDeclaration {
  const start = cursor.token.span;
  const name = cursor.expectName('the name of a field, or “owned by”');
  const title = parseTitle(cursor);
  if (cursor.isSymbol(':')) cursor.instead('no colon stands before a type', cursor.next().span, '');
  const type = parseType(cursor);
  const found: { mark: Mark; span: typeof start }[] = [];
  let standard: Expression | null = null;
  let onDelete: FieldDeclaration['onDelete'] = null;
  let most: FieldDeclaration['most'] = null;
  let was: Name | null = null;
  let losing: Span | null = null;
  for (;;) {
    const token = cursor.token;
    // A field may be called “label” too: a mark is one only where no type follows it.
    if (cursor.isWord('self') && cursor.peekWord('set')) {
      cursor.next();
      cursor.next();
      found.push({ mark: 'self set', span: cursor.since(token.span) });
    } else if (cursor.isWord('up') && cursor.peekWord('to')) {
      most = parseMost(cursor);
    } else if (cursor.isWord('was') && !(cursor.startsLine() && typeFollows(cursor))) {
      was =
        parseWas(cursor) ?? cursor.fail('P001', 'expected the name that the field had before, after “was”');
    } else if (cursor.isWord('losing') && cursor.peekWord('time')) {
      cursor.next();
      cursor.next();
      losing = cursor.since(token.span);
    } else if (cursor.isWord('on') && cursor.isKeyword('delete', 1)) {
      onDelete = parseOnDelete(cursor);
    } else if (token.kind === 'name' && !token.quoted && marks.has(token.text) && !typeFollows(cursor)) {
      cursor.next();
      found.push({ mark: token.text as Mark, span: token.span });
    } else if (cursor.takeSymbol('=')) {
      standard = parseOperand(cursor);
    } else if (token.kind === 'text' && !cursor.startsLine()) {
      cursor.fail('P001', `a field’s title stands right behind its name: ${name.text} "…"`);
    } else if (cursor.isKeyword('not') && isNothing(cursor, 1)) {
      cursor.next();
      cursor.next();
      const span = cursor.since(token.span);
      cursor.instead('a field that must have a value is “required”', span, 'required');
      found.push({ mark: 'required', span });
    } else if (cursor.isWord('primary') && cursor.peekWord('key')) {
      cursor.next();
      cursor.next();
      const span = cursor.since(token.span);
      cursor.instead('each record has an id; the text by which people know it is the “label”', span, 'label');
      found.push({ mark: 'label', span });
    } else if (cursor.isWord('default')) {
      cursor.next();
      const span = cursor.isSymbol('=') ? { ...token.span, end: cursor.next().span.end } : token.span;
      cursor.instead('what a field begins with is written after “=”', span, '=');
      standard = parseOperand(cursor);
    } else {
      return {
        name,
        title,
        type,
        marks: found,
        default: standard,
        most,
        onDelete,
        was,
        losing,
        span: cursor.since(start),
      };
    }
  }
}

/** `up to 200`. */
function parseMost(cursor: Cursor): FieldDeclaration['most'] {
  const start = cursor.next().span;
  cursor.next();
  const { token } = cursor;
  if (token.kind !== 'number' || !/^\d{1,7}$/.test(token.text))
    return cursor.fail('P001', 'expected a whole number of characters after “up to”');
  cursor.next();
  return { count: Number(token.text), span: cursor.since(start) };
}

const deleteRules: ReadonlySet<string> = new Set<OnDelete>(['refuse', 'remove', 'clear']);

/** `on delete refuse`, `on delete remove`, `on delete clear`. */
function parseOnDelete(cursor: Cursor): FieldDeclaration['onDelete'] {
  const start = cursor.next().span;
  cursor.next();
  const { token } = cursor;
  if (token.kind !== 'name' || !deleteRules.has(token.text)) {
    return cursor.fail('P001', 'expected refuse, remove or clear after “on delete”');
  }
  cursor.next();
  return { rule: token.text as OnDelete, span: cursor.since(start) };
}
