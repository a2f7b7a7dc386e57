import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { ISSUER, ownIssuer, type OwnIssuer } from '../support/issuer.ts';
import { openWorld, type Answer, type World } from '../support/world.ts';

const USER = 'urn:ietf:params:scim:schemas:core:2.0:User';
const GROUP = 'urn:ietf:params:scim:schemas:core:2.0:Group';
const PATCH = 'urn:ietf:params:scim:api:messages:2.0:PatchOp';
const rulebook = `
role keeper
role inspector
role office when me.email ends with "@office.hollowoak.example"
collection hives { code text required label  keeper ref people }
rules hives { keeper may read when keeper = me  inspector may read }
test identity ada { email "ada@hollowoak.example" roles keeper }
`;

let world: World;
let secret: string;
let issuer: OwnIssuer;
beforeAll(async () => {
  issuer = await ownIssuer();
  world = await openWorld(rulebook, { issuers: [issuer.settings] });
  ({ secret } = await world.desk.makeKey({
    name: 'provider',
    level: 'publisher',
    areas: ['scim'],
    issuer: ISSUER,
  }));
});
afterAll(() => world.close());

const scim = (method: string, path: string, body?: unknown, token = secret): Promise<Answer> =>
  world.ask(method, `/scim/v2${path}`, {
    token,
    ...(body === undefined ? {} : { body, headers: { 'content-type': 'application/scim+json' } }),
  });
const user = (userName: string, more: object = {}) => ({ schemas: [USER], userName, ...more });
const patch = (...Operations: object[]) => ({ schemas: [PATCH], Operations });
const made = async (body: object) => {
  const answer = await scim('POST', '/Users', body);
  expect(answer.status, answer.text).toBe(201);
  return answer.json as { id: string };
};
const as = async (sub: string, path = '/v1/me') => world.ask('GET', path, { token: await issuer.token(sub) });
const error = (status: number, scimType?: string) => ({
  status,
  json: {
    schemas: ['urn:ietf:params:scim:api:messages:2.0:Error'],
    status: String(status),
    ...(scimType === undefined ? {} : { scimType }),
  },
});

describe('the provider', () => {
  test('needs a key for it, at the level of a publisher; errors have the form of RFC 7644', async () => {
    const viewer = await world.desk.makeKey({ name: 'viewer', level: 'viewer', areas: ['scim'] });
    const other = await world.desk.makeKey({ name: 'other', level: 'manager', areas: ['people'] });
    const answers = [
      [await world.ask('GET', '/scim/v2/Users'), 401],
      [await scim('GET', '/Users', undefined, 'firmgate_key_x'), 401],
      [await scim('GET', '/Users', undefined, await world.token('ada')), 401],
      [await scim('GET', '/Users', undefined, viewer.secret), 403],
      [await scim('GET', '/Users', undefined, other.secret), 403],
      [await scim('GET', '/Users/none'), 404],
      [await scim('GET', '/Nothing'), 404],
      [await scim('PUT', '/Users', {}), 405],
    ] as const;
    for (const [answer, status] of answers) {
      expect(answer).toMatchObject(error(status));
      expect(answer.headers.get('content-type')).toBe('application/scim+json; charset=utf-8');
    }
    expect((await scim('PUT', '/Users', {})).headers.get('allow')).toBe('GET, POST, HEAD, OPTIONS');
    expect(answers[0][0].headers.get('www-authenticate')).toMatch(/^Bearer /);
    expect(
      await world.ask('POST', '/scim/v2/Users', {
        token: secret,
        body: '{"userName":',
        headers: { 'content-type': 'application/scim+json' },
      }),
    ).toMatchObject(error(400, 'invalidSyntax'));
    expect(
      await world.ask('POST', '/scim/v2/Users', {
        token: secret,
        body: 'x',
        headers: { 'content-type': 'text/plain' },
      }),
    ).toMatchObject(error(415));
  });

  test('finds out what is offered', async () => {
    const config = (await scim('GET', '/ServiceProviderConfig')).json;
    expect(config).toMatchObject({
      patch: { supported: true },
      filter: { supported: true, maxResults: 200 },
      bulk: { supported: false },
      etag: { supported: false },
    });
    const types = (await scim('GET', '/ResourceTypes')).json;
    expect(
      types.Resources.map(({ id, endpoint, schema }: { id: string; endpoint: string; schema: string }) => [
        id,
        endpoint,
        schema,
      ]),
    ).toEqual([
      ['User', '/Users', USER],
      ['Group', '/Groups', GROUP],
    ]);
    const schemas = (await scim('GET', '/Schemas')).json;
    expect(schemas).toMatchObject({ totalResults: 2, Resources: [{ id: USER }, { id: GROUP }] });
    for (const schema of schemas.Resources as { id: string; meta: { location: string } }[]) {
      expect(
        (await world.ask('GET', new URL(schema.meta.location).pathname, { token: secret })).json,
      ).toEqual(schema);
    }
    expect((await scim('GET', '/Schemas?filter=id%20pr')).status).toBe(403);
    expect((await scim('GET', '/ResourceTypes/User')).json.endpoint).toBe('/Users');
  });
});

