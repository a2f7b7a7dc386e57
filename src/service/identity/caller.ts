import type { Request } from 'express';
import { ipKeyGenerator } from 'express-rate-limit';
import { LRUCache } from 'lru-cache';
import type { Logger } from 'pino';
import { hasSameStanding, type Caller } from '../../core/decide/caller.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { shareableFrom } from '../../core/decide/shares.ts';
import { Access, MomentNotKnown } from '../../core/sql/access.ts';
import type { Fragment } from '../../core/sql/fragment.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import {
  arrivalNow,
  arrive,
  knownAs,
  type Arrival,
  type Arriving,
  type Credentials,
} from '../../store/callers.ts';
import type { Database, Reader } from '../../store/connection.ts';
import { DatabaseUnavailable } from '../../store/failures.ts';
import { Guessed, GuessedWrong } from '../../store/guess.ts';
import { OtherRules } from '../../store/in-force.ts';
import type { Guess } from '../../store/records/single.ts';
import type { Writer } from '../../store/records/writing.ts';
import { admitNewcomer, nameSaid } from '../../store/people/index.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { RECORDS_AUDIENCE } from './development.ts';
import type { TokenVerifier, VerifiedToken } from './tokens.ts';

/** A request with everything that decides about it: the rules in force, who calls, the moment. */
export interface Audience {
  readonly rulebook: Rulebook;
  readonly access: Access;
}

/** Callers whose last arrival is remembered. */
const LAST_KNOWN = 10_000;
/** Characters of what is remembered to guess by. */
const MOST_GUESSED = 8_000_000;
/** Characters of the statements that find out who calls. */
const MOST_TEXTS = 2_000_000;
/** Guesses that may be wrong within a minute or so before somebody is asked for in the ordinary way. */
const MOST_WRONG = 3;
const WRONG_MS = 60_000;

/** Publications that may come between two questions before the request is given up. */
const ATTEMPTS = 4;

/** An audience with what to ask: statements that read go through `on`. */
export interface ReadingAudience extends Audience {
  readonly on: Reader;
}

