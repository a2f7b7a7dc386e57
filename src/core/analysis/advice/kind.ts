import type { Rulebook } from '../../ir/rulebook.ts';
import type { Fix } from '../../diagnostics/fixes.ts';
import type { Declaration } from '../../language/ast.ts';
import type { Source } from '../../language/source.ts';
import type { Span } from '../../language/span.ts';

/** A kind of advice: something that is valid and doubtful. Each stands in a file of its own, and in docs/advice.md. */
export interface AdviceKind {
  /** Never used for anything else. */
  readonly code: `A${number}`;
  /** What is doubtful, in a few words. */
  readonly title: string;
  /** Why it is, and what to do. */
  readonly explanation: string;
  /** A small rulebook that is advised on. */
  readonly example: string;
  readonly find: (material: Material) => Iterable<Found>;
}

/** What advice is given on. */
export interface Material {
  readonly rulebook: Rulebook;
  readonly sources: readonly Source[];
  readonly declarations: readonly Declaration[];
}

export interface Found {
  readonly span: Span;
  /** One sentence, without a full stop. */
  readonly message: string;
  /** A change that takes the doubt away and leaves every answer as it is, or makes it what was plainly meant. */
  readonly fix?: Fix;
}
