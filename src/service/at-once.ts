import type { RequestHandler, Response } from 'express';
import { rateLimit } from 'express-rate-limit';
import { PROOF_ISSUER } from './identity/development.ts';
import type { CallerFinder } from './identity/caller.ts';
import { answer } from './problems/handler.ts';
import { Problem } from './problems/problem.ts';
import { REHEARSAL } from './routes/route.ts';

async function ended(work: unknown): Promise<void> {
  try {
    await work;
  } catch {
    // It was answered, as far as anybody was there for an answer.
  }
}

/** How verification is known, which asks with tokens of its own. */
const OWN = `${PROOF_ISSUER} `;

/** Rehearsals in a quarter of an hour that one caller may learn something by; see `fewGuesses`. */
const GUESSES = 60;

/**
 * What a rule cannot keep to itself, a refusal tells: that a value is taken, that something points here, that a record would lie below
 * itself. A rehearsal leaves no trace of the question, so these are counted, and whoever has met very many waits. Behind `fewAtOnce`.
 */
export function fewGuesses(): RequestHandler {
  return rateLimit({
    windowMs: 15 * 60_000,
    limit: GUESSES,
    standardHeaders: 'draft-8',
    legacyHeaders: false,
    // Verification rehearses by itself, with tokens of the service's own.
    skip: (request, response) =>
      request.get(REHEARSAL) === undefined || String(response.locals.asks).startsWith(OWN),
    skipSuccessfulRequests: true,
    requestWasSuccessful: (_, response) => response.locals.tells !== true,
    keyGenerator: (_, response) => response.locals.asks as string,
    handler: (request, response) => answer(new Problem('too-many-attempts'), request, response),
  });
}

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
  const turns = new Map<string, Turns>();
  return async (request, response, next) => {
    const who = await callers.whoAsks(request);
    response.locals.asks = who;
    // A response that has closed already does not close again: its place would never be given back.
    if (response.closed) return;
    const own = turns.get(who) ?? { running: 0, waiting: [] };
    turns.set(who, own);
    const begin = () => {
      own.running++;
      response.once('close', () => {
        // The work goes on when whoever asked has gone, and counts until it is done.
        void ended(response.locals.work).then(() => {
          own.running--;
          passOn(own);
          if (own.running === 0) turns.delete(who);
        });
      });
      next();
    };
    if (own.running < AT_ONCE) {
      begin();
      return;
    }
    const most = who.startsWith('visitor') ? 10 * WAITING : WAITING;
    if (own.waiting.length >= most) throw new Problem('too-many-requests', {}, { 'Retry-After': '1' });
    own.waiting.push({ begin, response });
  };
}

interface Turns {
  running: number;
  readonly waiting: { readonly begin: () => void; readonly response: Response }[];
}

/** The next in line begins; whoever has gone meanwhile is not worked for. */
function passOn({ waiting }: Turns): void {
  for (let next = waiting.shift(); next !== undefined; next = waiting.shift()) {
    if (next.response.closed) continue;
    next.begin();
    return;
  }
}
