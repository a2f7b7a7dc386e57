import { parseCookie } from 'cookie';
import type { Request, RequestHandler } from 'express';
import { sessionStaff } from '../../store/staff.ts';
import type { Database } from '../../store/connection.ts';
import { Problem } from '../problems/problem.ts';
import { bearerToken, invalidToken } from './caller.ts';
import { DESK_AUDIENCE } from './development.ts';
import type { TokenVerifier } from './tokens.ts';

export const SESSION_COOKIE = 'firmgate_session';

/** The session's secret, from the cookie. */
export function sessionSecret(request: Request): string | null {
  return parseCookie(request.headers.cookie ?? '')[SESSION_COOKIE] ?? null;
}

/**
 * Lets staff alone pass: a session of the console, or a desk token of the development issuer (the command line).
 * Answers who they are, for the record.
 */
export class StaffDoor {
  readonly #database: Database;
  readonly #tokens: TokenVerifier;

  constructor(database: Database, tokens: TokenVerifier) {
    this.#database = database;
    this.#tokens = tokens;
  }

  async enter(request: Request): Promise<string> {
    const token = bearerToken(request);
    if (token !== null) {
      const verified = await this.#tokens.verify(token);
      // A token for records is none for the desk, whoever signed it.
      if (verified === null || !verified.development || !verified.audiences.has(DESK_AUDIENCE))
        throw invalidToken();
      return verified.subject;
    }
    const secret = sessionSecret(request);
    const staff = secret === null ? null : await sessionStaff(this.#database, secret);
    if (staff === null) throw new Problem('not-signed-in');
    return staff.email;
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