/** Who somebody was by the rules of then, and all that was said of them. */
interface Remembered {
  readonly rulebook: Rulebook;
  readonly caller: Caller;
  readonly said: string;
  /** What finds out whether they are so still, and the claims that it was made with: a token’s own stay the same object. */
  asking: { readonly claims: object | null; readonly arrival: Fragment } | null;
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
  readonly #asked = new WeakMap<Request, ReturnType<TokenVerifier['verify']>>();
  /** A token that comes again says the same again. */
  readonly #credentialsOf = new WeakMap<VerifiedToken, TokenCredentials>();
  /** Who somebody was when last asked: by it is guessed what a write may meet, and nothing is decided. */
  readonly #lastKnown = new LRUCache<string, Caller>({
    maxSize: MOST_GUESSED,
    sizeCalculation: ({ person, shared }, key) =>
      JSON.stringify([person?.values ?? null, shared?.map(({ records }) => records)]).length +
      key.length +
      500,
  });
  /**
   * Who somebody was when last asked, to ask as them while it is found out whether they are so still: by who they are, and by the
   * collections of which it matters what is shared with them.
   */
  readonly #guesses = new LRUCache<string, Remembered>({
    maxSize: MOST_GUESSED,
    // What is shared with them is there a second time.
    sizeCalculation: ({ said }, key) => 2 * said.length + key.length + 500,
  });
  /** By which rules they are: of others none is kept, and so no rulebook for their sake. */
  #guessedBy: Rulebook | null = null;
  /** The texts of their statements, which are the same for many. */
  readonly #texts = new LRUCache<string, string>({
    maxSize: MOST_TEXTS,
    sizeCalculation: (text) => text.length,
  });
  /** How often somebody was not who they were taken for, of late: an attribute may be another with each request. */
  readonly #wrong = new LRUCache<string, number>({ max: LAST_KNOWN, ttl: WRONG_MS });

  constructor(database: Database, tokens: TokenVerifier, rulebooks: RulebookKeeper, logger: Logger) {
    this.#database = database;
    this.#tokens = tokens;
    this.#rulebooks = rulebooks;
    this.#logger = logger;
  }

  /** `reading`: the collection whose records are about to be read, and no other but along its references. */
  async find(request: Request, { reading }: Pick<Arriving, 'reading'> = {}): Promise<Audience> {
    const token = bearerToken(request);
    const credentials: TokenCredentials =
      token === null ? { kind: 'visitor' } : await this.#credentials(request, token);
    return this.#known(credentials, { reading });
  }

  /**
   * Answers a request that reads. Where another version comes into force between its questions, all of them are asked again by that
   * one: so every answer is right for the version that it names.
   */
  async reading<T>(
    request: Request,
    options: Pick<Arriving, 'reading'>,
    work: (audience: ReadingAudience) => Promise<T>,
  ): Promise<T> {
    const token = bearerToken(request);
    const credentials: TokenCredentials =
      token === null ? { kind: 'visitor' } : await this.#credentials(request, token);
    const guess = options.reading === undefined ? null : this.#guessed(credentials, options.reading);
    if (guess !== null) {
      const { rulebook, caller, said, arrival } = guess;
      const on = new Guessed(this.#database, arrival, said);
      try {
        const answer = await work({ rulebook, access: new Access(rulebook, caller, () => on.now), on });
        // Nothing is answered, and nothing refused, before it is known who asks.
        if (on.isRight) {
          named(request, rulebook);
          return answer;
        }
      } catch (error) {
        if (error instanceof GuessedWrong) this.#wasWrong(credentials, options.reading!);
        if (!isOfTheGuess(error) && (on.isRight || !(error instanceof Problem))) {
          named(request, rulebook);
          throw error;
        }
      }
    }
    for (let attempt = 1; ; attempt++) {
      const audience = await this.#known(credentials, options);
      // A refusal is by a version, too.
      named(request, audience.rulebook);
      try {
        return await work({ ...audience, on: this.#database });
      } catch (error) {
        if (!(error instanceof OtherRules) || attempt === ATTEMPTS) throw error;
        await this.#rulebooks.inForce(error.version);
      }
    }
  }

  /**
   * Whoever was here before, as whom they were then, with what finds out whether they are so still; null where nobody was. They are
   * about to ask for records of the collection, and for no other but along its references.
   */
  #guessed(credentials: TokenCredentials, collection: string): (Remembered & { arrival: Fragment }) | null {
    if ((this.#wrong.get(keyOf(credentials)) ?? 0) >= MOST_WRONG) return null;
    const { rulebook } = this.#rulebooks.latest;
    const about = shareableFrom(rulebook, collection);
    const guess = this.#guesses.get(guessKey(credentials, about));
    if (guess?.rulebook !== rulebook) return null;
    const claims = credentials.kind === 'login' ? credentials.claims : null;
    if (guess.asking?.claims !== claims) {
      const { text, values } = arrivalNow(rulebook, credentials, guess.caller, about);
      const shared = remembered<string, string>(this.#texts, text, () => text);
      guess.asking = { claims, arrival: { text: shared, values } };
    }
    return { ...guess, arrival: guess.asking!.arrival };
  }

  /** The same to write as them. */
  #guessedToWrite(request: Request, credentials: TokenCredentials, collection: string): Guess | null {
    const guess = this.#guessed(credentials, collection);
    // Statements of writes are kept for everybody of the same roles: none is made of what is shared with one.
    if (guess === null || guess.caller.shared !== undefined) return null;
    const { rulebook, caller, said, arrival } = guess;
    return {
      access: new Access(rulebook, caller, () => null),
      asking: arrival,
      said,
      wasWrong: () => this.#wasWrong(credentials, collection),
      wasRight: () => named(request, rulebook),
    };
  }

  /** Whose request it is, before anything else is known of them: by a good token, or by the address it comes from. */
  async whoAsks(request: Request): Promise<string> {
    const token = bearerToken(request);
    const verified = token === null ? null : await this.#verified(request, token);
    if (verified !== null && !('fault' in verified)) return verified.name;
    return `visitor ${ipKeyGenerator(request.ip ?? '')}`;
  }

  /** Who they were when last asked; whoever has not been, is asked now. */
  async #lastSeen(credentials: TokenCredentials): Promise<Caller> {
    const key = keyOf(credentials);
    const known = this.#lastKnown.get(key);
    if (known !== undefined) return known;
    const { caller } = (await this.#known(credentials)).access;
    this.#lastKnown.set(key, caller);
    return caller;
  }

  /** Somebody who may call at all, with the rules in force: 401 for anybody else. */
  async #known(credentials: TokenCredentials, options: Arriving = {}): Promise<Audience> {
    const audience = (await this.as(credentials, options)) ?? (await this.#newcomer(credentials));
    if (audience !== null) return audience;
    this.#logger.info({ fault: 'it speaks for nobody who is known and active' }, 'token refused');
    throw invalidToken();
  }

  /**
   * Carries out a write. What is asked for is read with the rules that are most likely in force, and who calls is found out in
   * the transaction that writes: so whoever was let go, lost a role or a share a moment ago does not write any more. Where other
   * rules have come meanwhile, all of it starts over. `read` makes of a request what is to be written, and may refuse it; that
   * is told only to those who may call at all.
   */
  async changing<T>(
    request: Request,
    read: (rulebook: Rulebook) => (who: Writer) => Promise<T>,
    /** The collection that is written, where it is the only one. */
    collection: string | null = null,
  ): Promise<T> {
    const token = bearerToken(request);
    const credentials: TokenCredentials =
      token === null ? { kind: 'visitor' } : await this.#credentials(request, token);
    for (let attempt = 1; ; attempt++) {
      const assumed = this.#rulebooks.latest;
      let work: (who: Writer) => Promise<T>;
      try {
        work = read(assumed.rulebook);
      } catch (refusal) {
        const { rulebook } = await this.#known(credentials);
        named(request, rulebook);
        if (rulebook === assumed.rulebook || attempt === ATTEMPTS) throw refusal;
        continue;
      }
      const guessed = await this.#lastSeen(credentials);
      try {
        return await work({
          rulebook: assumed.rulebook,
          before: guessed,
          guess:
            collection === null || attempt > 1
              ? null
              : this.#guessedToWrite(request, credentials, collection),
          arrive: async (transaction) => {
            const arrival = await arrive(transaction, assumed.rulebook, credentials, { holding: true });
            if (arrival === null) throw new NobodyKnown();
            if (arrival.version !== assumed.version) throw new OtherRules(arrival.version);
            named(request, assumed.rulebook);
            if (!hasSameStanding(guessed, arrival.caller))
              this.#lastKnown.set(keyOf(credentials), arrival.caller);
            this.#remember(credentials, arrival, assumed.rulebook, collection ?? undefined);
            return this.#audience(arrival, assumed.rulebook).access;
          },
        });
      } catch (error) {
        // Somebody new may come with their first write; anybody else is told that they are nobody.
        if (error instanceof NobodyKnown) await this.#known(credentials);
        else if (error instanceof OtherRules) await this.#rulebooks.inForce(error.version);
        else throw error;
        if (attempt === ATTEMPTS) throw tooManyRulebooks();
      }
    }
  }

  /**
   * Who comes with a token of an issuer of ours and need not be known yet: with the address and the name that it says. For
   * those who were invited.
   */
  async stranger(request: Request): Promise<Stranger> {
    const token = bearerToken(request);
    const credentials = token === null ? null : await this.#credentials(request, token);
    if (credentials?.kind !== 'login') throw invalidToken();
    const { issuer, subject, claims } = credentials;
    const { rulebook } = (await this.as({ kind: 'visitor' }))!;
    const email =
      claims.email_verified === true && typeof claims.email === 'string' ? claims.email.trim() : null;
    return { rulebook, issuer, subject, email, name: nameSaid(claims) };
  }

  /** Somebody of an issuer whose people may come by themselves, at their first token; null for anybody else. */
  async #newcomer(credentials: TokenCredentials): Promise<Audience | null> {
    if (credentials.kind !== 'login' || !credentials.newcomers) return null;
    // Who is nobody has not been told which rulebook is in force; a visitor is.
    const { rulebook } = (await this.as({ kind: 'visitor' }))!;
    const come = await admitNewcomer(this.#database, rulebook, credentials);
    if (come === 'cannot')
      this.#logger.warn('somebody new cannot be added: people have a required field without a default');
    return come === 'admitted' ? this.as(credentials) : null;
  }

  /** The same for credentials that staff name; null where they may not sign in. */
  async as(credentials: Credentials, options: Arriving = {}): Promise<Audience | null> {
    for (let attempt = 1; ; attempt++) {
      // What is known of a caller depends on the rulebook in force, and which one that is comes with the answer.
      const assumed = this.#rulebooks.latest;
      const arrival = await arrive(this.#database, assumed.rulebook, credentials, options);
      if (arrival === null) return null;
      if (arrival.version === assumed.version) {
        this.#remember(credentials, arrival, assumed.rulebook, options.reading);
        return this.#audience(arrival, assumed.rulebook);
      }
      if (attempt === ATTEMPTS) throw tooManyRulebooks();
      await this.#rulebooks.inForce(arrival.version);
    }
  }

  /** Once is enough: nobody goes on asking as whom they are not. */
  #wasWrong(credentials: Credentials, collection: string): void {
    const key = keyOf(credentials);
    this.#guesses.delete(guessKey(credentials, shareableFrom(this.#rulebooks.latest.rulebook, collection)));
    this.#wrong.set(key, (this.#wrong.get(key) ?? 0) + 1);
  }

  /** For the next question about the collection; only such are guessed. */
  #remember(
    credentials: Credentials,
    arrival: Arrival,
    rulebook: Rulebook,
    collection: string | undefined,
  ): void {
    if (collection === undefined) return;
    if (this.#guessedBy !== rulebook) {
      this.#guesses.clear();
      this.#guessedBy = rulebook;
    }
    const about = shareableFrom(rulebook, collection);
    const key = guessKey(credentials, about);
    // A role that nobody knows is told of with each request.
    if (arrival.unknownRoles.length > 0) this.#guesses.delete(key);
    else this.#guesses.set(key, { rulebook, ...knownAs(arrival, about), asking: null });
  }

  #audience({ caller, now, unknownRoles }: Arrival, rulebook: Rulebook): Audience {
    if (unknownRoles.length > 0)
      this.#logger.warn({ roles: unknownRoles }, 'roles that the rulebook does not know are ignored');
    return { rulebook, access: new Access(rulebook, caller, now) };
  }

  /** Asked more than once on the way of a request, and verified once. */
  #verified(request: Request, token: string): ReturnType<TokenVerifier['verify']> {
    const known = this.#asked.get(request) ?? this.#tokens.verify(token);
    this.#asked.set(request, known);
    return known;
  }

  async #credentials(request: Request, token: string): Promise<TokenCredentials> {
    const verified = await this.#verified(request, token);
    if ('fault' in verified) {
      // The reason is for whoever runs the service; a claim of a signed token may be told to whoever holds it.
      this.#logger.info({ fault: verified.fault, claim: verified.claim }, 'token refused');
      throw invalidToken(verified.claim === undefined ? null : `${verified.claim} must be ${verified.must}`);
    }
    return remembered<VerifiedToken, TokenCredentials>(this.#credentialsOf, verified, () => {
      const { issuer, subject, claims, newcomers, byAddress } = verified;
      if (!verified.development) return { kind: 'login', issuer, subject, claims, newcomers, byAddress };
      if (!verified.audiences.has(RECORDS_AUDIENCE)) throw invalidToken();
      return { kind: 'test identity', name: verified.subject };
    });
  }
}

