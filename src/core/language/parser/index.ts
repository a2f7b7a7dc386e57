import type { Diagnostic } from '../../diagnostics/diagnostic.ts';
import type { Declaration, Expression } from '../ast.ts';
import { tokenize } from '../lexer.ts';
import { limits } from '../limits.ts';
import type { Source } from '../source.ts';
import type { Keyword } from '../tokens.ts';
import { parseCollection } from './collections.ts';
import { Cursor, ParseFailure } from './cursor.ts';
import { nearest } from '../../diagnostics/suggest.ts';
import { declarationWords } from './declaration-words.ts';
import { foreignDeclarations } from './mistakes.ts';
import { parseCondition } from './expressions.ts';
import { parseLet } from './lets.ts';
import { parseAccept } from './accepts.ts';
import { parseAttribute, parseClaim } from './attributes.ts';
import { parseAction, parseInvariant } from './actions.ts';
import { parseRole } from './roles.ts';
import { parseRules } from './rules.ts';
import { parseIdentity, parseTrial } from './trials.ts';

export interface Parsed {
  readonly declarations: Declaration[];
  readonly diagnostics: Diagnostic[];
  /** Names that are declared by what could not be read. */
  readonly unread: ReadonlySet<string>;
}

/**
 * Reads one file: all declarations that could be read, and everything that is wrong with the rest.
 * Never throws, whatever the text; bounded by `limits`.
 */
export function parseFile(source: Source): Parsed {
  const { tokens, diagnostics } = tokenize(source);
  const cursor = new Cursor(source, tokens, diagnostics);
  const declarations: Declaration[] = [];
  const unread = new Set<string>();
  while (!cursor.atEnd) {
    const name = declaredName(cursor);
    const declaration = cursor.recover(
      () => parseDeclaration(cursor),
      () => startsDeclaration(cursor),
    );
    if (declaration !== null) {
      declarations.push(declaration);
      continue;
    }
    if (name !== null) unread.add(name);
    // A bracket too many closes nothing: it was reported by the declaration that stumbled over it.
    cursor.takeSymbol('}');
  }
  return { declarations, diagnostics, unread };
}

/** The name that is about to be declared; null: none is. */
function declaredName(cursor: Cursor): string | null {
  if (cursor.token.kind !== 'keyword' || !namingWords.has(cursor.token.text)) return null;
  const name = cursor.peek(cursor.token.text === 'test' ? 2 : 1);
  return name.kind === 'name' ? name.text : null;
}

/** Words behind which something gets its name. */
const namingWords: ReadonlySet<string> = new Set([
  'collection',
  'role',
  'attribute',
  'claim',
  'let',
  'action',
  'test',
]);

/** Reads a condition that stands alone, such as a caller's filter. */
export function parseFilter(source: Source): { expression: Expression | null; diagnostics: Diagnostic[] } {
  const { tokens, diagnostics } = tokenize(source, limits.filterLength);
  if (diagnostics.length > 0) return { expression: null, diagnostics };
  const cursor = new Cursor(source, tokens, diagnostics);
  try {
    const expression = parseCondition(cursor);
    if (!cursor.atEnd) cursor.fail('P001', 'expected “and”, “or” or the end of the filter');
    return { expression, diagnostics };
  } catch (failure) {
    if (!(failure instanceof ParseFailure)) throw failure;
    return { expression: null, diagnostics };
  }
}

function startsDeclaration(cursor: Cursor): boolean {
  const token = cursor.token;
  const begins = token.kind === 'keyword' ? declarationWords.has(token.text) : isTimeZone(cursor);
  return begins && cursor.startsLine();
}

function isTimeZone(cursor: Cursor): boolean {
  return cursor.isWord('time') && cursor.peekWord('zone');
}

/** `time zone "NAME"`: a name of the IANA time zone database. */
function parseTimeZone(cursor: Cursor): Declaration {
  const start = cursor.next().span;
  cursor.next();
  return { kind: 'time zone', name: cursor.expectText('the name of a time zone'), span: cursor.since(start) };
}

/** `colection`, `rule`, `table`: a word that is near one, or means it elsewhere, is read as that one. */
function readAsMeant(cursor: Cursor): void {
  const { token } = cursor;
  if ((token.kind !== 'name' && token.kind !== 'keyword') || declarationWords.has(token.text)) return;
  const foreign = Object.hasOwn(foreignDeclarations, token.text)
    ? foreignDeclarations[token.text]
    : undefined;
  const meant = foreign ?? (nearest(token.text, declarationWords) as Keyword | null);
  if (meant === null) return;
  cursor.instead(`“${token.text}” is written “${meant}” here`, token.span, meant);
  cursor.takeFor(meant);
}

function parseDeclaration(cursor: Cursor): Declaration {
  if (isTimeZone(cursor)) return parseTimeZone(cursor);
  readAsMeant(cursor);
  const { token } = cursor;
  // Of all keywords these begin a declaration.
  const word: string = token.kind === 'keyword' ? token.text : '';
  switch (word) {
    case 'collection':
    case 'people':
      return parseCollection(cursor);
    case 'role':
      return parseRole(cursor);
    case 'let':
      return parseLet(cursor);
    case 'rules':
      return parseRules(cursor);
    case 'test':
      return parseIdentity(cursor);
    case 'trial':
      return parseTrial(cursor);
    case 'attribute':
      return parseAttribute(cursor);
    case 'claim':
      return parseClaim(cursor);
    case 'accept':
      return parseAccept(cursor);
    case 'action':
      return parseAction(cursor);
    case 'invariant':
      return parseInvariant(cursor);
    default:
      return cursor.fail(
        'P001',
        'expected a declaration (collection, people, time zone, role, attribute, claim, let, action, rules, accept, invariant, test identity or trial)',
      );
  }
}
