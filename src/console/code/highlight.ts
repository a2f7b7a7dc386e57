import { tokenize } from '../../core/language/lexer.ts';

/** How a stretch of a text is shown. */
export type Tone = 'word' | 'name' | 'text' | 'number' | 'sign' | 'comment';

export interface Toned {
  readonly start: number;
  readonly end: number;
  readonly tone: Tone;
}

/** The stretches of a text by what they are, in order: the language's own lexer reads it, so that nothing is coloured that it would not read. */
export function tones(text: string): Toned[] {
  const { tokens, comments } = tokenize({ name: 'text', text });
  const all = tokens.flatMap((token): Toned[] => {
    const { start, end } = token.span;
    switch (token.kind) {
      case 'keyword':
        return [{ start, end, tone: 'word' }];
      case 'name':
        return [{ start, end, tone: 'name' }];
      case 'text':
        return [{ start, end, tone: 'text' }];
      case 'number':
        return [{ start, end, tone: 'number' }];
      case 'symbol':
        return [{ start, end, tone: 'sign' }];
      case 'end':
        return [];
    }
  });
  return [...all, ...comments.map(({ start, end }) => ({ start, end, tone: 'comment' as const }))].toSorted(
    (a, b) => a.start - b.start,
  );
}

/** The colours, for whatever shows rules. */
export const codeStyles = {
  '& .fg-code-word': { color: 'var(--mui-palette-secondary-main)', fontWeight: 650 },
  '& .fg-code-name': { color: 'var(--mui-palette-info-main)' },
  '& .fg-code-text, & .fg-code-number': { color: 'var(--mui-palette-success-main)' },
  '& .fg-code-sign': { color: 'var(--mui-palette-text-secondary)' },
  '& .fg-code-comment': { color: 'var(--mui-palette-text-secondary)', fontStyle: 'italic' },
  '& .fg-code-wrong': {
    textDecoration: 'underline wavy var(--mui-palette-error-main)',
    textDecorationSkipInk: 'none',
    textUnderlineOffset: '3px',
  },
} as const;