/** The header that says which version of the rulebook an answer is right for. */
export const RULEBOOK = 'Firmgate-Rulebook';

function named(request: Request, { version }: Rulebook): void {
  if (version !== null && request.res?.headersSent === false)
    request.res.setHeader(RULEBOOK, String(version));
}

/** Nothing is wrong but that they are not who they were taken for, or that it could not be asked so. */
function isOfTheGuess(error: unknown): boolean {
  return error instanceof GuessedWrong || error instanceof MomentNotKnown || error instanceof OtherRules;
}

const keys = new WeakMap<Credentials, string>();

function keyOf(credentials: Credentials): string {
  return remembered(keys, credentials, () => keyMade(credentials));
}

function keyMade(credentials: Credentials): string {
  switch (credentials.kind) {
    case 'visitor':
      return 'visitor';
    case 'test identity':
      return `identity ${credentials.name}`;
    case 'person':
      return `person ${credentials.id}`;
    case 'login':
      return `login ${credentials.issuer.length} ${credentials.issuer} ${credentials.subject}`;
  }
}

function guessKey(credentials: Credentials, about: ReadonlySet<string>): string {
  return about.size === 0 ? keyOf(credentials) : `${[...about].join(' ')} of ${keyOf(credentials)}`;
}

/** Whoever the token speaks for is not known, or not active any more. */
class NobodyKnown extends Error {}

