import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SignJWT, exportJWK, generateKeyPair, type JWTPayload } from 'jose';
import { beforeAll, expect, test } from 'vitest';
import { ConfigError, issuerConfig } from '../../src/service/config.ts';
import {
  DESK_AUDIENCE,
  DEVELOPMENT_ISSUER,
  PROOF_ISSUER,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
  proofKey,
  publicPart,
  signedToken,
  type SigningKey,
} from '../../src/service/identity/development.ts';
import { CallerFinder } from '../../src/service/identity/caller.ts';
import { TokenVerifier, type TokenFault, type VerifiedToken } from '../../src/service/identity/tokens.ts';

const ISSUER = 'https://login.hollowoak.example/';
const folder = mkdtempSync(join(tmpdir(), 'tokens-'));
const keys = join(folder, 'keys.json');
let pair: Awaited<ReturnType<typeof generateKeyPair>>;
let proof: SigningKey;
let development: Awaited<ReturnType<typeof developmentKey>>;

beforeAll(async () => {
  pair = await generateKeyPair('ES256', { extractable: true });
  writeFileSync(
    keys,
    JSON.stringify({ keys: [{ ...(await exportJWK(pair.publicKey)), kid: 'first', alg: 'ES256' }] }),
  );
  [proof, development] = [await proofKey(), await developmentKey(join(folder, 'development.json'))];
});

const settings = (more: object = {}) =>
  issuerConfig({ issuer: ISSUER, audience: 'gate', algorithms: ['ES256'], keys, ...more });
const verifier = (leeway: number, more: object = {}, withDevelopment = true) =>
  new TokenVerifier([settings(more)], leeway, withDevelopment ? development : null, proof);

const seconds = () => Date.now() / 1000;
const wait = (milliseconds: number) => new Promise((resolve) => setTimeout(resolve, milliseconds));
const claims = (more: object = {}): JWTPayload => ({
  iss: ISSUER,
  sub: 'user-1',
  aud: 'gate',
  iat: Math.floor(seconds()),
  exp: Math.floor(seconds()) + 300,
  ...more,
});
const signed = (payload: JWTPayload) =>
  new SignJWT(payload).setProtectedHeader({ alg: 'ES256', kid: 'first' }).sign(pair.privateKey);
const faultOf = (answer: VerifiedToken | TokenFault) => ('fault' in answer ? answer : null);

test('a token that was remembered ends when it says that it ends', async () => {
  const tokens = verifier(0);
  const token = await signed(claims({ exp: Math.ceil(seconds()) + 1 }));
  expect(faultOf(await tokens.verify(token))).toBe(null);
  expect(faultOf(await tokens.verify(token)), 'remembered').toBe(null);
  await wait(2_100);
  expect(faultOf(await tokens.verify(token))).toMatchObject({ fault: 'ERR_JWT_EXPIRED' });
});

test('a token that was remembered is not verified again, and one that was refused is never remembered', async () => {
  const [tokens, good, early] = [
    verifier(0),
    await signed(claims()),
    await signed(claims({ nbf: Math.floor(seconds()) + 2 })),
  ];
  expect([faultOf(await tokens.verify(good)), faultOf(await tokens.verify(early))]).toMatchObject([
    null,
    { fault: 'ERR_JWT_CLAIM_VALIDATION_FAILED' },
  ]);
  await wait(2_100);
  expect(faultOf(await tokens.verify(early)), 'by now it counts').toBe(null);
  const other = await generateKeyPair('ES256', { extractable: true });
  const kept = readFileSync(keys, 'utf8');
  writeFileSync(
    keys,
    JSON.stringify({ keys: [{ ...(await exportJWK(other.publicKey)), kid: 'first', alg: 'ES256' }] }),
  );
  await wait(1_100);
  expect(faultOf(await tokens.verify(await signed(claims({ jti: 'another' }))))).toMatchObject({
    fault: 'ERR_JWS_SIGNATURE_VERIFICATION_FAILED',
  });
  expect(faultOf(await tokens.verify(good)), 'its signature was good').toBe(null);
  writeFileSync(keys, kept);
});

test('clocks may differ by the leeway, and by no more: in when it was made and in when it ends', async () => {
  const tokens = verifier(10);
  for (const [off, isGood] of [
    [8, true],
    [13, false],
  ] as const) {
    const early = await tokens.verify(await signed(claims({ iat: Math.floor(seconds()) + off })));
    expect(faultOf(early)?.fault ?? null).toBe(isGood ? null : 'it was made in the future');
    const late = await tokens.verify(await signed(claims({ exp: Math.floor(seconds()) - off })));
    expect(faultOf(late)?.fault ?? null).toBe(isGood ? null : 'ERR_JWT_EXPIRED');
  }
});

