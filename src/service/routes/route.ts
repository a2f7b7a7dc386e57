import type { Request, RequestHandler, Response, Router } from 'express';
import type { Database, Executor } from '../../store/connection.ts';
import { rolledBack } from '../../store/roll-back.ts';
import type { ProblemType } from '../../client/schemas/problems.ts';
import { jsonReader } from '../input/body.ts';
import { LINES } from '../problems/handler.ts';
import { CallerGone, Problem } from '../problems/problem.ts';

type Method = 'get' | 'post' | 'put' | 'patch' | 'delete';
type Handler = (request: Request, response: Response) => Promise<void> | void;

/** Asks for a write to be carried out in full, answered, and taken back. */
export const REHEARSAL = 'Firmgate-Rehearsal';

/** Does the work of a write: so that it stays, or, where a rehearsal is asked for, so that nothing of it does. */
export type CarryOut = <T>(work: (on: Executor) => Promise<T>) => Promise<T>;

/** Refusals that tell of records which the caller may not know; docs/http.md names them. */
const telling: ReadonlySet<string> = new Set<ProblemType>(['value-taken', 'still-referenced', 'tree-circle']);

const rehearsable = new WeakSet<Handler>();
const withParameters = new WeakSet<Handler>();

/**
 * A write that can be rehearsed: the answer is the same, and of a rehearsal nothing stays. The handler writes by what it is
 * given, and by nothing else. Every other write refuses to be rehearsed: see `offer`.
 */
export function write(
  database: Database,
  handler: (request: Request, response: Response, carryOut: CarryOut) => Promise<void>,
): Handler {
  const handle: Handler = (request, response) => {
    const asked = request.get(REHEARSAL);
    if (asked === undefined) return handler(request, response, (work) => work(database));
    // A word that is not understood must not become a write that stays.
    if (asked !== 'true') throw malformedHeader(`${REHEARSAL} is “true”, or left out`);
    const rehearsal = handler(request, response, async (work) => {
      const outcome = await rolledBack(database, work);
      response.set(REHEARSAL, 'true');
      return outcome;
    });
    return rehearsal.catch((error: unknown) => {
      if (error instanceof Problem && telling.has(error.type)) response.locals.tells = true;
      throw error;
    });
  };
  rehearsable.add(handle);
  return handle;
}

/** A handler other than of a GET that takes parameters in the address, and looks at each itself. */
export function takingParameters(handler: Handler): Handler {
  const handle: Handler = (request, response) => handler(request, response);
  withParameters.add(handle);
  if (rehearsable.has(handler)) rehearsable.add(handle);
  return handle;
}

function malformedHeader(message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field: REHEARSAL }] });
}

/** What no handler could be relied on to refuse by itself: a parameter or a rehearsal that would be passed over in silence. */
function refuseIgnored(request: Request, handler: Handler): void {
  const [parameter] =
    withParameters.has(handler) || !request.url.includes('?') ? [] : Object.keys(request.query);
  if (parameter !== undefined)
    throw new Problem('malformed-request', {
      errors: [{ message: 'this request takes no parameters', field: parameter.slice(0, 100) }],
    });
  if (request.get(REHEARSAL) !== undefined && !rehearsable.has(handler))
    throw malformedHeader('this request cannot be rehearsed: leave the header out, and it is carried out');
}

/** How bodies are read that are no rulebook and no list. */
export const recordBody = jsonReader('1mb', { types: ['application/json', 'application/merge-patch+json'] });

/**
 * Offers a path: its methods, OPTIONS with `Allow`, and 405 with `Allow` for all others (RFC 9110). A GET answers
 * HEAD too. Every answer may be refused with 406 where the caller takes none of the types. What is no GET takes neither parameters
 * nor a rehearsal, but where its handler says so. `body`: how theirs is read; rulebooks and lists have larger limits than records.
 */
