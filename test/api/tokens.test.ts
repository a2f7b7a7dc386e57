import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { SignJWT, base64url, exportJWK, generateKeyPair, type JWTPayload } from 'jose';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import {
  DEVELOPMENT_ISSUER,
  DESK_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../../src/service/identity/development.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

const ISSUER = 'https://login.hollowoak.example/';
const AUDIENCE = 'https://gate.hollowoak.example';

const rulebook = `
role keeper
collection hives { code text required label  keeper ref people }
rules hives { keeper may read when keeper = me  visitors may read (code) }
test identity ada { email "ada@hollowoak.example" roles keeper }
`;

let world: World;
let keys: Server;
let fetched = 0;
let signing: Awaited<ReturnType<typeof generateKeyPair>>;
let published: object[];

beforeAll(async () => {
  signing = await generateKeyPair('ES256', { extractable: true });
  published = [{ ...(await exportJWK(signing.publicKey)), kid: 'first', alg: 'ES256' }];
  keys = createServer((_, response) => {
    fetched++;
    response.setHeader('content-type', 'application/jwk-set+json').end(JSON.stringify({ keys: published }));
  });
  await new Promise<void>((resolve) => keys.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${(keys.address() as AddressInfo).port}/keys`;
  world = await openWorld(rulebook, {
    issuers: [{ issuer: ISSUER, audience: AUDIENCE, algorithms: ['ES256'], keys: url }],
  });
  await run(
    world.database,
    sql`insert into gate.logins (issuer, subject, person) select 'https://login.hollowoak.example/', 'user-1', id from records.people where _identity = 'ada'`,
  );
  await run(
    world.database,
    sql`insert into records.hives (id, code, keeper, created_at, updated_at) select gen_random_uuid(), 'OAK-001', id, now(), now() from records.people where _identity = 'ada'`,
  );
});
afterAll(async () => {
  await world.close();
  keys.close();
});

const now = () => Math.floor(Date.now() / 1000);
const good = (): JWTPayload => ({ iss: ISSUER, sub: 'user-1', aud: AUDIENCE, iat: now(), exp: now() + 300 });

async function signed(
  claims: JWTPayload,
  { key = signing.privateKey, header = {} }: { key?: typeof signing.privateKey; header?: object } = {},
): Promise<string> {
  return new SignJWT(claims).setProtectedHeader({ alg: 'ES256', kid: 'first', ...header }).sign(key);
}

async function statusOf(token: string, path = '/v1/records/hives'): Promise<number> {
  return (await world.ask('GET', path, { token })).status;
}

describe('an issuer with a key set', () => {
  test('a token that keeps to the letter is let in, as the person who is known by issuer and subject', async () => {
    const { status, json } = await world.ask('GET', '/v1/records/hives', { token: await signed(good()) });
    expect(status).toBe(200);
    expect(json.records).toMatchObject([{ code: 'OAK-001', _withheld: [] }]);
    expect(await statusOf(await signed({ ...good(), aud: ['other', AUDIENCE] }))).toBe(200);
  });

  test('everything else is 401 with the challenge of RFC 6750, and never a visitor', async () => {
    const other = await generateKeyPair('ES256');
    const { publicKey, privateKey } = await generateKeyPair('RS256', { extractable: true });
    const unsigned = `${base64url.encode('{"alg":"none"}')}.${base64url.encode(JSON.stringify(good()))}.`;
    // The public key taken as the secret of a symmetric signature: the oldest trick.
    const confused = await new SignJWT(good())
      .setProtectedHeader({ alg: 'HS256', kid: 'first' })
      .sign(new TextEncoder().encode(JSON.stringify(published[0])));
    const brought = await new SignJWT(good())
      .setProtectedHeader({ alg: 'RS256', jwk: await exportJWK(publicKey) })
      .sign(privateKey);
    const { exp: _exp, ...endless } = good();
    const { sub: _sub, ...nobody } = good();
    const refused: Record<string, string> = {
      'wrong key': await signed(good(), { key: other.privateKey }),
      'algorithm none': unsigned,
      'symmetric with the public key': confused,
      'a key of its own': brought,
      'unknown key id': await signed(good(), { header: { kid: 'unknown' } }),
      expired: await signed({ ...good(), exp: now() - 60 }),
      'without an end': await signed(endless),
      'not yet valid': await signed({ ...good(), nbf: now() + 60 }),
      'made in the future': await signed({ ...good(), iat: now() + 60 }),
      'wrong audience': await signed({ ...good(), aud: 'https://other.example' }),
      'audience of which ours is a part': await signed({ ...good(), aud: `${AUDIENCE}.example` }),
      'wrong issuer': await signed({ ...good(), iss: 'https://other.example/' }),
      'issuer without its slash': await signed({ ...good(), iss: ISSUER.slice(0, -1) }),
      'no subject': await signed(nobody),
      'a subject nobody knows': await signed({ ...good(), sub: 'user-2' }),
      'a test identity’s name at another issuer': await signed({ ...good(), sub: 'ada' }),
      'the development issuer, signed by another': await signed({
        ...good(),
        iss: DEVELOPMENT_ISSUER,
        aud: 'firmgate',
        sub: 'ada',
      }),
      'three dots': 'a.b.c',
      rubbish: 'x',
    };
    for (const [what, token] of Object.entries(refused)) {
      const { status, headers, json } = await world.ask('GET', '/v1/records/hives', { token });
      expect(status, what).toBe(401);
      expect(headers.get('www-authenticate'), what).toBe('Bearer realm="firmgate", error="invalid_token"');
      expect(json.type, what).toBe('/problems/invalid-token');
    }
    for (const authorization of ['Basic YTpi', 'Bearer', 'Bearer a b', '']) {
      expect(
        (await world.ask('GET', '/v1/records/hives', { headers: { authorization } })).status,
        authorization,
      ).toBe(401);
    }
    const before = fetched;
    for (let i = 0; i < 20; i++) await statusOf(await signed(good(), { header: { kid: `made up ${i}` } }));
    expect(
      fetched - before,
      'unknown key ids do not make the service fetch without bound',
    ).toBeLessThanOrEqual(1);
  });

  test('what is said of a person holds for the next request, though the token is remembered', async () => {
    const token = await signed(good());
    expect((await world.ask('GET', '/v1/me', { token })).json.roles).toEqual(['keeper']);
    await run(world.database, sql`delete from gate.role_assignments`);
    expect((await world.ask('GET', '/v1/me', { token })).json.roles).toEqual([]);
    await run(world.database, sql`update records.people set _active = false where _identity = 'ada'`);
    expect(await statusOf(token)).toBe(401);
    await run(world.database, sql`update records.people set _active = true where _identity = 'ada'`);
  });
});

describe('the development issuer', () => {
  test('its tokens open records or the desk, never both', async () => {
    const key = await developmentKey(`${world.folder}/development-key.json`);
    const desk = await developmentToken(key, 'ada', DESK_AUDIENCE, 60);
    expect(await statusOf(desk)).toBe(401);
    expect(await statusOf(desk, '/v1/desk/overview')).toBe(200);
    expect(await statusOf(await world.token('ada'), '/v1/desk/overview')).toBe(401);
    expect(
      await statusOf(await signed({ ...good(), aud: [AUDIENCE, DESK_AUDIENCE] }), '/v1/desk/overview'),
    ).toBe(401);
  });

  test('no token for an identity that is not there, and none in the query string', async () => {
    expect(await statusOf(await world.token('eve'))).toBe(401);
    const { status } = await world.ask('GET', `/v1/records/hives?access_token=${await world.token('ada')}`);
    expect(status).toBe(400);
  });
});
