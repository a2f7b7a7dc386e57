import type { Span } from '../language/span.ts';
import type { Code } from './codes.ts';
import type { Fix } from './fixes.ts';

/** One thing wrong with a text: data only; `render` draws it for people. */
export interface Diagnostic {
  readonly code: Code;
  /** What is wrong, in one sentence without a full stop. */
  readonly message: string;
  readonly span: Span;
  /** What to do next, where that is known. */
  readonly hint?: string;
  /** A second place that belongs to the matter (where the name was first declared). */
  /** What was plainly meant, where that is known: `check --fix` makes it. */
  readonly fix?: Fix;
  readonly related?: { readonly span: Span; readonly message: string };
}