function tooManyRulebooks(): DatabaseUnavailable {
  return new DatabaseUnavailable('rulebooks are published faster than they are read');
}

/** The token of `Authorization: Bearer …`; null without the header. Any other scheme is not accepted. */
export function bearerToken(request: Request): string | null {
  const header = request.headers.authorization;
  if (header === undefined) return null;
  const parts = /^Bearer +([A-Za-z0-9._~+/=-]+) *$/i.exec(header);
  if (parts === null) throw invalidToken();
  return parts[1]!;
}

export function invalidToken(strange: string | null = null): Problem {
  const members = strange === null ? {} : { errors: [{ message: strange }] };
  return new Problem('invalid-token', members, {
    'WWW-Authenticate': 'Bearer realm="firmgate", error="invalid_token"',
  });
}

/** Somebody with a good token who need not be known. */
export interface Stranger {
  readonly rulebook: Rulebook;
  readonly issuer: string;
  readonly subject: string;
  /** The address that their issuer has verified. */
  readonly email: string | null;
  readonly name: string | null;
}

/** How a token of an application's own issuer, or of the development issuer, or none, says who calls. */
type TokenCredentials =
  | Exclude<Credentials, { kind: 'login' }>
  | (Extract<Credentials, { kind: 'login' }> & {
      readonly newcomers: boolean;
      readonly byAddress: 'refuse' | 'link';
    });
