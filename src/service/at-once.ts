import type { RequestHandler } from 'express';
import pLimit, { type LimitFunction } from 'p-limit';
import type { CallerFinder } from './identity/caller.ts';
import { Problem } from './problems/problem.ts';

/** Requests of one caller that are worked on at once: with fewer than the pool has connections, others are served meanwhile. */
const AT_ONCE = 4;
/** Requests of one caller that wait for their turn; more are turned away. */
const WAITING = 100;

/**
 * Nobody takes all of the service: what one caller asks beyond a few requests at once waits its turn, without a connection to the
 * database, and where very many wait, more are answered with 429. Visitors are told apart by their address, of which many may
 * share one: they wait longer. Each process counts for itself.
 */
export function fewAtOnce(callers: CallerFinder): RequestHandler {
  const turns = new Map<string, LimitFunction>();
  return async (request, response, next) => {
    const who = await callers.whoAsks(request);
    const own = turns.get(who) ?? pLimit(AT_ONCE);
    turns.set(who, own);
    const most = who.startsWith('visitor') ? 10 * WAITING : WAITING;
    if (own.pendingCount >= most) throw new Problem('too-many-requests', {}, { 'Retry-After': '1' });
    void own(
      () =>
        new Promise<void>((resolve) => {
          // Whoever has gone is not worked for.
          if (response.closed) resolve();
          else {
            response.once('close', resolve);
            next();
          }
        }),
    ).finally(() => {
      if (own.activeCount + own.pendingCount === 0) turns.delete(who);
    });
  };
}
