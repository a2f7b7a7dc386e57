import { chmodSync, existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname } from 'node:path';
import { SignJWT, calculateJwkThumbprint, exportJWK, generateKeyPair, importJWK, type JWK } from 'jose';

/** The development issuer: its tokens speak for test identities, and for staff at the desk. Off unless switched on. */
export const DEVELOPMENT_ISSUER = 'urn:firmgate:development';
export const RECORDS_AUDIENCE = 'firmgate';
export const DESK_AUDIENCE = 'firmgate-desk';
export const DEVELOPMENT_ALGORITHM = 'EdDSA';

/** The private key in this file, made (with mode 0600) where there is none yet. */
export async function developmentKey(path: string): Promise<JWK> {
  if (existsSync(path)) return JSON.parse(readFileSync(path, 'utf8')) as JWK;
  const key = await newKey();
  mkdirSync(dirname(path), { recursive: true, mode: 0o700 });
  writeFileSync(path, JSON.stringify(key), { mode: 0o600, flag: 'wx' });
  chmodSync(path, 0o600);
  return key;
}

/** The part of the key that may be shown. */
export function publicPart({ d: _, ...rest }: JWK): JWK {
  return rest;
}

/** A private key with the issuer that it signs for. */
export interface SigningKey {
  readonly issuer: string;
  readonly key: JWK;
}

/** The service asking itself, for verification: tokens of a key that lives in the memory of one process. */
export const PROOF_ISSUER = 'urn:firmgate:proof';

export async function proofKey(): Promise<SigningKey> {
  return { issuer: PROOF_ISSUER, key: await newKey() };
}

async function newKey(): Promise<JWK> {
  const { privateKey } = await generateKeyPair(DEVELOPMENT_ALGORITHM, { extractable: true, crv: 'Ed25519' });
  const jwk = await exportJWK(privateKey);
  return { ...jwk, alg: DEVELOPMENT_ALGORITHM, kid: await calculateJwkThumbprint(jwk) };
}

/** Signs a development token. `subject`: a test identity's name, or a staff member for the desk. */
export function developmentToken(
  key: JWK,
  subject: string,
  audience: string,
  seconds: number,
): Promise<string> {
  return signedToken({ issuer: DEVELOPMENT_ISSUER, key }, subject, audience, seconds);
}

export async function signedToken(
  { issuer, key }: SigningKey,
  subject: string,
  audience: string,
  seconds: number,
): Promise<string> {
  return new SignJWT()
    .setProtectedHeader({ alg: DEVELOPMENT_ALGORITHM, kid: key.kid!, typ: 'JWT' })
    .setIssuer(issuer)
    .setSubject(subject)
    .setAudience(audience)
    .setIssuedAt()
    .setExpirationTime(`${seconds} seconds`)
    .sign(await importJWK(key, DEVELOPMENT_ALGORITHM));
}