export function offer(
  router: Router,
  path: string,
  handlers: Partial<Record<Method, Handler>>,
  body: RequestHandler[] = recordBody,
  types: readonly string[] = ['application/json', 'application/problem+json'],
): void {
  const route = router.route(path);
  const methods = Object.keys(handlers).map((method) => method.toUpperCase());
  const allow = [...methods, ...(methods.includes('GET') ? ['HEAD'] : []), 'OPTIONS'].join(', ');
  for (const [method, handler] of Object.entries(handlers) as [Method, Handler][]) {
    const handle: RequestHandler = (request, response) => {
      if (method !== 'get') refuseIgnored(request, handler);
      const work = handler(request, response);
      // Whoever counts what a caller has running waits for the work itself, also when the caller has gone.
      response.locals.work = work;
      return work;
    };
    const read = method === 'get' ? [] : body;
    route[method](marked(path), refuseForeignTypes(types), ...read, handle);
  }
  route.options((_, response) => {
    response.set('Allow', allow).status(204).end();
  });
  route.all(() => {
    throw new Problem('method-not-allowed', {}, { Allow: allow });
  });
}

/** What a long piece of work says of itself on the way. */
export interface Progress {
  readonly done: number;
  readonly total: number;
  /** What it is at, in a word or two. */
  readonly doing: string;
  /** Of trials: expectations that were not met, so far. */
  readonly failed?: number;
}

/** Progress is told at most so often. */
const PROGRESS_MILLISECONDS = 200;

/**
 * Offers a report that takes a while. A caller who accepts JSON gets it when it is there; one who asks for
 * newline-delimited JSON gets lines of `progress` on the way, and as the last either the `report` or a `problem`. A
 * stream without a last line of these was cut short, and is no report.
 */
export function offerReport(
  router: Router,
  path: string,
  before: RequestHandler[],
  work: (request: Request, response: Response, progress: (progress: Progress) => void) => Promise<object>,
): void {
  const route = router.route(path);
  const noWrite: Handler = () => {};
  route.post(marked(path), ...before, async (request, response) => {
    refuseIgnored(request, noWrite);
    const type = request.accepts(['application/json', LINES]);
    if (type === false) throw new Problem('not-acceptable');
    response.set({ 'Cache-Control': 'private, no-store', Vary: 'Authorization, Accept' });
    // Nobody waits for the report any more: the work ends, and what it holds is let go of.
    const orEnd = () => {
      if (response.closed) throw new CallerGone();
    };
    if (type !== LINES) {
      response.type('application/json').send(JSON.stringify(await work(request, response, orEnd)));
      return;
    }
    let told = performance.now();
    const line = (document: object) => {
      response.write(`${JSON.stringify(document)}\n`);
    };
    const begin = () => {
      if (!response.headersSent) response.type(LINES).flushHeaders();
    };
    // What goes wrong on the way becomes the last line: see the problem handler.
    const report = await work(request, response, (progress) => {
      orEnd();
      if (performance.now() - told < PROGRESS_MILLISECONDS) return;
      told = performance.now();
      begin();
      line({ progress });
    });
    begin();
    line({ report });
    response.end();
  });
  route.options((_, response) => {
    response.set('Allow', 'POST, OPTIONS').status(204).end();
  });
  route.all(() => {
    throw new Problem('method-not-allowed', {}, { Allow: 'POST, OPTIONS' });
  });
}

/** Says which route it was, for whoever counts: by its pattern, never by what was asked. */
function marked(path: string): RequestHandler {
  return (request, response, next) => {
    response.locals.route = `${request.baseUrl}${path}`;
    next();
  };
}

function refuseForeignTypes(types: readonly string[]): RequestHandler {
  const all = [...types];
  return (request, _, next) => {
    const { accept } = request.headers;
    if (accept !== undefined && accept !== '*/*' && request.accepts(all) === false)
      throw new Problem('not-acceptable');
    next();
  };
}

/** The body as an object, where it is JSON of one of the media types; 415 or 400 otherwise. */
export function jsonBody(request: Request, types: readonly string[]): Record<string, unknown> {
  if (request.is([...types]) === false || request.headers['content-type'] === undefined) {
    throw new Problem('unsupported-media-type', {}, { Accept: types.join(', ') });
  }
  const body: unknown = request.body;
  if (typeof body !== 'object' || body === null || Array.isArray(body)) {
    throw new Problem('malformed-request', { errors: [{ message: 'the body must be a JSON object' }] });
  }
  return body as Record<string, unknown>;
}
