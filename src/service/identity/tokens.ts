import { hash } from 'node:crypto';
import {
  createLocalJWKSet,
  decodeJwt,
  jwtVerify,
  type JWK,
  type JWTPayload,
  type JWTVerifyGetKey,
  type errors,
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
import { readJson } from '../input/json.ts';
import { isTokenFault, keySource } from './keys.ts';

/** Characters of the tokens whose claims are remembered: some ten thousand of the usual size. */
const MOST_CLAIMED = 12_000_000;

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
  readonly #remembered = new LRUCache<string, VerifiedToken>({
    maxSize: MOST_CLAIMED,
    ttl: 60_000,
    ttlResolution: 1_000,
  });

  constructor(issuers: readonly IssuerConfig[], leeway: number, development: JWK | null, proof: SigningKey) {
    this.#leeway = leeway;
    for (const config of issuers) {
      const { issuer, audience, algorithms, person, newcomers, byAddress } = config;
      if (issuer === DEVELOPMENT_ISSUER || issuer === PROOF_ISSUER)
        throw new ConfigError(`${issuer} is a name that the service keeps for itself`);
      this.#issuers.set(issuer, {
        keys: keySource(config),
        algorithms,
        audiences: [audience],
        development: false,
        person,
        newcomers: newcomers === 'admit',
        byAddress,
      });
    }
    this.#issuers.set(PROOF_ISSUER, {
      keys: createLocalJWKSet({ keys: [publicPart(proof.key)] }),
      algorithms: [DEVELOPMENT_ALGORITHM],
      audiences: [RECORDS_AUDIENCE],
      development: true,
      person: 'sub',
      newcomers: false,
      byAddress: 'refuse',
    });
    if (development !== null) {
      this.#issuers.set(DEVELOPMENT_ISSUER, {
        keys: createLocalJWKSet({ keys: [publicPart(development)] }),
        algorithms: [DEVELOPMENT_ALGORITHM],
        audiences: [RECORDS_AUDIENCE, DESK_AUDIENCE],
        development: true,
        person: 'sub',
        newcomers: false,
        byAddress: 'refuse',
      });
    }
  }

  /** Whom the token speaks for, or why it is not accepted. Throws `KeysUnavailable` where that cannot be known. */
  async verify(token: string): Promise<VerifiedToken | TokenFault> {
    const key = hash('sha256', token, 'base64');
    const known = this.#remembered.get(key);
    const now = Date.now() / 1000;
    if (known !== undefined && now < known.expires + this.#leeway) return known;
    const verified = await this.#verifyAnew(token);
    if (!('fault' in verified)) this.#remembered.set(key, verified, { size: token.length + 500 });
    return verified;
  }

  async #verifyAnew(token: string): Promise<VerifiedToken | TokenFault> {
    let payload: JWTPayload;
    let trusted: TrustedIssuer | undefined;
    // Whoever reads it before or after us must read the same (RFC 8725, section 2.7, and RFC 7493).
    if (
      token
        .split('.', 2)
        .some(
          (part) =>
            'must' in readJson(Buffer.from(part, 'base64url'), { values: MOST_CLAIMS, toKeep: false }),
        )
    )
      return { fault: 'it is not I-JSON' };
    try {
      // Not trusted yet: the claim only says whose keys to try, and a wrong one fails against them.
      trusted = this.#issuers.get(decodeJwt(token).iss ?? '');
      if (trusted === undefined) return { fault: 'its issuer is not one of ours' };
      ({ payload } = await jwtVerify(token, trusted.keys, {
        algorithms: [...trusted.algorithms],
        audience: [...trusted.audiences],
        clockTolerance: this.#leeway,
        requiredClaims: ['exp', 'sub', 'iat'],
      }));
    } catch (error) {
      if (isTokenFault(error)) return { fault: (error as errors.JOSEError).code };
      throw error;
    }
    // From here on the issuer itself has said so: what is strange about it can be told.
    const subject = Object.hasOwn(payload, trusted.person) ? payload[trusted.person] : undefined;
    if (!isName(payload.sub)) return { fault: STRANGE, claim: 'sub', must: NAME };
    if (!isName(subject)) return { fault: STRANGE, claim: trusted.person, must: NAME };
    // That it is there, and a number, was seen to above.
    if (payload.iat! > Date.now() / 1000 + this.#leeway) return { fault: 'it was made in the future' };
    return {
      issuer: payload.iss!,
      subject,
      name: `${payload.iss!} ${subject}`,
      audiences: new Set([payload.aud ?? []].flat()),
      development: trusted.development,
      newcomers: trusted.newcomers,
      byAddress: trusted.byAddress,
      expires: payload.exp!,
      claims: payload,
    };
  }
}

/** Why a token is not accepted: for the log. With `claim`, the issuer signed it and it says something strange: that may be told. */
export interface TokenFault {
  readonly fault: string;
  readonly claim?: string;
  readonly must?: string;
}

/** Values in a token at most; its length is bounded by what a header may hold. */
const MOST_CLAIMS = 2_000;

const STRANGE = 'a claim is of another type than it must be';
const NAME = 'a text of 1 to 500 characters';

/** What can name somebody: a text, short enough to be kept, without control characters. */
function isName(claim: unknown): claim is string {
  // oxlint-disable-next-line no-control-regex
  return typeof claim === 'string' && claim !== '' && claim.length <= 500 && !/[\u0000-\u001f]/.test(claim);
}

export interface VerifiedToken {
  readonly issuer: string;
  /** What the claim says that this issuer names people by. */
  readonly subject: string;
  /** The two of them as one, made once. */
  readonly name: string;
  readonly audiences: ReadonlySet<string>;
  /** Signed by one of our own keys: the subject is a test identity's name, or staff at the desk. */
  readonly development: boolean;
  /** Whether somebody whom nobody knows is added to people. */
  readonly newcomers: boolean;
  /** Whether the verified address of a newcomer tells who they are. */
  readonly byAddress: 'refuse' | 'link';
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
  readonly person: string;
  readonly newcomers: boolean;
  /** Whether the verified address of a newcomer tells who they are. */
  readonly byAddress: 'refuse' | 'link';
}
