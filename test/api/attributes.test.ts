import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SignJWT, exportJWK, generateKeyPair } from 'jose';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openWorld, type World } from '../support/world.ts';

/** What is known of a caller beside their record: claims, attributes, roles held by a condition, verified addresses. */
const rulebook = `
people { district text  boss ref people self set }
claim tenant text from "https://hollowoak.example/tenant"
claim badges list of integer from "badges"
attribute crews list of ref crews = every m.crew for m in members where m.person = me
attribute size integer = count(m in members where m.crew in me.crews)
role desk when me.email ends with "@office.hollowoak.example"
role large when me.size >= 2 and 7 in me.badges
accept members feeds crews because "a test"
accept members feeds size because "a test"
collection crews { name text required label  tenant text }
collection members { code text required label  crew ref crews required  person ref people required }
collection boards { code text required label  crew ref crews  tenant text }
rules people { people may read (all), update (name, email, district, boss) when this = me }
rules members { people may create, delete when person = me }
rules crews { people may read when this in me.crews  desk may read (name) }
rules boards {
  people may read (code, crew) when crew in me.crews
  people may read when tenant = me.tenant
  large may update (code) when crew in me.crews
}
test identity ada { email "ada@hollowoak.example" }
test identity olga { email "olga@office.hollowoak.example" }
invariant "Boards of others are not changed" update boards only if crew in me.crews
`;
const ISSUER = 'https://login.hollowoak.example/';
const AUDIENCE = 'https://gate.hollowoak.example';

let world: World;
let folder: string;
let key: Awaited<ReturnType<typeof generateKeyPair>>['privateKey'];

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'gate-keys-'));
  const pair = await generateKeyPair('ES256', { extractable: true });
  key = pair.privateKey;
  const keys = join(folder, 'keys.json');
  writeFileSync(
    keys,
    JSON.stringify({ keys: [{ ...(await exportJWK(pair.publicKey)), kid: 'k', alg: 'ES256' }] }),
  );
  world = await openWorld(rulebook, {
    issuers: [{ issuer: ISSUER, audience: AUDIENCE, algorithms: ['ES256'], keys }],
  });
  await world.database.raw(`
    insert into records.people (id, email, created_at, updated_at) values
      ('00000000-0000-4000-8000-00000000000a', 'pia@office.hollowoak.example', now(), now()),
      ('00000000-0000-4000-8000-00000000000b', 'quinn@hollowoak.example', now(), now());
    insert into gate.logins (issuer, subject, person) values
      ('${ISSUER}', 'pia', '00000000-0000-4000-8000-00000000000a'), ('${ISSUER}', 'quinn', '00000000-0000-4000-8000-00000000000b');
    insert into records.crews (id, name, created_at, updated_at) values
      ('00000000-0000-4000-8000-0000000000c1', 'One', now(), now()), ('00000000-0000-4000-8000-0000000000c2', 'Two', now(), now());
    insert into records.boards (id, code, crew, tenant, created_at, updated_at) values
      (gen_random_uuid(), 'B-1', '00000000-0000-4000-8000-0000000000c1', 'north', now(), now()),
      (gen_random_uuid(), 'B-2', '00000000-0000-4000-8000-0000000000c2', 'south', now(), now());
    insert into records.members (id, code, crew, person, created_at, updated_at) values
      (gen_random_uuid(), 'M-1', '00000000-0000-4000-8000-0000000000c1', '00000000-0000-4000-8000-00000000000b', now(), now()),
      (gen_random_uuid(), 'M-2', '00000000-0000-4000-8000-0000000000c1', '00000000-0000-4000-8000-00000000000a', now(), now())`);
});
afterAll(async () => {
  await world.close();
  rmSync(folder, { recursive: true });
});

const token = (subject: string, claims: Record<string, unknown> = {}) =>
  new SignJWT(claims)
    .setProtectedHeader({ alg: 'ES256', kid: 'k' })
    .setIssuer(ISSUER)
    .setAudience(AUDIENCE)
    .setSubject(subject)
    .setIssuedAt()
    .setExpirationTime('5 min')
    .sign(key);
const me = async (subject: string, claims = {}) =>
  (await world.ask('GET', '/v1/me', { token: await token(subject, claims) })).json;
const codes = async (subject: string, claims = {}) =>
  (
    await world.ask('GET', '/v1/records/boards?order=code', { token: await token(subject, claims) })
  ).json.records.map((record: { code: string }) => record.code);
const TENANT = 'https://hollowoak.example/tenant';

