import type { Request } from 'express';
import type { Logger } from 'pino';
import { heldRoles } from '../../core/evaluate/caller.ts';
import { Access } from '../../core/sql/access.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { arrive, type Arrival, type Credentials } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { RECORDS_AUDIENCE } from './development.ts';
import type { TokenVerifier } from './tokens.ts';

/** A request with everything that decides about it: the rules in force, who calls, the moment. */
export interface Audience {
  readonly rulebook: Rulebook;
  readonly access: Access;
}

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
    const arrival = await arrive(this.#database, credentials);
    if (arrival === null) return null;
    const rulebook = await this.#rulebooks.inForce(arrival.version);
    return { rulebook, access: new Access(rulebook, this.#holding(arrival, rulebook), arrival.now) };
  }

  async #credentials(token: string): Promise<Credentials> {
    const verified = await this.#tokens.verify(token);
    if (verified === null) throw invalidToken();
    if (!verified.development) return { kind: 'login', issuer: verified.issuer, subject: verified.subject };
    if (!verified.audiences.has(RECORDS_AUDIENCE)) throw invalidToken();
    return { kind: 'test identity', name: verified.subject };
  }

  /** With the roles that others include. One that the rulebook does not know is worth a line in the log. */
  #holding({ caller }: Arrival, rulebook: Rulebook): Arrival['caller'] {
    const unknown = [...caller.roles].filter((role) => !rulebook.roles.has(role));
    if (unknown.length > 0)
      this.#logger.warn({ roles: unknown }, 'roles that the rulebook does not know are ignored');
    return { ...caller, roles: heldRoles(rulebook, caller.roles) };
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