describe('users', () => {
  test('are made, read, found, changed and let go; their tokens speak for them by the external id', async () => {
    const body = user('Mina', {
      externalId: 'e-1',
      name: { givenName: 'Mina', familyName: 'Lee' },
      emails: [{ value: 'Mina@Hollowoak.example', type: 'work', primary: true }],
      active: true,
      locale: 'en',
    });
    const answer = await scim('POST', '/Users', body);
    expect(answer).toMatchObject({
      status: 201,
      json: {
        schemas: [USER],
        userName: 'Mina',
        externalId: 'e-1',
        name: { givenName: 'Mina', familyName: 'Lee' },
        displayName: 'Mina Lee',
        active: true,
        meta: { resourceType: 'User' },
      },
    });
    const { id } = answer.json;
    expect(answer.headers.get('location')).toBe(`${world.service.url}/scim/v2/Users/${id}`);
    expect((await scim('GET', `/Users/${id}`)).json).toEqual(answer.json);
    expect((await as('e-1')).json).toMatchObject({ id, roles: [] });
    expect(await world.desk.person('mina@hollowoak.example')).toMatchObject({
      id,
      name: 'Mina Lee',
      email_verified: true,
      logins: [{ issuer: ISSUER, subject: 'e-1' }],
    });
    const found = async (filter: string) =>
      (await scim('GET', `/Users?filter=${encodeURIComponent(filter)}`)).json;
    for (const filter of [
      'userName eq "MINA"',
      'username EQ "mina"',
      'externalId eq "e-1"',
      `${USER}:userName eq "mina"`,
      'emails.value eq "mina@hollowoak.example"',
      'userName eq "mina" and externalId eq "e-1"',
      `id eq "${id}"`,
    ])
      expect(
        (await found(filter)).Resources.map((each: { id: string }) => each.id),
        filter,
      ).toEqual([id]);
    for (const filter of ['externalId eq "E-1"', 'userName eq "min"', 'userName eq "%"'])
      expect(await found(filter), filter).toMatchObject({ totalResults: 0, Resources: [] });
    for (const filter of [
      'userName co "m"',
      'userName',
      'userName eq mina',
      'name.familyName eq "Lee"',
      'userName eq "a" or userName eq "b"',
      'not (userName eq "a")',
      'userName eq "a" x',
      'userName eq 1',
    ])
      expect(await scim('GET', `/Users?filter=${encodeURIComponent(filter)}`), filter).toMatchObject(
        error(400, 'invalidFilter'),
      );
    const { json } = await scim(
      'PUT',
      `/Users/${id}`,
      user('mina.lee', { externalId: 'e-2', displayName: 'Mina L.' }),
    );
    expect(json).toMatchObject({ userName: 'mina.lee', displayName: 'Mina L.' });
    expect(json.emails, 'what a whole resource leaves out is gone').toBeUndefined();
    expect([(await as('e-1')).status, (await as('e-2')).status], 'the login goes along').toEqual([401, 200]);
    expect((await scim('DELETE', `/Users/${id}`)).status).toBe(204);
    for (const [method, more] of [
      ['GET'],
      ['DELETE'],
      ['PUT', user('x')],
      ['PATCH', patch({ op: 'replace', value: { active: true } })],
    ] as const)
      expect((await scim(method, `/Users/${id}`, more)).status, method).toBe(404);
    expect((await as('e-2')).status).toBe(401);
    expect(await world.desk.person(id as string), 'they stay, and are nobody').toMatchObject({
      active: false,
      name: 'Mina L.',
    });
  });

  test('are changed in part, in all the ways of RFC 7644', async () => {
    const { id } = await made(
      user('parts@hollowoak.example', {
        externalId: 'p-1',
        emails: [
          { value: 'parts@hollowoak.example', type: 'work', primary: true },
          { value: 'home@hollowoak.example', type: 'home' },
        ],
      }),
    );
    const change = async (...operations: object[]) => {
      const answer = await scim('PATCH', `/Users/${id}`, patch(...operations));
      expect(answer.status, answer.text).toBe(200);
      return answer.json;
    };
    expect(await change({ op: 'Replace', path: 'active', value: 'False' })).toMatchObject({ active: false });
    expect((await as('p-1')).status, 'at once').toBe(401);
    expect(
      await change({ op: 'replace', value: { active: true, [`${USER}:displayName`]: 'Parts' } }),
    ).toMatchObject({ active: true, displayName: 'Parts' });
    expect((await as('p-1')).status).toBe(200);
    expect(await change({ op: 'add', path: 'name.familyName', value: 'Whole' })).toMatchObject({
      name: { familyName: 'Whole' },
    });
    expect(
      await change({ op: 'replace', path: 'emails[type eq "work"].value', value: 'new@hollowoak.example' }),
    ).toMatchObject({
      emails: [{ value: 'new@hollowoak.example', primary: true }, { value: 'home@hollowoak.example' }],
    });
    expect(
      await change({
        op: 'add',
        path: 'emails',
        value: [{ value: 'third@hollowoak.example', primary: true }],
      }),
    ).toMatchObject({
      emails: [{ primary: false }, {}, { value: 'third@hollowoak.example', primary: true }],
    });
    expect((await world.desk.person(id)).email, 'the primary one').toBe('third@hollowoak.example');
    expect((await change({ op: 'remove', path: 'emails[type eq "home"]' })).emails).toHaveLength(2);
    expect((await change({ op: 'remove', path: 'name' })).name).toBeUndefined();
    expect(
      await change(
        { op: 'add', path: 'unheard', value: 1 },
        { op: 'ADD', path: 'USERNAME', value: 'in-any-case' },
      ),
    ).toMatchObject({ userName: 'in-any-case' });
    const wrong: [object, string][] = [
      [{ op: 'remove' }, 'noTarget'],
      [{ op: 'replace', path: 'emails[type eq "fax"]', value: { value: 'x@y' } }, 'noTarget'],
      [{ op: 'replace', path: 'emails[', value: 1 }, 'invalidPath'],
      [{ op: 'replace', path: 'active', value: 'perhaps' }, 'invalidValue'],
      [{ op: 'replace', path: 'userName', value: 7 }, 'invalidValue'],
      [{ op: 'remove', path: 'userName' }, 'invalidValue'],
      [{ op: 'replace', path: 'emails', value: [{ value: 'no address' }] }, 'invalidValue'],
      [{ op: 'move', path: 'userName', value: 'x' }, 'invalidValue'],
    ];
    const before = (await scim('GET', `/Users/${id}`)).json;
    for (const [operation, scimType] of wrong)
      expect(
        await scim(
          'PATCH',
          `/Users/${id}`,
          patch({ op: 'replace', path: 'displayName', value: 'half' }, operation),
        ),
        JSON.stringify(operation),
      ).toMatchObject(error(400, scimType));
    expect(
      await scim('PATCH', `/Users/${id}`, { Operations: [{ op: 'remove', path: 'name' }] }),
      'without its schema',
    ).toMatchObject(error(400, 'invalidValue'));
    expect((await scim('GET', `/Users/${id}`)).json, 'all of it, or nothing').toEqual(before);
  });

  test('nobody is taken over: who is kept by hand only is joined by address, and a test identity or a kept one never', async () => {
    const { id } = await world.desk.addPerson({ email: 'hand@hollowoak.example', name: 'By hand' });
    await world.desk.changeRoles({ people: [id], give: [{ role: 'keeper' }] });
    expect((await scim('GET', `/Users/${id}`)).status, 'whom it has not brought it does not see').toBe(404);
    expect((await made(user('hand@hollowoak.example', { externalId: 'h-1' }))).id).toBe(id);
    expect((await as('h-1')).json.roles).toEqual(['keeper']);
    const clashes: [object, string?][] = [
      [user('HAND@hollowoak.example'), 'uniqueness'],
      [user('other', { emails: [{ value: 'hand@hollowoak.example' }] }), 'uniqueness'],
      [user('ada', { emails: [{ value: 'ADA@hollowoak.example' }] }), 'uniqueness'],
      [user('clash', { externalId: 'h-1' }), 'uniqueness'],
    ];
    for (const [body, scimType] of clashes)
      expect(await scim('POST', '/Users', body), JSON.stringify(body)).toMatchObject(error(409, scimType));
    expect(
      (await scim('GET', `/Users?filter=${encodeURIComponent('userName eq "clash"')}`)).json.totalResults,
      'nothing half done',
    ).toBe(0);
    for (const body of [
      {},
      user(''),
      user('x', { emails: [{ value: 'no' }] }),
      user('x', { active: 'perhaps' }),
      user('x', { name: 'text' }),
    ])
      expect(await scim('POST', '/Users', body), JSON.stringify(body)).toMatchObject(
        error(400, 'invalidValue'),
      );
  });

  test('come in pages, with only what was asked for', async () => {
    for (let index = 0; index < 7; index++) await made(user(`page-${index}`));
    const page = async (query: string) => (await scim('GET', `/Users?${query}`)).json;
    const all = await page('');
    expect(all).toMatchObject({
      schemas: ['urn:ietf:params:scim:api:messages:2.0:ListResponse'],
      startIndex: 1,
      itemsPerPage: all.totalResults,
    });
    const third = await page('startIndex=3&count=2');
    expect(third).toMatchObject({ totalResults: all.totalResults, startIndex: 3, itemsPerPage: 2 });
    expect(third.Resources).toEqual(all.Resources.slice(2, 4));
    expect(await page('count=0')).toMatchObject({ totalResults: all.totalResults, Resources: [] });
    expect((await page('startIndex=-4&count=1')).Resources).toEqual(all.Resources.slice(0, 1));
    expect(await page('startIndex=1000')).toMatchObject({ totalResults: all.totalResults, itemsPerPage: 0 });
    expect(await scim('GET', '/Users?count=many')).toMatchObject(error(400, 'invalidValue'));
    expect(Object.keys((await page('count=1&attributes=userName')).Resources[0]).toSorted()).toEqual([
      'id',
      'schemas',
      'userName',
    ]);
    expect((await page('count=1&excludedAttributes=meta,emails')).Resources[0].meta).toBeUndefined();
  });
});

