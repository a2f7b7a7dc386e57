import { DatabaseError } from 'pg';

/** The database cannot be asked just now. The answer is a refusal, and the next request tries again. */
export class DatabaseUnavailable extends Error {
  override readonly name = 'DatabaseUnavailable';
}

/** Did PostgreSQL end the statement, as it took longer than it may? */
export function hasTimedOut(error: unknown): boolean {
  return (error as { code?: unknown } | null)?.code === '57014';
}

/** The rulebook cannot be published as things are; each message says what to do. */
export class PublishRefused extends Error {
  override readonly name = 'PublishRefused';
  readonly problems: readonly string[];

  constructor(problems: readonly string[]) {
    super(problems.join('; '));
    this.problems = problems;
  }
}

/** What an error of the driver means to us. Its text never leaves the store. */
export type Failure =
  | { readonly kind: 'unavailable' }
  | { readonly kind: 'conflict' }
  | { readonly kind: 'unique' | 'reference' | 'required' | 'check'; readonly constraint: string }
  /** Larger than an index, or a value of the kind, may be. */
  | { readonly kind: 'too large' }
  | { readonly kind: 'other' };

const unreachableCodes: ReadonlySet<string> = new Set([
  'ECONNREFUSED', 'ECONNRESET', 'EPIPE', 'ETIMEDOUT', 'ENOTFOUND', 'EHOSTUNREACH', 'EAI_AGAIN',
]); // prettier-ignore

/** Classifies by SQLSTATE (PostgreSQL, appendix A) and by the socket's error codes. */
export function classify(error: unknown): Failure {
  if (error instanceof DatabaseUnavailable) return { kind: 'unavailable' };
  if (error instanceof DatabaseError) return classifyState(error);
  if (error instanceof AggregateError)
    return error.errors.length > 0 ? classify(error.errors[0]) : { kind: 'other' };
  if (!(error instanceof Error)) return { kind: 'other' };
  const code = (error as NodeJS.ErrnoException).code;
  if (code !== undefined && unreachableCodes.has(code)) return { kind: 'unavailable' };
  // Knex and pg report a lost or exhausted connection in words only, with the statement before them.
  if (
    error.name === 'KnexTimeoutError' ||
    /Connection terminated|timeout (expired|exceeded)|not queryable/i.test(error.message)
  ) {
    return { kind: 'unavailable' };
  }
  return { kind: 'other' };
}

/** Has the server itself said that nothing of it is left? Where a connection was lost, nobody knows. */
export function isTakenBack(error: unknown): boolean {
  return error instanceof DatabaseError && classifyState(error).kind !== 'unavailable';
}

function classifyState(error: DatabaseError): Failure {
  const state = error.code ?? '';
  const constraint = error.constraint ?? error.column ?? '';
  switch (state) {
    case '23505':
      return { kind: 'unique', constraint };
    case '23503':
      return { kind: 'reference', constraint };
    case '23502':
      return { kind: 'required', constraint };
    case '23514':
      // Until all that is there has been looked at, what must have a value is held to it by a check: see `publish/demands.ts`.
      return { kind: constraint.startsWith('n_') ? 'required' : 'check', constraint };
    case '22001':
    case '54000':
      return { kind: 'too large' };
    case '40001':
    case '40P01':
      return { kind: 'conflict' };
    case '0A000':
      // A kept statement whose table has changed since: done anew, it is another statement.
      return error.message.includes('cached plan') ? { kind: 'conflict' } : { kind: 'other' };
    default:
      // 08: connection; 57: shut down, starting, or the statement ran too long; 53: out of resources; 28 and 3D: may
      // not or cannot connect.
      return /^(08|57|53|28|3D)/.test(state) ? { kind: 'unavailable' } : { kind: 'other' };
  }
}
