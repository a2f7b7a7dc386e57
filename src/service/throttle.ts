import { rateLimit, type Store } from 'express-rate-limit';
import type { Request, RequestHandler, Response } from 'express';
import { countAttempt, forgetAttempt, forgetAttempts, type Attempted } from '../store/attempts.ts';
import type { Database } from '../store/connection.ts';
import { answer } from './problems/handler.ts';
import { Problem } from './problems/problem.ts';

/** In a quarter of an hour. */
const WINDOW_MS = 15 * 60_000;

export interface Throttle {
  readonly kind: Attempted;
  /** Tries that count, in a quarter of an hour. */
  readonly limit: number;
  readonly key: (request: Request, response: Response) => string;
  /** Is this request none of those that are counted? */
  readonly skip: (request: Request, response: Response) => boolean;
  /** Was it one of those that count? Nothing said: one that failed. */
  readonly counts?: (response: Response) => boolean;
}

/** Counts tries in the database, so that they are counted for all processes together. Where that cannot be asked, nothing is let through. */
export function throttle(database: Database, { kind, limit, key, skip, counts }: Throttle): RequestHandler {
  const store: Store = {
    localKeys: false,
    increment: async (of) => {
      const { tries, ends } = await countAttempt(database, kind, of, WINDOW_MS);
      return { totalHits: tries, resetTime: ends };
    },
    // Nobody waits for it: where it fails, the try goes on counting.
    decrement: (of) => forgetAttempt(database, kind, of).catch(() => undefined),
    resetKey: (of) => forgetAttempts(database, kind, of),
  };
  return rateLimit({
    windowMs: WINDOW_MS,
    limit,
    store,
    keyGenerator: key,
    standardHeaders: 'draft-8',
    legacyHeaders: false,
    skip,
    skipSuccessfulRequests: true,
    ...(counts === undefined
      ? {}
      : { requestWasSuccessful: (_: Request, response: Response) => !counts(response) }),
    handler: (request, response) => answer(new Problem('too-many-attempts'), request, response),
  });
}
