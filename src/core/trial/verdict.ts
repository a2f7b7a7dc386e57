import type { Span } from '../language/span.ts';
import type { Evidence } from './port.ts';

/** What came of one expectation. */
export interface Verdict {
  readonly trial: string;
  /** The identity's name; null for the visitor. */
  readonly identity: string | null;
  /** The expectation as it is written. */
  readonly expectation: string;
  readonly span: Span;
  readonly passed: boolean;
  /** Present where it failed. */
  readonly failure?: Failure;
}

export interface Failure {
  readonly expected: string;
  readonly actual: string;
  /** Which rules did it, or could have and did not; empty where no rule speaks of the caller. */
  readonly evidence: readonly Evidence[];
}

/** The rule lines of a failure, as people read them. */
export function describeEvidence(evidence: readonly Evidence[]): string[] {
  if (evidence.length === 0) return ['no rule for this operation speaks of this identity'];
  return evidence.map((each) => `${isTrue(each) ? '✓' : '✗'} ${each.rule}: ${each.sentence}${sides(each)}`);
}

function isTrue({ before, after }: Evidence): boolean {
  return (before === undefined || before === true) && (after === undefined || after === true);
}

function sides({ before, after }: Evidence): string {
  const word = (truth: boolean | null) => (truth === null ? 'unknown' : String(truth));
  if (before !== undefined && after !== undefined) return ` → ${word(before)} before, ${word(after)} after`;
  const truth = before !== undefined ? before : after;
  return truth === undefined ? '' : ` → ${word(truth)}`;
}
