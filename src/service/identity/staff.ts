import { parseCookie } from 'cookie';
import type { Request, RequestHandler } from 'express';
import type { Database } from '../../store/connection.ts';
import { KEY_PREFIX, keyOf, sessionStaff } from '../../store/staff/index.ts';
import { Problem } from '../problems/problem.ts';
import { bearerToken, invalidToken } from './caller.ts';
import { DESK_AUDIENCE } from './development.ts';
import type { Principal } from './principal.ts';
import type { TokenVerifier } from './tokens.ts';

export const SESSION_COOKIE = 'firmgate_session';

/** The session's secret, from the cookie. */
export function sessionSecret(request: Request): string | null {
  return parseCookie(request.headers.cookie ?? '')[SESSION_COOKIE] ?? null;
}

/**
 * Lets staff alone pass: a session of the console, a key, or a desk token of the development issuer (the command line).
 * Level, key and session are asked of the database each time: what was lowered or revoked counts from the next request
 * on. Cost: one index look-up.
 */
export class StaffDoor {
  readonly #database: Database;
  readonly #tokens: TokenVerifier;

  constructor(database: Database, tokens: TokenVerifier) {
    this.#database = database;
    this.#tokens = tokens;
  }

  async enter(request: Request): Promise<Principal> {
    const token = bearerToken(request);
    if (token === null) return this.#bySession(request);
    return token.startsWith(KEY_PREFIX) ? this.#byKey(token) : this.#byDeskToken(token);
  }

  async #bySession(request: Request): Promise<Principal> {
    const secret = sessionSecret(request);
    const staff = secret === null ? null : await sessionStaff(this.#database, secret);
    if (staff === null) throw new Problem('not-signed-in');
    return { kind: 'staff', id: `staff:${staff.id}`, name: staff.email, level: staff.level, areas: null };
  }

  async #byKey(secret: string): Promise<Principal> {
    const key = await keyOf(this.#database, secret);
    if (key === null) throw invalidToken();
    return {
      kind: 'key',
      id: `key:${key.id}`,
      name: `key ${key.name}`,
      level: key.level,
      areas: key.areas,
      issuer: key.issuer,
    };
  }

  async #byDeskToken(token: string): Promise<Principal> {
    const verified = await this.#tokens.verify(token);
    // A token for records is none for the desk, whoever signed it.
    if ('fault' in verified || !verified.development || !verified.audiences.has(DESK_AUDIENCE))
      throw invalidToken();
    const id = `development:${verified.subject}`;
    return {
      kind: 'development',
      id,
      name: `development: ${verified.subject}`,
      level: 'manager',
      areas: null,
    };
  }
}

/**
 * Cookies come along with requests that other sites make. SameSite=Strict keeps them away; where a browser names
 * the origin it must be ours all the same.
 */
export const refuseOtherSites: RequestHandler = (request, _, next) => {
  const { origin, host } = request.headers;
  const site = request.headers['sec-fetch-site'];
  const foreign = origin !== undefined && originHost(origin) !== host;
  if (foreign || (site !== undefined && site !== 'same-origin' && site !== 'none'))
    throw new Problem('cross-site');
  next();
};

function originHost(origin: string): string | null {
  return URL.canParse(origin) ? new URL(origin).host : null;
}
