import type { Span } from './span.ts';

/**
 * Words with a meaning of their own; as a name they need backticks.
 * Some are not used by the language yet: they are kept free, so that rulebooks survive its growth.
 */
// prettier-ignore
export const keywords = [
  'accept', 'action', 'all', 'and', 'as', 'attribute', 'because', 'but', 'by', 'claim', 'collection', 'contains', 'create',
  'deactivated', 'delete', 'everybody', 'false', 'giving', 'has', 'identity', 'in', 'includes', 'invariant',
  'is', 'let', 'may', 'me', 'missing', 'new', 'no', 'nobody', 'not', 'now', 'of', 'old', 'one', 'only', 'or',
  'owned', 'people', 'present', 'read', 'reads', 'ref', 'role', 'roles', 'rules', 'shows', 'some', 'stamp',
  'test', 'this', 'today', 'tree', 'trial', 'true', 'unless', 'until', 'update', 'visitor', 'visitors', 'when',
  'where', 'withheld', 'within', 'without',
] as const;

export type Keyword = (typeof keywords)[number];

export type Symbol =
  '{' | '}' | '(' | ')' | ',' | '.' | '=' | '!=' | '<' | '<=' | '>' | '>=' | '-' | '+' | ':';

export type Token =
  | { readonly kind: 'name'; readonly text: string; readonly quoted: boolean; readonly span: Span }
  | { readonly kind: 'keyword'; readonly text: Keyword; readonly span: Span }
  | { readonly kind: 'text'; readonly value: string; readonly span: Span }
  | { readonly kind: 'number'; readonly text: string; readonly span: Span }
  | { readonly kind: 'symbol'; readonly text: Symbol; readonly span: Span }
  | { readonly kind: 'end'; readonly span: Span };

const keywordSet: ReadonlySet<string> = new Set(keywords);

export function isKeyword(word: string): word is Keyword {
  return keywordSet.has(word);
}

/** How a token is named in a message: what stands there, in quotes, or "the end of the text". */
export function describeToken(token: Token): string {
  switch (token.kind) {
    case 'end':
      return 'the end of the text';
    case 'text':
      return 'a text in quotes';
    case 'number':
      return `the number ${token.text}`;
    case 'keyword':
      return `the keyword “${token.text}”`;
    case 'name':
    case 'symbol':
      return `“${token.text}”`;
  }
}
