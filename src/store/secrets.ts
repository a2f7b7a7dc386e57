import { createHash, randomBytes } from 'node:crypto';
import { sql, value, type Fragment } from '../core/sql/fragment.ts';

/**
 * Secrets that the service makes itself: sessions, keys, links. 256 random bits need no slow hash: nobody guesses them,
 * and what is stored cannot be turned back.
 */
export function newSecret(prefix = ''): string {
  return prefix + randomBytes(32).toString('base64url');
}

/** What is stored of a secret: its SHA-256, as a `bytea`. */
export function hashOf(secret: string): Fragment {
  return sql`decode(${value(digestOf(secret))}, 'hex')`;
}

/** The same in hexadecimal, for many at once. */
export function digestOf(secret: string): string {
  return createHash('sha256').update(secret).digest('hex');
}
