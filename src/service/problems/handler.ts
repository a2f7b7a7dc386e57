import type { ErrorRequestHandler, Request, Response } from 'express';
import type { Logger } from 'pino';
import { PublishRefused, classify } from '../../store/failures.ts';
import { TooMuchToLoad } from '../../store/world.ts';
import { KeysUnavailable } from '../identity/keys.ts';
import { CallerGone, Problem } from './problem.ts';

/**
 * The end of every failed request: known problems as they are, everything else as one that tells the caller nothing.
 * What is logged of an unknown error is its kind and its stack, never its message, which may hold a value.
 */
export function problemHandler(logger: Logger): ErrorRequestHandler {
  return (error: unknown, request, response, next) => {
    if (error instanceof CallerGone) return;
    const isStream = String(response.getHeader('Content-Type')).startsWith(LINES);
    if (response.headersSent && !isStream) {
      next(error);
      return;
    }
    const problem = asProblem(error);
    if (problem.status >= 500)
      logger.error(
        { request: request.id, problem: problem.type, failure: describe(error) },
        'request failed',
      );
    if (response.headersSent) response.end(`${JSON.stringify({ problem: documentOf(problem, request) })}\n`);
    else answer(problem, request, response);
  };
}

/** Newline-delimited JSON: what a report that takes a while is told in. */
export const LINES = 'application/x-ndjson';

/** Sends a problem; also for what never reached a route. */
export function answer(problem: Problem, request: Request, response: Response): void {
  response
    .status(problem.status)
    .set({ 'Cache-Control': 'no-store', ...problem.headers })
    .type('application/problem+json')
    .send(JSON.stringify(documentOf(problem, request)));
}

function documentOf(problem: Problem, request: Request): object {
  return problem.document(typeof request.id === 'string' ? request.id : undefined);
}

/** What went wrong, as a problem that tells nothing that the caller may not know. */
export function asProblem(error: unknown): Problem {
  if (error instanceof Problem) return error;
  if (error instanceof PublishRefused) {
    return new Problem('cannot-publish', { errors: error.problems.map((message) => ({ message })) });
  }
  if (error instanceof TooMuchToLoad)
    return new Problem('too-many-records', { errors: [{ message: error.message }] });
  // The body parser marks its errors with a type of its own.
  switch ((error as { type?: unknown } | null)?.type) {
    case 'entity.too.large':
      return new Problem('too-large');
    case 'request.size.invalid':
    case 'request.aborted':
      return new Problem('malformed-request', { errors: [{ message: 'the body did not arrive whole' }] });
    case 'charset.unsupported':
    case 'encoding.unsupported':
      return new Problem('unsupported-media-type');
    default:
  }
  if (String((error as NodeJS.ErrnoException | null)?.code).startsWith('Z_'))
    return new Problem('malformed-request', {
      errors: [{ message: 'the body is not packed as its Content-Encoding says' }],
    });
  if (error instanceof URIError || (error as { status?: unknown } | null)?.status === 400) {
    return new Problem('malformed-request', { errors: [{ message: 'the address is not well formed' }] });
  }
  if (error instanceof KeysUnavailable) return new Problem('unavailable', {}, { 'Retry-After': '5' });
  const failure = classify(error);
  if (failure.kind === 'unavailable' || failure.kind === 'conflict') {
    return new Problem('unavailable', {}, { 'Retry-After': '1' });
  }
  return new Problem('internal');
}

function describe(error: unknown): object {
  if (!(error instanceof Error)) return { kind: typeof error };
  const frames = (error.stack ?? '').split('\n').filter((line) => line.trimStart().startsWith('at '));
  return {
    kind: error.name,
    code: (error as NodeJS.ErrnoException).code,
    at: frames.slice(0, 8).map((line) => line.trim()),
  };
}
