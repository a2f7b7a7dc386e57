import { randomUUID } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import type { RequestHandler } from 'express';
import type { Logger } from 'pino';

declare module 'http' {
  interface IncomingMessage {
    /** Of the caller’s own choosing where it is one that can be logged; told in the answer, too. */
    id?: string;
  }
}

/**
 * One line a request: what, how it ended, how long. Neither the query nor a header nor a body is ever in it. Nothing is put together for a
 * level that is not logged.
 */
export function requestLog(logger: Logger): RequestHandler {
  return (request, response, next) => {
    const given = request.headers['x-request-id'];
    const id = typeof given === 'string' && /^[\w.:-]{1,128}$/.test(given) ? given : randomUUID();
    request.id = id;
    response.setHeader('X-Request-ID', id);
    const begun = performance.now();
    const path = pathOf(request);
    response.once('close', () => {
      const level = response.statusCode >= 500 ? 'error' : 'info';
      if (!logger.isLevelEnabled(level)) return;
      const { traceparent: trace } = request.headers;
      const line = {
        ...(typeof trace === 'string' && /^[0-9a-f-]{55}$/.test(trace) ? { trace } : {}),
        req: { id, method: request.method, path },
        res: { status: response.statusCode },
        responseTime: Math.round(performance.now() - begun),
      };
      logger[level](line, response.writableFinished ? 'request completed' : 'request aborted');
    });
    next();
  };
}

function pathOf({ url = '' }: IncomingMessage): string {
  const end = url.indexOf('?');
  return end < 0 ? url : url.slice(0, end);
}
