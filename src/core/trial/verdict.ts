import type { Span } from '../language/span.ts';
import type { Why } from '../explain/why.ts';

/** What came of one expectation. */
export interface Verdict {
  readonly trial: string;
  /** The identity's name; null for the visitor. */
  readonly identity: string | null;
  /** The expectation as it is written. */
  readonly expectation: string;
  readonly span: Span;
  readonly passed: boolean;
  /** Of an invariant against which nothing was found: what was not covered. Absent where everything was. */
  readonly notCovered?: string;
  /** Of an invariant: this identity can do what it speaks of to no record that there is, and is no test of it. */
  readonly idle?: true;
  /** Present where it failed. */
  readonly failure?: Failure;
}

export interface Failure {
  readonly expected: string;
  readonly actual: string;
  /** The same for those who may not be told what records there are and what they hold; absent where nothing of it is told. */
  readonly untold?: string;
  /** Which rules did it, or could have and did not; null where it is not about one record. */
  readonly why: Why | null;
}
