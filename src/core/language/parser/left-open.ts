import type { Cursor } from './cursor.ts';
import { beginsDeclaration } from './declaration-words.ts';

/**
 * Does the next declaration begin where a block is still open? Then its bracket was forgotten: it is reported here, and the block
 * ends, so that what follows is read as what it is.
 */
export function leftOpen(cursor: Cursor, what: string): boolean {
  if (!cursor.startsLine() || !beginsDeclaration(cursor)) return false;
  const { start } = cursor.token.span;
  cursor.instead(
    `${what} still open: “}” is missing before this`,
    { ...cursor.token.span, end: start },
    '}\n',
  );
  return true;
}
