import type { RequestHandler, Response } from 'express';
import { LRUCache } from 'lru-cache';
import type { Database } from '../store/connection.ts';
import { PROOF_ISSUER } from './identity/development.ts';
import type { CallerFinder } from './identity/caller.ts';
import { Problem } from './problems/problem.ts';
import { REHEARSAL } from './routes/route.ts';
import { MEASURE, type Measure } from './measure.ts';
import { isOwnVisitor } from './sweep/own.ts';
import { throttle } from './throttle.ts';
import { Typical } from './typical.ts';

async function ended(work: unknown): Promise<void> {
  try {
    await work;
  } catch {
    // It was answered, as far as anybody was there for an answer.
  }
}

/** How verification is known, which asks with tokens of its own, or as a visitor through a door of its own. */
const OWN = `${PROOF_ISSUER} `;

/** Rehearsals in a quarter of an hour that one caller may learn something by; see `fewGuesses`. */
const GUESSES = 60;

/**
 * What a rule cannot keep to itself, a refusal tells: that a value is taken, that something points here, that a record would lie below
 * itself. A rehearsal leaves no trace of the question, so these are counted, and whoever has met very many waits. Behind `fewAtOnce`.
 */
export function fewGuesses(database: Database): RequestHandler {
  const counted = throttle(database, {
    kind: 'learn by rehearsal',
    limit: GUESSES,
    key: (_, response) => response.locals.asks as string,
    // Verification rehearses by itself, with tokens of the service's own.
    skip: (_, response) => String(response.locals.asks).startsWith(OWN),
    counts: (response) => response.locals.tells === true,
  });
  return (request, response, next) => {
    if (request.get(REHEARSAL) === undefined) next();
    else void counted(request, response, next);
  };
}

/** Reading that takes so many times what it takes others just now, is dear. */
const MUCH = 4;
/** Refusals that are held back at a time. */
const MOST_HELD = 1_000;
/** Callers whose time is remembered. */
const REMEMBERED = 10_000;
/** Where nobody else has asked for so long, nobody is kept waiting by what one takes. */
const ALONE_MS = 60_000;

/**
 * Nobody takes all of the service: what one caller asks beyond a few requests at once waits its turn, without a connection to the
 * database, and where very many wait, more are answered with 429. So is whoever has read too much that takes long: a few cores are
 * soon busy with it. While nobody else asks, nobody is turned away for that. Visitors are told apart by their address, of which many
 * may share one: more of theirs wait. Each process counts for itself, its part of the whole.
 */
export function fewAtOnce(callers: Pick<CallerFinder, 'whoAsks'>, measure = MEASURE): RequestHandler {
  const turns = new Map<string, Turns>();
  const typical = new Typical();
  const times = new LRUCache<string, Times>({ max: REMEMBERED, ttl: 600_000, ttlResolution: 1_000 });
  // The last two are enough to know whether there is another.
  const seen = new LRUCache<string, true>({ max: 2, ttl: ALONE_MS, ttlResolution: 1_000 });
  let held = 0;
  return async (request, response, next) => {
    const who = isOwnVisitor(request) ? `${OWN}visitor` : await callers.whoAsks(request);
    response.locals.asks = who;
    // A response that has closed already does not close again: its place would never be given back.
    if (response.closed) return;
    const own = turns.get(who) ?? { running: 0, waiting: [] };
    turns.set(who, own);
    const isOwn = who.startsWith(OWN);
    if (!isOwn) seen.set(who, true);
    const refuse = (seconds: number) => {
      const turnAway = () => {
        if (!response.closed) next(new Problem('too-many-requests', {}, { 'Retry-After': String(seconds) }));
      };
      if (held >= MOST_HELD) {
        turnAway();
        return;
      }
      held++;
      setTimeout(() => {
        held--;
        turnAway();
      }, measure.heldMs).unref();
    };
    const note = (all: number, dear: number) => {
      const known = times.get(who);
      times.set(who, { all: spent(known?.all, all, 1), dear: spent(known?.dear, dear, measure.back) });
    };
    // Where all is slow, nobody is turned away for it: only what takes far longer than what others ask, now and a moment later. Who is
    // answered first after a stall waited longest, before anything is known of the others. And one answer alone turns nobody away.
    const charge = (took: number) => {
      const now = beyond(took, measure, typical);
      const settle = () => note(0, Math.min(measure.creditMs / 2, now, beyond(took, measure, typical)));
      setTimeout(settle, measure.settleMs).unref();
    };
    // Behind one address there may be very many visitors, each with little.
    const isOne = !who.startsWith('visitor');
    const most = () =>
      isOne && spentBy(times.get(who)?.all, 1) > measure.lengthMs ? measure.atLength : measure.atOnce;
    const begin = () => {
      const wait = isOwn ? 0 : waitOf(times.get(who)?.dear, measure);
      if (wait > 0 && [...seen.keys()].some((each) => each !== who)) {
        refuse(wait);
        return false;
      }
      own.running++;
      const begun = performance.now();
      response.once('close', () => {
        // The work goes on when whoever asked has gone, and counts until it is done.
        void ended(response.locals.work).then(() => {
          own.running--;
          const took = performance.now() - begun;
          note(took, 0);
          // What a write waits for may be another's doing.
          if (request.method === 'GET') {
            if (took > measure.freeMs) charge(took);
            typical.note(who, took);
          }
          passOn(own, most());
          if (own.running === 0) turns.delete(who);
        });
      });
      next();
      return true;
    };
    if (own.running < most()) {
      if (!begin() && own.running === 0) turns.delete(who);
      return;
    }
    if (own.waiting.length >= (isOne ? measure.waiting : 10 * measure.waiting)) refuse(1);
    else own.waiting.push({ begin, response });
  };
}

/** What a caller's requests have taken: all of it, and what was beyond the ordinary. */
interface Times {
  readonly all: Time;
  readonly dear: Time;
}

/** Milliseconds, at a moment of `performance.now()`. */
interface Time {
  readonly spent: number;
  readonly at: number;
}

function spent(before: Time | undefined, took: number, back: number): Time {
  return { spent: spentBy(before, back) + took, at: performance.now() };
}

/** How much longer it took than is free. */
function beyond(took: number, { freeMs }: Measure, typical: Typical): number {
  return Math.max(0, took - Math.max(freeMs, MUCH * typical.milliseconds));
}

/** What is left of it, where `back` of each millisecond since has come back. */
function spentBy(time: Time | undefined, back: number): number {
  return time === undefined ? 0 : Math.max(0, time.spent - (performance.now() - time.at) * back);
}

/** Seconds to wait. */
function waitOf(dear: Time | undefined, { back, creditMs }: Measure): number {
  return Math.max(0, Math.ceil((spentBy(dear, back) - creditMs) / back / 1_000));
}

interface Turns {
  running: number;
  /** `begin` answers whether it was begun. */
  readonly waiting: { readonly begin: () => boolean; readonly response: Response }[];
}

/** The next in line begins, where there is room; whoever has gone meanwhile is not worked for. */
function passOn({ running, waiting }: Turns, most: number): void {
  if (running >= most) return;
  for (let next = waiting.shift(); next !== undefined; next = waiting.shift()) {
    if (!next.response.closed && next.begin()) return;
  }
}
