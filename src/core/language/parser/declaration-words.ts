import type { Keyword } from '../tokens.ts';
import type { Cursor } from './cursor.ts';

/** The keywords that begin a declaration. */
export const declarationWords: ReadonlySet<string> = new Set<Keyword>([
  'collection', 'people', 'let', 'role', 'rules', 'test', 'trial', 'attribute', 'claim', 'accept', 'action', 'invariant',
]); // prettier-ignore

/** Does a declaration begin here for certain? `people` also begins sentences. */
export function beginsDeclaration(cursor: Cursor): boolean {
  const { token } = cursor;
  if (token.kind !== 'keyword' || !declarationWords.has(token.text)) return false;
  return token.text !== 'people' || cursor.isSymbol('{', 1);
}