describe('groups', () => {
  test('hold people, and give the roles that staff give them, at once', async () => {
    const [one, two] = [
      await made(user('g-one', { externalId: 'g-1' })),
      await made(user('g-two', { externalId: 'g-2' })),
    ];
    const answer = await scim('POST', '/Groups', {
      schemas: [GROUP],
      displayName: 'Inspectors',
      members: [{ value: one.id }],
    });
    expect(answer).toMatchObject({
      status: 201,
      json: { displayName: 'Inspectors', members: [{ value: one.id }], meta: { resourceType: 'Group' } },
    });
    const { id } = answer.json;
    expect((await as('g-1')).json.roles, 'a name gives nothing').toEqual([]);
    const preview = await world.desk.previewGroup('inspectors', ['inspector']);
    expect(preview.people).toMatchObject([{ id: one.id, roles: { was: [], is: ['inspector'] } }]);
    expect((await as('g-1')).json.roles).toEqual([]);
    await world.desk.setGroupRoles('Inspectors', ['inspector']);
    expect((await as('g-1')).json.roles).toEqual(['inspector']);
    expect(await world.desk.person(one.id)).toMatchObject({
      held: ['inspector'],
      groups: [{ name: 'Inspectors', roles: ['inspector'] }],
    });
    expect((await scim('GET', `/Users/${one.id}`)).json.groups).toMatchObject([
      { value: id, display: 'Inspectors' },
    ]);
    expect((await world.desk.people({ role: 'inspector' })).people).toMatchObject([
      { id: one.id, roles: [], by_group: [{ role: 'inspector', group: 'Inspectors' }] },
    ]);
    await scim(
      'PATCH',
      `/Groups/${id}`,
      patch({ op: 'add', path: 'members', value: [{ value: two.id }, { value: one.id }] }),
    );
    expect((await as('g-2')).json.roles).toEqual(['inspector']);
    await scim('PATCH', `/Groups/${id}`, patch({ op: 'remove', path: `members[value eq "${one.id}"]` }));
    expect([(await as('g-1')).json.roles, (await as('g-2')).json.roles]).toEqual([[], ['inspector']]);
    const many = await Promise.all(['a', 'b', 'c', 'd'].map((name) => made(user(`many-${name}`))));
    const added = await Promise.all(
      many.map((each) =>
        scim('PATCH', `/Groups/${id}`, patch({ op: 'add', path: 'members', value: [{ value: each.id }] })),
      ),
    );
    expect(added.map(({ status }) => status)).toEqual([200, 200, 200, 200]);
    expect(
      (await scim('GET', `/Groups/${id}`)).json.members,
      'changes at the same time are all there',
    ).toHaveLength(5);
    expect(
      (
        await scim(
          'GET',
          `/Groups?filter=${encodeURIComponent('displayName eq "inspectors"')}&excludedAttributes=members`,
        )
      ).json,
    ).toMatchObject({ totalResults: 1, Resources: [{ displayName: 'Inspectors' }] });
    expect(
      (await scim('GET', `/Groups?filter=${encodeURIComponent(`members.value eq "${two.id}"`)}`)).json
        .totalResults,
    ).toBe(1);
    await scim('PUT', `/Groups/${id}`, { displayName: 'Inspectorate', members: [{ value: one.id }] });
    expect([(await as('g-1')).json.roles, (await as('g-2')).json.roles], 'its roles stay with it').toEqual([
      ['inspector'],
      [],
    ]);
    expect(await scim('POST', '/Groups', { displayName: 'INSPECTORATE' })).toMatchObject(
      error(409, 'uniqueness'),
    );
    const stranger = (await world.desk.person('ada')).id;
    for (const member of [stranger, 'none', '00000000-0000-7000-8000-000000000000'])
      expect(
        await scim(
          'PATCH',
          `/Groups/${id}`,
          patch({ op: 'add', path: 'members', value: [{ value: member }] }),
        ),
        member,
      ).toMatchObject(error(400, 'invalidValue'));
    await expect(world.desk.setGroupRoles('Inspectorate', ['office'])).rejects.toMatchObject({
      problem: { status: 400 },
    });
    await expect(world.desk.setGroupRoles('none', [])).rejects.toMatchObject({ problem: { status: 404 } });
    expect(await world.desk.groups()).toMatchObject([
      { name: 'Inspectorate', members: 1, roles: ['inspector'] },
    ]);
    expect((await scim('DELETE', `/Groups/${id}`)).status).toBe(204);
    expect([(await as('g-1')).json.roles, (await scim('GET', `/Groups/${id}`)).status]).toEqual([[], 404]);
  });

  test('all of it is in the trail, by the key’s name', async () => {
    const actions = new Set<string>();
    for (const actor of ['key provider', 'development: test'])
      for (const { action } of (await world.desk.audit({ actor, limit: 500 })).entries) actions.add(action);
    for (const action of [
      'person.create',
      'person.adopt',
      'person.change',
      'person.deactivate',
      'person.activate',
      'person.release',
      'group.create',
      'group.change',
      'group.remove',
      'group.roles',
    ])
      expect(actions, action).toContain(action);
    await world.desk.revokeKey('provider');
    expect((await scim('GET', '/Users')).status).toBe(401);
  });
});
