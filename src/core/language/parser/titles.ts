import type { Cursor } from './cursor.ts';

/** `"TITLE"`, where one stands here: what people call something; null where nothing is said. */
export function parseTitle(cursor: Cursor): string | null {
  if (cursor.token.kind !== 'text') return null;
  const { value, span } = cursor.expectText('a title');
  if (value.trim() !== '') return value;
  cursor.instead('an empty title says nothing', span, '');
  return null;
}
