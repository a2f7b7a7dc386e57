import type { Name } from '../ast.ts';
import type { Cursor } from './cursor.ts';

/** `was NAME`: what something was called in the version before; null where nothing is said of it. */
export function parseWas(cursor: Cursor): Name | null {
  if (!cursor.isWord('was') || cursor.peek(1).kind !== 'name') return null;
  cursor.next();
  return cursor.expectName('its name in the version before');
}