test('what is strange in a token that its issuer signed is named, claim by claim', async () => {
  const tokens = verifier(0, { person: 'employee' });
  const said = async (more: object) => {
    const answer = await tokens.verify(await signed(claims({ employee: 'e-1', ...more })));
    return 'fault' in answer ? `${answer.claim} must be ${answer.must}` : answer.subject;
  };
  expect(await said({})).toBe('e-1');
  for (const strange of ['', 7, null, ['e-1'], 'x'.repeat(501), 'a\u0000'])
    expect(await said({ employee: strange })).toBe('employee must be a text of 1 to 500 characters');
  expect(await said({ employee: 'x'.repeat(500) })).toBe('x'.repeat(500));
  for (const strange of ['', 5, 'a\n'])
    expect(await said({ sub: strange })).toBe('sub must be a text of 1 to 500 characters');
  // What every object has is no claim of a token.
  const inherited = new TokenVerifier([settings({ person: 'toString' })], 0, null, proof);
  expect(faultOf(await inherited.verify(await signed(claims())))).toMatchObject({ claim: 'toString' });
});

test('one audience and a list of them are the same', async () => {
  const tokens = verifier(0);
  for (const aud of ['gate', ['gate'], ['gate', 'other']]) {
    const answer = await tokens.verify(await signed(claims({ aud })));
    expect('fault' in answer ? answer : [...answer.audiences]).toEqual([aud].flat());
  }
});

test('keys of our own speak for test identities: development where it is on, proof of records alone', async () => {
  const [on, off] = [verifier(0), verifier(0, {}, false)];
  const told = async (tokens: TokenVerifier, token: string) => {
    const answer = await tokens.verify(token);
    return 'fault' in answer ? answer.fault : { ...answer, claims: null, expires: null, audiences: null };
  };
  const ofOurs = {
    subject: 'ada',
    development: true,
    newcomers: false,
    byAddress: 'refuse',
    claims: null,
    expires: null,
    audiences: null,
  };
  for (const audience of [RECORDS_AUDIENCE, DESK_AUDIENCE]) {
    const token = await developmentToken(development, 'ada', audience, 60);
    expect(await told(on, token)).toEqual({
      issuer: DEVELOPMENT_ISSUER,
      name: `${DEVELOPMENT_ISSUER} ada`,
      ...ofOurs,
    });
    expect(await told(off, token)).toBe('its issuer is not one of ours');
  }
  expect(await told(off, await signedToken(proof, 'ada', RECORDS_AUDIENCE, 60))).toEqual({
    issuer: PROOF_ISSUER,
    name: `${PROOF_ISSUER} ada`,
    ...ofOurs,
  });
  expect(await told(on, await signedToken(proof, 'ada', DESK_AUDIENCE, 60))).toBe(
    'ERR_JWT_CLAIM_VALIDATION_FAILED',
  );
  expect(await told(on, await signed(claims({ iss: undefined })))).toBe('its issuer is not one of ours');
});

test('only an issuer that says so lets newcomers in, and none takes a name of ours', async () => {
  for (const newcomers of ['admit', 'refuse'] as const)
    expect(await verifier(0, { newcomers }).verify(await signed(claims()))).toMatchObject({
      newcomers: newcomers === 'admit',
      development: false,
    });
  for (const issuer of [DEVELOPMENT_ISSUER, PROOF_ISSUER])
    expect(() => verifier(0, { issuer })).toThrow(ConfigError);
});

test('the development key is made once, for its owner’s eyes, and its public part tells no secret', async () => {
  const file = join(folder, 'below', 'key.json');
  const made = await developmentKey(file);
  expect(await developmentKey(file)).toEqual(made);
  expect(Object.hasOwn(made, 'd')).toBe(true);
  expect(publicPart(made)).not.toHaveProperty('d');
});

test('whose request it is at all is told by a good token, and for all others by their address, of IPv6 by its network', async () => {
  const callers = new CallerFinder(null as never, verifier(0), null as never, null as never);
  const who = (token: string | null, ip: string | undefined) =>
    callers.whoAsks({ headers: token === null ? {} : { authorization: `Bearer ${token}` }, ip } as never);
  const good = await signed(claims());
  expect(await who(good, '192.0.2.1')).toBe(`${ISSUER} user-1`);
  expect(await who(good, '192.0.2.2')).toBe(`${ISSUER} user-1`);
  for (const none of [null, `${good.slice(0, -4)}AAAA`]) {
    expect(await who(none, '192.0.2.1')).toBe('visitor 192.0.2.1');
    expect(await who(none, undefined)).toBe('visitor ');
    const [one, same, other] = [
      await who(none, '2001:db8:0:1::1'),
      await who(none, '2001:db8:0:1::2'),
      await who(none, '2001:db8:1::1'),
    ];
    expect([one === same, one === other]).toEqual([true, false]);
  }
});
