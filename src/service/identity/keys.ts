import { readFileSync, statSync } from 'node:fs';
import {
  createLocalJWKSet,
  createRemoteJWKSet,
  customFetch,
  errors,
  type FetchImplementation,
  type JSONWebKeySet,
  type JWTVerifyGetKey,
} from 'jose';
import { ConfigError, type IssuerConfig } from '../config.ts';

/** The keys of an issuer cannot be had just now: whether a token is good is not known. */
export class KeysUnavailable extends Error {
  override readonly name = 'KeysUnavailable';
}

/** A file is looked at for changes at most so often. */
const FILE_MILLISECONDS = 1_000;

/** How long a set that was fetched counts for where its issuer cannot be reached any more. */
const LONGEST_MILLISECONDS = 3_600_000;

const FETCH_MILLISECONDS = 3_000;

/**
 * Where an issuer's keys come from: a JWK Set (RFC 7517) behind a URL, or in a file. Keys that are added or taken away
 * count without a restart. Throws `ConfigError` for a file that cannot be read at the start.
 */
export function keySource({ keys, keep, pause }: IssuerConfig): JWTVerifyGetKey {
  return /^https?:/.test(keys) ? fromUrl(keys, keep * 1_000, pause * 1_000) : fromFile(keys);
}

/** Read again when the file was changed. One that can then not be read leaves the keys as they are. */
function fromFile(path: string): JWTVerifyGetKey {
  const read = () => createLocalJWKSet(JSON.parse(readFileSync(path, 'utf8')) as JSONWebKeySet);
  let set: ReturnType<typeof read>;
  let changed: number;
  try {
    [changed, set] = [statSync(path).mtimeMs, read()];
  } catch (error) {
    throw new ConfigError(`the key set ${path} cannot be read: ${(error as Error).message}`);
  }
  let looked = Date.now();
  return async (header, token) => {
    if (Date.now() - looked >= FILE_MILLISECONDS) {
      looked = Date.now();
      try {
        const now = statSync(path).mtimeMs;
        if (now !== changed) [changed, set] = [now, read()];
      } catch {
        // Half written, or moved: looked at again in a moment.
      }
    }
    return set(header, token);
  };
}

/**
 * Fetched when it is first asked for, kept for a while, and fetched anew when a token names a key that is not in it. Between
 * two fetches lies a pause, whether they went well or not: no caller can make the service ask without bound.
 */
function fromUrl(url: string, keep: number, pause: number): JWTVerifyGetKey {
  let tried = Number.NEGATIVE_INFINITY;
  let last: { readonly text: string; readonly at: number } | null = null;
  const bounded: FetchImplementation = async (address, options) => {
    const now = Date.now();
    if (now - tried >= pause) {
      tried = now;
      try {
        const response = await fetch(address, options);
        const text = await response.text();
        if (response.status !== 200) throw new KeysUnavailable('the keys were not there');
        createLocalJWKSet(JSON.parse(text) as JSONWebKeySet);
        last = { text, at: now };
      } catch {
        // What was fetched before counts for a while longer.
      }
    }
    if (last === null || now - last.at > LONGEST_MILLISECONDS) throw new KeysUnavailable('no keys');
    return new Response(last.text, { status: 200 });
  };
  return createRemoteJWKSet(new URL(url), {
    timeoutDuration: FETCH_MILLISECONDS,
    cooldownDuration: pause,
    cacheMaxAge: keep,
    [customFetch]: bounded,
  });
}

/** Is it a token that is not good, rather than keys that could not be had? */
export function isTokenFault(error: unknown): boolean {
  return error instanceof errors.JOSEError && !(error instanceof errors.JWKSTimeout);
}
