import type { Request, RequestHandler, Response, Router } from 'express';
import { LINES } from '../problems/handler.ts';
import { CallerGone, Problem } from '../problems/problem.ts';

type Method = 'get' | 'post' | 'put' | 'patch' | 'delete';
type Handler = (request: Request, response: Response) => Promise<void> | void;

/**
 * Offers a path: its methods, OPTIONS with `Allow`, and 405 with `Allow` for all others (RFC 9110). A GET answers
 * HEAD too. Every answer may be refused with 406 where the caller takes none of the types.
 */
export function offer(
  router: Router,
  path: string,
  handlers: Partial<Record<Method, Handler>>,
  before: RequestHandler[] = [],
  types: readonly string[] = ['application/json', 'application/problem+json'],
): void {
  const route = router.route(path);
  const methods = Object.keys(handlers).map((method) => method.toUpperCase());
  const allow = [...methods, ...(methods.includes('GET') ? ['HEAD'] : []), 'OPTIONS'].join(', ');
  for (const [method, handler] of Object.entries(handlers) as [Method, Handler][]) {
    route[method](refuseForeignTypes(types), ...before, (request, response) => handler(request, response));
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
  route.post(...before, async (request, response) => {
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

function refuseForeignTypes(types: readonly string[]): RequestHandler {
  return (request, _, next) => {
    if (request.accepts([...types]) === false) throw new Problem('not-acceptable');
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
