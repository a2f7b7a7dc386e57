import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import express, { Router } from 'express';
import { Problem } from '../problems/problem.ts';

/** What the built page holds where this answer's nonce belongs. */
const NONCE_MARK = '__FIRMGATE_NONCE__';

/** The web console: its page with a nonce of its own each time, and the files that it loads. */
export function consoleRoutes(folder: string): Router {
  const router = Router();
  const page = join(folder, 'index.html');
  const template = existsSync(page) ? readFileSync(page, 'utf8') : null;
  router.use(
    '/assets',
    express.static(join(folder, 'assets'), { immutable: true, maxAge: '1y', index: false, redirect: false }),
  );
  router.use('/assets', () => {
    throw new Problem('not-found');
  });
  router.get(['/', '/{*path}'], (_, response) => {
    if (template === null) throw new Problem('not-found');
    const nonce = randomBytes(16).toString('base64');
    response
      .set('Content-Security-Policy', contentSecurityPolicy(nonce))
      .set('Cache-Control', 'no-store')
      .type('html')
      .send(template.replaceAll(NONCE_MARK, nonce));
  });
  return router;
}

/** Own files only; styles that the components insert carry the nonce. Nobody may frame the page. */
function contentSecurityPolicy(nonce: string): string {
  return [
    "default-src 'none'",
    `script-src 'self' 'nonce-${nonce}'`,
    `style-src 'self' 'nonce-${nonce}'`,
    "font-src 'self'",
    "img-src 'self' data:",
    "connect-src 'self'",
    "base-uri 'none'",
    "form-action 'none'",
    "frame-ancestors 'none'",
  ].join('; ');
}