describe('claims', () => {
  test('are attributes where they are of their type, and missing where they are not', async () => {
    expect((await me('quinn', { [TENANT]: 'south', badges: [7, 9] })).attributes).toMatchObject({
      tenant: 'south',
      badges: [7, 9],
    });
    for (const strange of [
      { [TENANT]: 4, badges: 'x' },
      { [TENANT]: ['a'], badges: [7, null] },
      { [TENANT]: { a: 1 }, badges: [7.5] },
      {},
    ])
      expect((await me('quinn', strange)).attributes).toMatchObject({ tenant: null, badges: null });
  });

  test('open what rules say, for this request alone', async () => {
    expect(await codes('quinn', { [TENANT]: 'south' })).toEqual(['B-1', 'B-2']);
    expect(await codes('quinn')).toEqual(['B-1']);
    expect(await codes('quinn', { tenant: 'south' })).toEqual(['B-1']);
  });
});

describe('attributes that are worked out', () => {
  test('follow the records at once, each from those before it', async () => {
    expect((await me('quinn')).attributes).toMatchObject({
      crews: ['00000000-0000-4000-8000-0000000000c1'],
      size: 2,
    });
    const bearer = await token('quinn');
    const person = (await me('quinn')).id;
    const body = { code: 'M-3', crew: '00000000-0000-4000-8000-0000000000c1', person };
    // The crew is one that they can read, so they may join it once more; a list holds it once.
    const joined = await world.ask('POST', '/v1/records/members', { token: bearer, body });
    expect(joined.status).toBe(201);
    expect((await me('quinn')).attributes).toMatchObject({ crews: [body.crew], size: 3 });
    await world.database.raw(`delete from records.members where person = ?`, [person]);
    expect(await codes('quinn')).toEqual([]);
    expect((await me('quinn')).attributes).toMatchObject({ crews: [], size: 0 });
  });

  test('are missing for visitors', async () => {
    const { json } = await world.ask('GET', '/v1/me');
    expect(json).toEqual({
      kind: 'visitor',
      id: null,
      roles: [],
      attributes: { tenant: null, badges: null, crews: null, size: null },
    });
  });
});

describe('roles held by a condition', () => {
  test('come and go with what it asks for', async () => {
    await world.database
      .raw(`insert into records.members (id, code, crew, person, created_at, updated_at) values
      (gen_random_uuid(), 'M-9', '00000000-0000-4000-8000-0000000000c1', '00000000-0000-4000-8000-00000000000b', now(), now())`);
    expect((await me('quinn', { badges: [7] })).roles).toEqual(['large']);
    expect((await me('quinn', { badges: [8] })).roles).toEqual([]);
    // Given by hand it counts for nothing: a role has one source.
    await world.database.raw(
      `insert into gate.role_assignments (person, role) values ('00000000-0000-4000-8000-00000000000b', 'large')`,
    );
    expect((await me('quinn')).roles).toEqual([]);
  });

  test('believe an address only where it is verified', async () => {
    expect((await me('pia')).roles).toEqual([]);
    const said = { email: 'pia@office.hollowoak.example', email_verified: true };
    expect((await me('pia', said)).roles).toEqual(['desk']);
    for (const claims of [
      { ...said, email_verified: 'true' },
      { ...said, email: 'other@office.hollowoak.example' },
      { email: said.email },
    ])
      expect((await me('pia', claims)).roles).toEqual([]);
    expect((await world.ask('GET', '/v1/me', { as: 'olga' })).json.roles).toEqual(['desk']);
  });

  test('are not to be had by giving oneself an address: it is read through “me”', async () => {
    const ada = (await world.ask('GET', '/v1/me', { as: 'ada' })).json;
    const patch = (body: object) => world.ask('PATCH', `/v1/records/people/${ada.id}`, { as: 'ada', body });
    const refused = await patch({ email: 'ada@office.hollowoak.example' });
    expect(refused.json).toMatchObject({ type: '/problems/fields-not-covered', fields: ['email'] });
    expect((await patch({ name: 'Ada A.' })).status).toBe(200);
    expect((await world.ask('GET', '/v1/me', { as: 'ada' })).json.roles).toEqual([]);
  });
});

test('a rulebook that breaks an invariant for a test identity is not published, and the trials name the record', async () => {
  await world.database.raw(`update records.people set email = 'x@hollowoak.example' where false`);
  const wide = `${rulebook}\nrules boards { desk may read, update }`;
  await expect(world.desk.publish({ files: [{ name: 'test.gate', text: wide }] })).rejects.toMatchObject({
    problem: {
      status: 409,
      errors: [
        {
          message: expect.stringMatching(
            /“Boards of others are not changed”.*olga may update boards "B-1" \(code = "something new"\)/,
          ),
        },
      ],
    },
  });
  expect((await world.desk.overview()).version).toBe(1);
  const report = await world.desk.trials({ files: [{ name: 'test.gate', text: wide }] });
  const [verdict] = report.verdicts.filter((each) => !each.passed);
  expect(verdict).toMatchObject({
    identity: 'olga',
    failure: { why: { allowed: true } },
  });
});
