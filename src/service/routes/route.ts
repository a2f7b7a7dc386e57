import type { Request, RequestHandler, Response, Router } from 'express';
import { Problem } from '../problems/problem.ts';

type Method = 'get' | 'post' | 'put' | 'patch' | 'delete';
type Handler = (request: Request, response: Response) => Promise<void> | void;

/**
 * Offers a path: its methods, OPTIONS with `Allow`, and 405 with `Allow` for all others (RFC 9110). A GET answers
 * HEAD too. Every answer may be refused with 406 where the caller takes no JSON.
 */
export function offer(
  router: Router,
  path: string,
  handlers: Partial<Record<Method, Handler>>,
  before: RequestHandler[] = [],
): void {
  const route = router.route(path);
  const methods = Object.keys(handlers).map((method) => method.toUpperCase());
  const allow = [...methods, ...(methods.includes('GET') ? ['HEAD'] : []), 'OPTIONS'].join(', ');
  for (const [method, handler] of Object.entries(handlers) as [Method, Handler][]) {
    route[method](refuseForeignTypes, ...before, (request, response) => handler(request, response));
  }
  route.options((_, response) => {
    response.set('Allow', allow).status(204).end();
  });
  route.all(() => {
    throw new Problem('method-not-allowed', {}, { Allow: allow });
  });
}

const refuseForeignTypes: RequestHandler = (request, _, next) => {
  if (request.accepts(['application/json', 'application/problem+json']) === false)
    throw new Problem('not-acceptable');
  next();
};

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
