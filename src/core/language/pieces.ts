import type { Declaration } from './ast.ts';
import type { Span } from './span.ts';

/** Something that begins a line: a sentence, or a block of such. */
export interface Piece {
  readonly span: Span;
  /** Null for a sentence. */
  readonly inner: readonly Piece[] | null;
}

const leaf = (span: Span): Piece => ({ span, inner: null });

/** A declaration with the sentences in it. */
export function pieceOf(declaration: Declaration): Piece {
  const { span } = declaration;
  switch (declaration.kind) {
    case 'collection':
    case 'identity':
      return { span, inner: declaration.pieces.map(leaf) };
    case 'rules':
      return {
        span,
        inner: inOrder([...declaration.sentences, ...declaration.fences].map((each) => leaf(each.span))),
      };
    case 'trial': {
      const given = declaration.given.map((each) => leaf(each.span));
      const parts = declaration.parts.map((part): Piece => ({
        span: part.span,
        inner: part.expectations.map((each) => leaf(each.span)),
      }));
      return { span, inner: inOrder([...given, ...parts]) };
    }
    case 'accept':
    case 'action':
    case 'attribute':
    case 'claim':
    case 'invariant':
    case 'let':
    case 'role':
    case 'time zone':
      return leaf(span);
  }
}

function inOrder(pieces: Piece[]): Piece[] {
  return pieces.toSorted((a, b) => a.span.start - b.span.start);
}
