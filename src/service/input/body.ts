import express, { type RequestHandler } from 'express';
import { Problem } from '../problems/problem.ts';
import { readJson } from './json.ts';

/**
 * Takes the body of a request as JSON, where it is of one of the media types; bodies of others are left to the routes, which refuse
 * them. Every body that the service takes comes through here. `limit`: bytes at most, after decompression, such as `1mb`; `values`: see `readJson`.
 */
export function jsonReader(
  limit: string,
  { types = ['application/json'], values = 50_000 }: { types?: readonly string[]; values?: number } = {},
): RequestHandler[] {
  const raw = express.raw({ limit, type: [...types] });
  const taking: RequestHandler = (request, response, next) => {
    // Of a request without a body there is nothing to be read (RFC 9112, section 6.3).
    if (request.headers['content-length'] === undefined && request.headers['transfer-encoding'] === undefined)
      next();
    else raw(request, response, next);
  };
  return [taking, parsing(values)];
}

const parsing =
  (values: number): RequestHandler =>
  (request, _, next) => {
    if (!Buffer.isBuffer(request.body)) {
      next();
      return;
    }
    const charset = /;\s*charset\s*=\s*"?([^\s;"]+)/i.exec(request.headers['content-type'] ?? '')?.[1];
    // JSON is UTF-8 between systems (RFC 8259, section 8.1).
    if (charset !== undefined && !/^utf-?8$/i.test(charset)) throw new Problem('unsupported-media-type');
    const read = request.body.length === 0 ? { value: {} } : readJson(request.body, { values, toKeep: true });
    if ('must' in read) throw malformed(read.pointer, read.must);
    request.body = read.value;
    next();
  };

function malformed(pointer: string, must: string): Problem {
  if (pointer === '') return new Problem('malformed-request', { errors: [{ message: `the body ${must}` }] });
  const [, field = ''] = pointer.split('/');
  return new Problem('malformed-request', {
    errors: [
      { message: `${pointer} ${must}`, pointer, field: field.replaceAll('~1', '/').replaceAll('~0', '~') },
    ],
  });
}
