import type { Request } from 'express';
import type { Logger } from 'pino';
import { Access } from '../../core/sql/access.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { arrive, type Arrival, type Credentials } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { DatabaseUnavailable } from '../../store/failures.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { RECORDS_AUDIENCE } from './development.ts';
import type { TokenVerifier } from './tokens.ts';

/** A request with everything that decides about it: the rules in force, who calls, the moment. */
export interface Audience {
  readonly rulebook: Rulebook;
  readonly access: Access;
}

/** Publications that may come between two questions before the request is given up. */
const ATTEMPTS = 4;

/**
 * Finds out who calls. No token: the visitor. A token that is not accepted, or that speaks for somebody unknown or
 * deactivated: 401, never a visitor instead. This is the one door: every route of records comes through here.
 */
export class CallerFinder {
  readonly #database: Database;
  readonly #tokens: TokenVerifier;
  readonly #rulebooks: RulebookKeeper;
  readonly #logger: Logger;

  constructor(database: Database, tokens: TokenVerifier, rulebooks: RulebookKeeper, logger: Logger) {
    this.#database = database;
    this.#tokens = tokens;
    this.#rulebooks = rulebooks;
    this.#logger = logger;
  }

  async find(request: Request): Promise<Audience> {
    const token = bearerToken(request);
    const credentials = token === null ? ({ kind: 'visitor' } as const) : await this.#credentials(token);
    const audience = await this.as(credentials);
    if (audience === null) throw invalidToken();
    return audience;
  }

  /** The same for credentials that staff name; null where they may not sign in. */
  async as(credentials: Credentials): Promise<Audience | null> {
    for (let attempt = 1; ; attempt++) {
      // What is known of a caller depends on the rulebook in force, and which one that is comes with the answer.
      const assumed = this.#rulebooks.latest;
      const arrival = await arrive(this.#database, assumed.rulebook, credentials);
      if (arrival === null) return null;
      if (arrival.version === assumed.version) return this.#audience(arrival, assumed.rulebook);
      if (attempt === ATTEMPTS)
        throw new DatabaseUnavailable('rulebooks are published faster than they are read');
      await this.#rulebooks.inForce(arrival.version);
    }
  }

  #audience({ caller, now, unknownRoles }: Arrival, rulebook: Rulebook): Audience {
    if (unknownRoles.length > 0)
      this.#logger.warn({ roles: unknownRoles }, 'roles that the rulebook does not know are ignored');
    return { rulebook, access: new Access(rulebook, caller, now) };
  }

  async #credentials(token: string): Promise<Credentials> {
    const verified = await this.#tokens.verify(token);
    if (verified === null) throw invalidToken();
    const { issuer, subject, claims } = verified;
    if (!verified.development) return { kind: 'login', issuer, subject, claims };
    if (!verified.audiences.has(RECORDS_AUDIENCE)) throw invalidToken();
    return { kind: 'test identity', name: verified.subject };
  }
}

/** The token of `Authorization: Bearer …`; null without the header. Any other scheme is not accepted. */
export function bearerToken(request: Request): string | null {
  const header = request.headers.authorization;
  if (header === undefined) return null;
  const parts = /^Bearer +([A-Za-z0-9._~+/=-]+) *$/i.exec(header);
  if (parts === null) throw invalidToken();
  return parts[1]!;
}

export function invalidToken(): Problem {
  return new Problem(
    'invalid-token',
    {},
    { 'WWW-Authenticate': 'Bearer realm="firmgate", error="invalid_token"' },
  );
}
