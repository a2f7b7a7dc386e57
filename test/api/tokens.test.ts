import { mkdtempSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
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
import { readIssuers } from '../../src/service/config.ts';
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

describe('several issuers at once', () => {
  const OFFICE = 'https://office.hollowoak.example/';
  const PARTNERS = 'https://partners.hollowoak.example/';
  let many: World;
  let server: Server;
  let asked = 0;
  let answering: 'keys' | 'nothing' | 'rubbish' = 'keys';
  let office: Awaited<ReturnType<typeof generateKeyPair>>;
  let offered: object[];
  const pause = 0.3;
  const jwk = async (key: typeof office.publicKey, kid: string) => ({
    ...(await exportJWK(key)),
    kid,
    alg: 'ES256',
  });

  beforeAll(async () => {
    office = await generateKeyPair('ES256', { extractable: true });
    offered = [await jwk(office.publicKey, 'first')];
    server = createServer((_, response) => {
      asked++;
      if (answering === 'nothing') response.destroy();
      else response.end(answering === 'rubbish' ? 'rubbish' : JSON.stringify({ keys: offered }));
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/keys`;
    const file = join(mkdtempSync(join(tmpdir(), 'keys-')), 'keys.json');
    writeFileSync(file, JSON.stringify({ keys: [await jwk(signing.publicKey, 'first')] }));
    many = await openWorld(
      `people { district text }
      claim section text from "department"
      role keeper
      role office when me.email ends with "@office.hollowoak.example"
      collection notes { title text label  section text }
      rules notes { people may read when section = me.section  office may create }
      test identity ada { email "ada@hollowoak.example" roles keeper }`,
      {
        issuers: [
          {
            issuer: OFFICE,
            audience: 'gate',
            algorithms: ['ES256'],
            keys: url,
            pause,
            keep: 600,
            person: 'employee',
            newcomers: 'admit',
          },
          { issuer: PARTNERS, audience: 'gate', algorithms: ['ES256'], keys: file },
        ],
      },
    );
    keysFile = file;
  });
  let keysFile: string;
  afterAll(async () => {
    await many.close();
    server.close();
  });

  const claims = (more: object = {}): JWTPayload => ({
    iss: OFFICE,
    sub: 'x',
    employee: 'e-1',
    aud: 'gate',
    iat: now(),
    exp: now() + 300,
    ...more,
  });
  const me = async (token: string) => many.ask('GET', '/v1/me', { token });
  const signedBy = (payload: JWTPayload, key = office.privateKey, kid = 'first') =>
    new SignJWT(payload).setProtectedHeader({ alg: 'ES256', kid }).sign(key);
  const soon = () => new Promise((resolve) => setTimeout(resolve, pause * 1000 + 50));

  test('somebody whom nobody knows comes in at their first token, with no role, once; where that is allowed', async () => {
    const token = await signedBy(
      claims({ name: 'Edda', email: 'edda@hollowoak.example', email_verified: true, department: 'north' }),
    );
    const both = await Promise.all([me(token), me(token)]);
    expect(both.map(({ status }) => status)).toEqual([200, 200]);
    expect(both[0].json).toMatchObject({ kind: 'person', roles: [], attributes: { section: 'north' } });
    expect(both[1].json.id).toBe(both[0].json.id);
    const edda = await many.desk.person('edda@hollowoak.example');
    expect(edda).toMatchObject({
      name: 'Edda',
      email_verified: true,
      logins: [{ issuer: OFFICE, subject: 'e-1' }],
    });
    expect((await many.desk.audit({ action: 'person.create' })).entries).toMatchObject([
      { actor: `issuer ${OFFICE}`, subject: 'edda@hollowoak.example' },
    ]);
    await many.desk.changePerson(edda.id, { active: false });
    expect((await me(token)).status, 'let out is let out, and not made anew').toBe(401);
    await many.desk.changePerson(edda.id, { active: true });
    expect((await me(token)).status).toBe(200);
    const partner = await signedBy(claims({ iss: PARTNERS, sub: 'p-1' }), signing.privateKey);
    expect((await me(partner)).status, 'this issuer’s people must be known').toBe(401);
    await many.desk.addLogin('edda@hollowoak.example', PARTNERS, 'p-1');
    expect((await me(partner)).json.id, 'one person, two issuers').toBe(edda.id);
    const crossed = await signedBy(claims({ iss: PARTNERS, sub: 'p-1' }));
    expect((await me(crossed)).status, 'the keys of another issuer open nothing').toBe(401);
  });

  test('an address in a token makes nobody somebody else', async () => {
    const token = await signedBy(
      claims({ employee: 'e-2', email: 'ADA@hollowoak.example', email_verified: true }),
    );
    const { json } = await me(token);
    const ada = await many.desk.person('ada');
    expect(json.id).not.toBe(ada.id);
    expect(await many.desk.person(json.id as string)).toMatchObject({ email: null, roles: [] });
    const unverified = await signedBy(claims({ employee: 'e-3', email: 'chief@office.hollowoak.example' }));
    expect((await me(unverified)).json.roles, 'an address counts only where it is verified').toEqual([]);
    const verified = await signedBy(
      claims({ employee: 'e-4', email: 'chief@office.hollowoak.example', email_verified: true }),
    );
    expect((await me(verified)).json.roles).toEqual(['office']);
  });

  test('a claim of a strange type is 401 and named, since the issuer has signed it; an attribute of one is missing', async () => {
    for (const employee of [17, ['e-1'], { id: 'e-1' }, null, true, '', 'x'.repeat(501), 'e-1\u0000']) {
      const { status, json } = await me(await signedBy(claims({ employee })));
      expect([status, json.errors[0].message], JSON.stringify(employee)).toEqual([
        401,
        'employee must be a text of 1 to 500 characters',
      ]);
    }
    const { employee: _, ...without } = claims();
    expect((await me(await signedBy(without))).status).toBe(401);
    const strange = { iat: 'yesterday', exp: 'later', nbf: {}, aud: 7, iss: [OFFICE], sub: 5 };
    for (const [claim, value] of Object.entries(strange)) {
      const answer = await me(await signedBy(claims({ [claim]: value } as object)));
      expect([answer.status, answer.json.type], claim).toEqual([401, '/problems/invalid-token']);
    }
    for (const department of [17, ['north'], { a: 1 }, null])
      expect((await me(await signedBy(claims({ department })))).json.attributes).toEqual({ section: null });
    expect(
      (await me(await signedBy(claims({ email: ['edda@hollowoak.example'], email_verified: 'yes' })))).status,
    ).toBe(200);
  });

  test('keys turn without a restart, and fetches have a pause between them whatever callers send', async () => {
    const next = await generateKeyPair('ES256', { extractable: true });
    const token = await signedBy(claims(), next.privateKey, 'second');
    expect((await me(token)).status).toBe(401);
    offered = [...offered, await jwk(next.publicKey, 'second')];
    await soon();
    expect((await me(token)).status).toBe(200);
    await soon();
    let before = asked;
    const guesses = () =>
      Promise.all(
        Array.from({ length: 40 }, async (_, index) =>
          me(await signedBy(claims(), next.privateKey, `guess ${index}`)),
        ),
      );
    await guesses();
    expect(asked - before).toBeLessThanOrEqual(2);
    // The issuer is gone: what was fetched counts on, and it is not asked more often for that.
    for (const state of ['nothing', 'rubbish'] as const) {
      answering = state;
      await soon();
      before = asked;
      await guesses();
      expect(
        (await me(await signedBy(claims({ jti: state }), next.privateKey, 'second'))).status,
        state,
      ).toBe(200);
      expect(asked - before, state).toBeLessThanOrEqual(2);
    }
    answering = 'keys';
    offered = [await jwk(next.publicKey, 'second')];
    await soon();
    await me(await signedBy(claims(), next.privateKey, 'ask anew'));
    expect((await me(await signedBy(claims({ jti: 'old key' })))).status, 'a key that was taken away').toBe(
      401,
    );
    office = next;
  });

  test('an issuer that was never reached is 503, and not a refusal; a file is read again when it changes', async () => {
    answering = 'nothing';
    const other = await many.another();
    const token = await signedBy(claims(), office.privateKey, 'second');
    const answer = await many.ask('GET', '/v1/me', { token, url: other.url });
    expect([answer.status, answer.headers.get('retry-after')]).toEqual([503, '5']);
    const partner = await signedBy(
      claims({ iss: PARTNERS, sub: 'p-1', jti: 'of a file' }),
      signing.privateKey,
    );
    expect(
      (await many.ask('GET', '/v1/me', { token: partner, url: other.url })).status,
      'others are not touched by it',
    ).toBe(200);
    answering = 'keys';
    const next = await generateKeyPair('ES256', { extractable: true });
    const turned = await signedBy(claims({ iss: PARTNERS, sub: 'p-1' }), next.privateKey, 'turned');
    expect((await me(turned)).status).toBe(401);
    writeFileSync(keysFile, '{"keys": [');
    await new Promise((resolve) => setTimeout(resolve, 1_100));
    expect(
      (await me(await signedBy(claims({ iss: PARTNERS, sub: 'p-1', jti: 'half' }), signing.privateKey)))
        .status,
      'half written',
    ).toBe(200);
    writeFileSync(keysFile, JSON.stringify({ keys: [await jwk(next.publicKey, 'turned')] }));
    await new Promise((resolve) => setTimeout(resolve, 1_100));
    expect((await me(turned)).status).toBe(200);
    expect(
      (await me(await signedBy(claims({ iss: PARTNERS, sub: 'p-1', jti: 'gone' }), signing.privateKey)))
        .status,
    ).toBe(401);
  });

  test('settings that are wrong are told at the start', () => {
    const folder = mkdtempSync(join(tmpdir(), 'issuers-'));
    const issuer = { issuer: OFFICE, audience: 'gate', algorithms: ['ES256'], keys: '/nowhere' };
    const read = (issuers: object[]) => {
      writeFileSync(join(folder, 'issuers.json'), JSON.stringify({ issuers }));
      return () => readIssuers(join(folder, 'issuers.json'));
    };
    expect(read([issuer, issuer])).toThrow('stands in');
    expect(read([{ ...issuer, keys: 'http://login.hollowoak.example/keys' }])).toThrow('over https');
    expect(read([{ ...issuer, algorithms: ['HS256'] }])).toThrow('not well formed');
    expect(read([{ ...issuer, newcomers: 'yes' }])).toThrow('newcomers');
    expect(read([{ ...issuer, person: 'employee', newcomers: 'admit', pause: 5 }])()).toMatchObject({
      leeway: 30,
      issuers: [{ keep: 600 }],
    });
  });
});
