import { mkdtempSync, readFileSync, readdirSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { ISSUER, ownIssuer, type OwnIssuer } from '../support/issuer.ts';
import { openWorld, type Answer, type World } from '../support/world.ts';

/** Addresses that people enter for themselves: they are claims, and identify nobody. */
const rulebook = `
role steward
collection hives { code text required label  keeper ref people }
rules people { people may read (id, name, email), update (name, email) when this = me  people may create (name, email) }
rules hives { steward may read (all)  people may read (all), create (code, keeper), update (keeper) when code starts with "T-" }
test identity ada { email "ada@hollowoak.example" }
test identity ben { name "Ben" }
`;

let world: World;
let issuer: OwnIssuer;
let outbox: string;
const open = async (byAddress: 'refuse' | 'link') => {
  issuer = await ownIssuer();
  outbox = mkdtempSync(join(tmpdir(), 'outbox-'));
  return openWorld(rulebook, {
    issuers: [{ ...issuer.settings, newcomers: 'admit', byAddress }],
    post: { kind: 'outbox', folder: outbox, from: 'Hollow Oak <gate@hollowoak.example>' },
  });
};
beforeAll(async () => {
  world = await open('refuse');
});
afterAll(() => world.close());

const token = (sub: string, claims: object = {}) => issuer.token(sub, claims);
const verified = (email: string) => ({ email, email_verified: true });
const me = async (sub: string, claims: object = {}) =>
  (await world.ask('GET', '/v1/me', { token: await token(sub, claims) })).json;
/** Comes, and enters an address for themself. */
async function claims(sub: string, email: string) {
  const { id: person } = await me(sub);
  const answer = await world.ask('PATCH', `/v1/records/people/${person}`, {
    token: await token(sub),
    body: { email },
  });
  expect([answer.status, answer.json.email]).toEqual([200, email]);
  return person as string;
}
const codeFor = (to: string) => {
  const letters = readdirSync(outbox)
    .toSorted()
    .map((name) => readFileSync(join(outbox, name), 'utf8').replaceAll('=\r\n', '').replaceAll('=3D', '='));
  return /welcome#([\w-]{43})/.exec(
    letters.filter((text) => text.includes(`\r\nTo: ${to}\r\n`)).at(-1)!,
  )![1]!;
};

test('an address that somebody claims brings them no invitation of its owner, and is the owner’s once they come', async () => {
  const mallory = await claims('mallory', 'stella@hollowoak.example');
  await world.desk.unlock('to invite', 60);
  await world.desk.invite({ list: 'stella@hollowoak.example', roles: ['steward'] });
  const accepted = await world.ask('POST', '/v1/invitations/acceptance', {
    token: await token('stella', verified('stella@hollowoak.example')),
    body: { code: codeFor('stella@hollowoak.example') },
  });
  expect(accepted.status).toBe(200);
  expect(accepted.json.person).not.toBe(mallory);
  expect([(await me('stella')).roles, (await me('mallory')).roles]).toEqual([['steward'], []]);
  expect(await world.desk.person(mallory)).toMatchObject({ email: null, email_verified: false });
  const { entries } = await world.desk.audit({ action: 'person.change', subject: mallory });
  expect(entries[0]!.detail).toMatchObject({ email: { was: 'stella@hollowoak.example', is: null } });
  // And it is hers: nobody claims it again.
  const again = await world.ask('PATCH', `/v1/records/people/${mallory}`, {
    token: await token('mallory'),
    body: { email: 'stella@hollowoak.example' },
  });
  expect(again.status).toBe(409);
});

test('a provider finds nobody by a claimed address, and takes it for the person that it brings', async () => {
  const mallory = await claims('mallory', 'nina@hollowoak.example');
  const { secret } = await world.desk.makeKey({ name: 'scim', level: 'publisher', areas: ['scim'] });
  const made = await world.ask('POST', '/scim/v2/Users', {
    token: secret,
    headers: { 'content-type': 'application/scim+json' },
    body: {
      schemas: ['urn:ietf:params:scim:schemas:core:2.0:User'],
      userName: 'nina',
      emails: [{ value: 'nina@hollowoak.example', primary: true }],
    },
  });
  expect(made.status).toBe(201);
  expect(made.json.id).not.toBe(mallory);
  expect(await world.desk.person(mallory)).toMatchObject({ email: null });
  // An address that the provider gives somebody later on is theirs, too.
  await claims('mallory', 'nina.two@hollowoak.example');
  const changed = await world.ask('PATCH', `/scim/v2/Users/${made.json.id}`, {
    token: secret,
    headers: { 'content-type': 'application/scim+json' },
    body: {
      schemas: ['urn:ietf:params:scim:api:messages:2.0:PatchOp'],
      Operations: [
        { op: 'replace', path: 'emails', value: [{ value: 'nina.two@hollowoak.example', primary: true }] },
      ],
    },
  });
  expect(changed.status).toBe(200);
  expect(await world.desk.person(mallory)).toMatchObject({ email: null });
});

