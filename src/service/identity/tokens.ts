import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import {
  createLocalJWKSet,
  createRemoteJWKSet,
  decodeJwt,
  errors,
  jwtVerify,
  type JSONWebKeySet,
  type JWK,
  type JWTVerifyGetKey,
} from 'jose';
import { LRUCache } from 'lru-cache';
import { ConfigError, type IssuerConfig } from '../config.ts';
import {
  DESK_AUDIENCE,
  DEVELOPMENT_ALGORITHM,
  DEVELOPMENT_ISSUER,
  PROOF_ISSUER,
  RECORDS_AUDIENCE,
  publicPart,
  type SigningKey,
} from './development.ts';

/**
 * Bearer tokens (RFC 6750) that are signed JWTs (RFC 7519), held to RFC 8725: the issuer that the token names
 * chooses the keys, the algorithms and the audience from our settings; nothing that the token brings along
 * (`jwk`, `jku`, `x5u`) is looked at; `exp`, `sub` and `iat` must be there.
 *
 * A token is verified once and remembered for at most a minute: what it says cannot change. Whether the person is
 * active, and which roles they hold, is asked of the database on every request all the same.
 */
export class TokenVerifier {
  readonly #issuers = new Map<string, TrustedIssuer>();
  readonly #leeway: number;
  readonly #remembered = new LRUCache<string, VerifiedToken>({ max: 10_000, ttl: 60_000 });

  constructor(issuers: readonly IssuerConfig[], leeway: number, development: JWK | null, proof: SigningKey) {
    this.#leeway = leeway;
    for (const { issuer, audience, algorithms, keys } of issuers) {
      if (issuer === DEVELOPMENT_ISSUER || issuer === PROOF_ISSUER)
        throw new ConfigError(`${issuer} is a name that the service keeps for itself`);
      this.#issuers.set(issuer, {
        keys: keySource(keys),
        algorithms,
        audiences: [audience],
        development: false,
      });
    }
    this.#issuers.set(PROOF_ISSUER, {
      keys: createLocalJWKSet({ keys: [publicPart(proof.key)] }),
      algorithms: [DEVELOPMENT_ALGORITHM],
      audiences: [RECORDS_AUDIENCE],
      development: true,
    });
    if (development !== null) {
      this.#issuers.set(DEVELOPMENT_ISSUER, {
        keys: createLocalJWKSet({ keys: [publicPart(development)] }),
        algorithms: [DEVELOPMENT_ALGORITHM],
        audiences: [RECORDS_AUDIENCE, DESK_AUDIENCE],
        development: true,
      });
    }
  }

  /** Whom the token speaks for, or null for any token that is not accepted. Throws where keys cannot be fetched. */
  async verify(token: string): Promise<VerifiedToken | null> {
    const key = createHash('sha256').update(token).digest('base64');
    const known = this.#remembered.get(key);
    const now = Date.now() / 1000;
    if (known !== undefined && now < known.expires + this.#leeway) return known;
    const verified = await this.#verifyAnew(token);
    if (verified !== null) this.#remembered.set(key, verified);
    return verified;
  }

  async #verifyAnew(token: string): Promise<VerifiedToken | null> {
    try {
      // Not trusted yet: the claim only says whose keys to try, and a wrong one fails against them.
      const trusted = this.#issuers.get(decodeJwt(token).iss ?? '');
      if (trusted === undefined) return null;
      const { payload } = await jwtVerify(token, trusted.keys, {
        algorithms: [...trusted.algorithms],
        audience: [...trusted.audiences],
        clockTolerance: this.#leeway,
        requiredClaims: ['exp', 'sub', 'iat'],
      });
      if (payload.iat! > Date.now() / 1000 + this.#leeway) return null;
      if (payload.sub === '' || typeof payload.sub !== 'string') return null;
      const audiences = new Set([payload.aud ?? []].flat());
      return {
        issuer: payload.iss!,
        subject: payload.sub,
        audiences,
        development: trusted.development,
        expires: payload.exp!,
        claims: payload,
      };
    } catch (error) {
      if (error instanceof errors.JOSEError && !(error instanceof errors.JWKSTimeout)) return null;
      throw error;
    }
  }
}

export interface VerifiedToken {
  readonly issuer: string;
  readonly subject: string;
  readonly audiences: ReadonlySet<string>;
  /** Signed by one of our own keys: the subject is a test identity's name, or staff at the desk. */
  readonly development: boolean;
  /** All that the token says. */
  readonly claims: Readonly<Record<string, unknown>>;
  /** Seconds since 1970. */
  readonly expires: number;
}

interface TrustedIssuer {
  readonly keys: JWTVerifyGetKey;
  readonly algorithms: readonly string[];
  readonly audiences: readonly string[];
  readonly development: boolean;
}

function keySource(keys: string): JWTVerifyGetKey {
  // jose fetches a set at most once in 30 s, however many unknown key ids arrive, and keeps it for ten minutes.
  if (/^https?:/.test(keys)) return createRemoteJWKSet(new URL(keys), { timeoutDuration: 3_000 });
  try {
    return createLocalJWKSet(JSON.parse(readFileSync(keys, 'utf8')) as JSONWebKeySet);
  } catch (error) {
    throw new ConfigError(`the key set ${keys} cannot be read: ${(error as Error).message}`);
  }
}