test('what staff have entered identifies, also after somebody has sent it unchanged; what is changed through the rules does not', async () => {
  await world.desk.unlock('to add people', 60);
  const { id } = await world.desk.addPerson({ name: 'Olga', email: 'olga@hollowoak.example' });
  await world.desk.addLogin(id, ISSUER, 'olga');
  await claims('olga', 'olga@hollowoak.example');
  await world.desk.invite({ list: 'olga@hollowoak.example', roles: ['steward'] });
  const accepted = await world.ask('POST', '/v1/invitations/acceptance', {
    token: await token('olga-2', verified('olga@hollowoak.example')),
    body: { code: codeFor('olga@hollowoak.example') },
  });
  expect([accepted.status, accepted.json.person]).toEqual([200, id]);
});

test('somebody new with a verified address has it, and not whoever claimed it; a second person is made where staff entered it', async () => {
  const mallory = await claims('mallory', 'petra@hollowoak.example');
  const petra = await me('petra', verified('petra@hollowoak.example'));
  expect(petra.id).not.toBe(mallory);
  expect(await world.desk.person('petra@hollowoak.example')).toMatchObject({
    id: petra.id,
    email_verified: true,
  });
  const { id } = await world.desk.addPerson({ name: 'Rita', email: 'rita@hollowoak.example' });
  const rita = await me('rita', verified('rita@hollowoak.example'));
  expect(rita.id).not.toBe(id);
});

test('people of the application and visitors meet no test identities, whatever rules say; these meet each other', async () => {
  const open = rulebook.replace('rules people {', 'rules people { everybody may read (all)');
  await world.desk.publish({ files: [{ name: 'test.gate', text: open }] });
  const ada = (await world.desk.person('ada')).id;
  const tina = (await me('tina')).id as string;
  const asked = async (method: string, path: string, body?: object) =>
    world.ask(method, path, { token: await token('tina'), ...(body === undefined ? {} : { body }) });
  const listed = ({ json }: Answer) => json.records.map(({ id }: { id: string }) => id);
  for (const answer of [
    await asked('GET', '/v1/records/people?count=true&limit=100'),
    await world.ask('GET', '/v1/records/people?count=true&limit=100', {}),
  ]) {
    expect(listed(answer)).toContain(tina);
    expect(listed(answer)).not.toContain(ada);
    expect(answer.json.count).toBe(listed(answer).length);
  }
  expect((await asked('GET', `/v1/records/people/${ada}`)).status).toBe(404);
  expect(listed(await asked('GET', '/v1/records/people?where=name%20%3D%20%22Ben%22'))).toEqual([]);
  // Nobody points at one, nor makes them the owner of anything; by a filter through a reference nothing is told either.
  const made = await asked('POST', '/v1/records/hives', { code: 'T-1', keeper: ada });
  expect([made.status, made.json.type]).toEqual([422, '/problems/reference-not-found']);
  const hive = (await asked('POST', '/v1/records/hives', { code: 'T-2', keeper: tina })).json.id as string;
  expect((await asked('PATCH', `/v1/records/hives/${hive}`, { keeper: ada })).status).toBe(422);
  const identity = await world.as('ada');
  expect((await identity.list('people', { limit: 100 })).records.map(({ id }) => id)).toEqual(
    expect.arrayContaining([ada, tina]),
  );
  await identity.update('hives', hive, { keeper: ada });
  const through = await asked('GET', '/v1/records/hives?where=keeper.email%20is%20present');
  expect(listed(through)).toEqual([]);
  // Both engines say so, and staff see them as before.
  const { differences } = await world.desk.sweep({});
  expect(differences).toEqual([]);
  const { reachers } = await world.desk.reachers('people', ada, { people: true });
  expect(reachers.map(({ name }) => name)).toEqual(['ada', 'ben']);
  const looked = await world.ask('GET', '/v1/desk/look/people', { token: world.deskToken });
  expect(listed(looked)).toContain(ada);
});

test('where the settings take an issuer’s word, somebody new is who staff have entered with the verified address, and nobody else', async () => {
  const linking = await open('link');
  const asNew = async (sub: string, given: object) =>
    linking.ask('GET', '/v1/me', { token: await token(sub, given) });
  try {
    await linking.desk.unlock('to add people', 60);
    const add = async (email: string) => (await linking.desk.addPerson({ name: 'x', email })).id;
    const sonja = await add('sonja@hollowoak.example');
    expect(
      (await asNew('unsure', { email: 'sonja@hollowoak.example', email_verified: false })).json.id,
    ).not.toBe(sonja);
    expect((await asNew('sonja', verified('Sonja@hollowoak.example'))).json.id).toBe(sonja);
    expect(await linking.desk.person(sonja)).toMatchObject({
      email_verified: true,
      logins: [{ subject: 'sonja' }],
    });
    // One login of an issuer is enough: a second subject with the address is somebody else.
    expect((await asNew('sonja-2', verified('sonja@hollowoak.example'))).json.id).not.toBe(sonja);
    // A test identity, one who was let out, and one who claims the address are not taken over.
    const ada = (await linking.desk.people({ kind: 'test identities' })).people.find(
      ({ identity }) => identity === 'ada',
    )!;
    expect((await asNew('a', verified('ada@hollowoak.example'))).json.id).not.toBe(ada.id);
    const out = await add('tilda@hollowoak.example');
    await linking.desk.changePerson(out, { active: false });
    expect((await asNew('t', verified('tilda@hollowoak.example'))).status).toBe(401);
  } finally {
    await linking.close();
  }
});
