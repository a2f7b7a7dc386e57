import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { DeskClient } from '../../src/client/desk.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run } from '../../src/store/connection.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { ISSUER, ownIssuer, type OwnIssuer } from '../support/issuer.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

let world: World;
let issuer: OwnIssuer;
beforeAll(async () => {
  issuer = await ownIssuer();
  world = await openDemo({ issuers: [issuer.settings] });
});
afterAll(() => world.close());

const ALMA = 'alma.1@hollowoak.example';
const BRUNO = 'bruno.2@hollowoak.example';
const trail = async (action: string) => (await world.desk.audit({ action })).entries;
const problem = (status: number, about: string | RegExp) => ({
  problem: { status, errors: [{ message: expect.stringMatching(about) as string }] },
});

describe('the directory', () => {
  test('is paged by name without a gap, searched, and filtered', async () => {
    const names: string[] = [];
    let after: string | undefined;
    do {
      const page = await world.desk.people({ limit: 7, ...(after === undefined ? {} : { after }) });
      expect(page.count).toBe(29);
      names.push(...page.people.map(({ id }) => id));
      after = page.next ?? undefined;
    } while (after !== undefined);
    expect(new Set(names).size).toBe(29);
    const found = async (options: Parameters<DeskClient['people']>[0]) =>
      (await world.desk.people(options)).people.map(({ email }) => email);
    expect(await found({ search: 'ALMA' })).toEqual([ALMA, 'alma.25@hollowoak.example']);
    expect(await found({ search: 'a%' }), 'what is searched for is no pattern').toEqual([]);
    expect(await found({ role: 'inspector' })).toHaveLength(3);
    expect(await found({ kind: 'test identities', search: 'ada' })).toEqual(['ada@hollowoak.example']);
    const [none] = (await world.desk.people({ kind: 'test identities', state: 'deactivated' })).people;
    expect(none!.active).toBe(false);
    await expect(world.desk.people({ after: 'x' })).rejects.toMatchObject(problem(400, 'not the “next”'));
    await expect(world.desk.people({ limit: 501 })).rejects.toMatchObject({ problem: { status: 400 } });
  });

  test('shows no field of the application’s own', async () => {
    const { id } = await world.desk.person(ALMA);
    await run(
      world.database,
      sql`update records.people set phone = '+44 1632 960001' where email = ${{ ...sql`?`, values: [ALMA] }}`,
    );
    for (const path of [`/v1/desk/people/${id}`, '/v1/desk/people?search=alma'])
      expect((await world.ask('GET', path, { token: world.deskToken })).text).not.toContain('960001');
  });

  test('somebody is found by address in any case, unless that could be two', async () => {
    expect((await world.desk.person(ALMA.toUpperCase())).email).toBe(ALMA);
    await world.desk.addPerson({ email: 'twin@hollowoak.example', name: 'Twin' });
    await run(
      world.database,
      sql`update records.people set email = 'Twin@hollowoak.example' where email = 'twin@hollowoak.example'`,
    );
    await world.desk.addPerson({ email: 'twin@hollowoak.example', name: 'Other twin' });
    expect((await world.desk.person('twin@hollowoak.example')).name).toBe('Other twin');
    expect((await world.desk.person('Twin@hollowoak.example')).name).toBe('Twin');
    await expect(world.desk.person('TWIN@hollowoak.example')).rejects.toMatchObject({
      problem: { status: 404 },
    });
    await expect(world.desk.person('nobody')).rejects.toMatchObject({ problem: { status: 404 } });
  });

  test('somebody is added with fields and a login, whole or not at all', async () => {
    const login = { issuer: 'https://login.hollowoak.example/', subject: 'm1' };
    const [district] = await run<{ id: string }>(
      world.database,
      sql`select id from records.districts limit 1`,
    );
    const values = { district: district!.id, phone: '+44 1632 960002' };
    const mina = await world.desk.addPerson({ email: 'Mina@hollowoak.example', name: 'Mina', values, login });
    expect(mina).toMatchObject({
      email: 'mina@hollowoak.example',
      roles: [],
      held: [],
      logins: [login],
      email_verified: false,
    });
    const add = (request: object) =>
      world.ask('POST', '/v1/desk/people', { token: world.deskToken, body: request });
    const cases: [object, number, string][] = [
      [{ email: 'mina@hollowoak.example' }, 409, 'value-taken'],
      [{ email: 'other@hollowoak.example', login }, 409, 'name-taken'],
      [
        { email: 'other@hollowoak.example', values: { district: '00000000-0000-7000-8000-000000000000' } },
        422,
        'reference-not-found',
      ],
      [{ email: 'other@hollowoak.example', values: { wings: 2 } }, 400, 'malformed-request'],
      [{ email: 'other@hollowoak.example', values: { id: mina.id } }, 400, 'malformed-request'],
      [{ email: 'no address' }, 400, 'malformed-request'],
    ];
    for (const [body, status, type] of cases)
      expect(await add(body), JSON.stringify(body)).toMatchObject({
        status,
        json: { type: `/problems/${type}` },
      });
    await expect(world.desk.person('other@hollowoak.example'), 'nothing half done').rejects.toMatchObject({
      problem: { status: 404 },
    });
    const moved = await world.desk.addLogin(BRUNO, login.issuer, 'b2');
    expect(moved.logins).toEqual([{ issuer: login.issuer, subject: 'b2' }]);
    await expect(world.desk.addLogin(BRUNO, login.issuer, 'm1')).rejects.toMatchObject(
      problem(409, 'somebody else'),
    );
    await world.desk.removeLogin(BRUNO, login.issuer, 'b2');
    await expect(world.desk.removeLogin(BRUNO, login.issuer, 'm1')).rejects.toMatchObject({
      problem: { status: 404 },
    });
  });

  test('another address is not verified any more; a test identity belongs to the rulebook', async () => {
    await run(
      world.database,
      sql`update records.people set _email_verified = true where email = 'bruno.2@hollowoak.example'`,
    );
    const person = await world.desk.changePerson(BRUNO, { name: 'Bruno the elder' });
    expect(person).toMatchObject({ name: 'Bruno the elder', email_verified: true });
    expect(await world.desk.changePerson(BRUNO, { email: 'elder@office.hollowoak.example' })).toMatchObject({
      email_verified: false,
      held: ['keeper'],
    });
    await expect(
      world.desk.changePerson('elder@office.hollowoak.example', { email: ALMA }),
    ).rejects.toMatchObject({ problem: { status: 409 } });
    await world.desk.changePerson('elder@office.hollowoak.example', { email: BRUNO });
    const identities = [
      () => world.desk.changePerson('ada', { active: false }),
      () => world.desk.addLogin('ada', 'x', 'y'),
      () => world.desk.changeRoles({ people: ['ada'], take: ['keeper'] }),
    ];
    for (const change of identities)
      await expect(change()).rejects.toMatchObject({ problem: { type: '/problems/managed-by-rulebook' } });
  });
});

describe('roles', () => {
  test('what somebody gains and loses is counted before it is saved, and is then what they reach', async () => {
    const before = await world.desk.personReach(ALMA);
    const give = [{ role: 'inspector', ends: '2099-01-01T00:00:00Z' }];
    const change = { people: [ALMA], give, take: ['keeper'] };
    const { at, people, left } = await world.desk.previewRoles(change);
    expect([at, left, people.length]).toEqual([null, 0, 1]);
    expect(people[0]!.roles).toEqual({ was: ['keeper'], is: ['inspector'] });
    expect(await world.desk.personReach(ALMA), 'nothing was saved').toEqual(before);
    expect((await world.desk.changeRoles(change)).changed).toBe(1);
    const after = await world.desk.personReach(ALMA);
    const count = ({ reach }: typeof before, collection: string, operation: string) =>
      reach.find((each) => each.collection === collection && each.operation === operation)?.records ?? 0;
    expect(people[0]!.changes.length).toBeGreaterThan(5);
    for (const { collection, operation, records } of people[0]!.changes)
      expect(records, `${operation} ${collection}`).toEqual({
        was: count(before, collection, operation),
        is: count(after, collection, operation),
      });
    const hives = people[0]!.changes.find(
      (each) => each.collection === 'hives' && each.operation === 'read',
    )!;
    expect(hives.fields).toContainEqual({ field: 'notes', was: expect.any(Number) as number, is: 0 });
    expect((await trail('role')).slice(0, 2)).toMatchObject([
      {
        action: 'role.take',
        subject: ALMA,
        detail: { role: 'keeper' },
        reason: 'this test changes what is in force',
      },
      { action: 'role.give', subject: ALMA, detail: { role: 'inspector', until: '2099-01-01T00:00:00Z' } },
    ]);
    expect((await world.desk.changeRoles(change)).changed, 'the same again is no change').toBe(0);
    await world.desk.changeRoles({ people: [ALMA], give: [{ role: 'keeper' }], take: ['inspector'] });
    expect((await world.desk.personReach(ALMA)).reach).toEqual(before.reach);
  });

  test('one that begins later is looked at as of then, and holds from then to its end', async () => {
    const starts = new Date(Date.now() + 86_400_000).toISOString();
    const { at, people } = await world.desk.previewRoles({
      people: [BRUNO],
      give: [{ role: 'inspector', starts }],
    });
    expect(at).toBe(starts);
    expect(people[0]!.roles.is).toEqual(['inspector', 'keeper']);
    await world.desk.changeRoles({ people: [BRUNO], give: [{ role: 'inspector', starts }] });
    expect((await world.desk.person(BRUNO)).held).toEqual(['keeper']);
    await run(
      world.database,
      sql`update gate.role_assignments set starts = now() - interval '1 hour' where role = 'inspector' and starts is not null`,
    );
    expect((await world.desk.person(BRUNO)).held).toEqual(['inspector', 'keeper']);
    await run(
      world.database,
      sql`update gate.role_assignments set ends = now() where role = 'inspector' and starts is not null`,
    );
    expect((await world.desk.person(BRUNO)).held).toEqual(['keeper']);
    const roles = await world.desk.roles();
    expect(roles.find(({ name }) => name === 'inspector')!.people).toMatchObject({ ended: 1 });
    expect(roles.find(({ name }) => name === 'office')!.held).toBe('by condition');
    await world.desk.changeRoles({ people: [BRUNO], take: ['inspector'] });
  });

  test('what cannot be is refused, naming each, and nothing is half done', async () => {
    const give = (role: object, people = [ALMA]) =>
      world.desk.changeRoles({ people, give: [role as { role: string }] });
    await expect(give({ role: 'tresurer' })).rejects.toMatchObject({
      problem: { errors: [{ hint: 'did you mean “treasurer”?' }] },
    });
    await expect(give({ role: 'office' })).rejects.toMatchObject(problem(400, 'held by a condition'));
    await expect(
      give({ role: 'keeper', starts: '2098-01-02T00:00:00Z', ends: '2098-01-01T00:00:00Z' }),
    ).rejects.toMatchObject(problem(400, 'end before it begins'));
    await expect(give({ role: 'keeper', ends: '2020-01-01T00:00:00Z' })).rejects.toMatchObject(
      problem(400, 'ended already'),
    );
    await expect(give({ role: 'keeper', ends: 'soon' })).rejects.toMatchObject({ problem: { status: 400 } });
    await expect(world.desk.changeRoles({ people: [ALMA] })).rejects.toMatchObject(
      problem(400, 'which roles'),
    );
    await expect(
      world.desk.changeRoles({ people: [ALMA], give: [{ role: 'keeper' }], take: ['keeper'] }),
    ).rejects.toMatchObject(problem(400, 'twice'));
    const held = (await world.desk.person(ALMA)).roles;
    await expect(give({ role: 'treasurer' }, [ALMA, 'nobody@hollowoak.example', 'x'])).rejects.toMatchObject({
      problem: {
        errors: [
          { message: 'there is no one person “nobody@hollowoak.example”' },
          { message: 'there is no one person “x”' },
        ],
      },
    });
    expect((await world.desk.person(ALMA)).roles).toEqual(held);
  });

  test('many at once; one that the rulebook no longer has counts for nothing, and can be taken', async () => {
    const all = (await world.desk.people({ limit: 500 })).people
      .filter(({ email }) => email?.startsWith('carla') === true)
      .map(({ id }) => id);
    expect((await world.desk.changeRoles({ people: all, give: [{ role: 'auditor' }] })).changed).toBe(
      all.length,
    );
    expect((await trail('role.give')).slice(0, all.length).map(({ detail }) => detail)).toEqual(
      all.map(() => ({ role: 'auditor' })),
    );
    await run(
      world.database,
      sql`update gate.role_assignments set role = 'beadle' where role = 'auditor' and given_by = 'development: test'`,
    );
    const carla = await world.desk.person(all[0]!);
    expect([carla.held, carla.unknown]).toEqual([['keeper'], ['beadle']]);
    expect((await world.desk.roles()).find(({ name }) => name === 'beadle')).toMatchObject({
      held: 'unknown',
      people: { now: all.length },
    });
    expect((await world.desk.changeRoles({ people: all, take: ['beadle'] })).changed).toBe(all.length);
    expect((await world.desk.person(all[0]!)).unknown).toEqual([]);
  });
});

describe('at once, on every process', () => {
  test('a role, a deactivation, a login, a key, a level, an unlock and a publication hold for the next request there', async () => {
    const other = await world.another();
    const there = (path: string, token?: string) =>
      world.ask('GET', path, { url: other.url, ...(token === undefined ? {} : { token }) });
    const { id } = await world.desk.addPerson({
      email: 'elsewhere@hollowoak.example',
      login: { issuer: ISSUER, subject: 'e-1' },
    });
    // One token all the while: nobody signs in again.
    const token = await issuer.token('e-1');
    const hives = async () => (await there('/v1/records/hives?count=true', token)).json.count as number;
    expect(await hives()).toBe(0);
    await world.desk.changeRoles({ people: [id], give: [{ role: 'inspector' }] });
    expect(await hives()).toBeGreaterThan(100);
    await world.desk.changeRoles({ people: [id], take: ['inspector'] });
    expect(await hives()).toBe(0);
    await world.desk.changePerson(id, { active: false });
    expect((await there('/v1/me', token)).status).toBe(401);
    await world.desk.changePerson(id, { active: true });
    expect((await there('/v1/me', token)).status).toBe(200);
    await world.desk.removeLogin(id, ISSUER, 'e-1');
    expect((await there('/v1/me', token)).status).toBe(401);

    await setStaff(
      world.database,
      'other@hollowoak.example',
      'a long enough password',
      'manager',
      atTheMachine('test'),
    );
    const { link } = await world.desk.inviteStaff('viewer@hollowoak.example', 'manager');
    const joining = { secret: link.split('#')[1], password: 'a long enough password' };
    const joined = await world.ask('POST', '/v1/desk/join', { body: joining });
    const session = { headers: { cookie: joined.headers.get('set-cookie')!.split(';')[0]! } };
    const asStaff = (path: string) => world.ask('GET', path, { ...session, url: other.url });
    expect((await asStaff('/v1/desk/look/hives')).json.type).toBe('/problems/locked');
    await world.ask('POST', '/v1/desk/unlock', { ...session, body: { reason: 'to see it there, too' } });
    expect((await asStaff('/v1/desk/look/hives')).status).toBe(200);
    await world.desk.changeStaff('viewer@hollowoak.example', { level: 'viewer' });
    expect((await asStaff('/v1/desk/look/hives')).json.type, 'an unlock raises nobody').toBe(
      '/problems/level-too-low',
    );
    await world.desk.changeStaff('viewer@hollowoak.example', { active: false });
    expect((await asStaff('/v1/desk/overview')).status).toBe(401);
    await world.desk.changeStaff('viewer@hollowoak.example', { active: true, level: 'manager' });
    const back = await world.ask('POST', '/v1/desk/session', {
      body: { email: 'viewer@hollowoak.example', password: joining.password },
    });
    expect(back.json, 'who comes back comes back locked').toMatchObject({ level: 'manager', unlock: null });

    const { secret } = await world.desk.makeKey({
      name: 'reader',
      level: 'viewer',
      areas: ['look', 'people'],
    });
    expect((await there('/v1/desk/people', secret)).status).toBe(200);
    await world.desk.revokeKey('reader');
    expect((await there('/v1/desk/people', secret)).status).toBe(401);

    expect((await there('/v1/records/notices?count=true')).json.count).toBeGreaterThan(0);
    const closed = demoRulebook.map(({ name: file, text }) => ({
      name: file,
      text:
        file === 'notices.gate'
          ? text.replace(/^rules notices \{/m, 'rules notices {\n  nobody but steward may read')
          : text,
    }));
    await world.desk.publish({ files: closed, despite: 'its trials speak of what it was' });
    expect((await there('/v1/records/notices?count=true')).json.count).toBe(0);
    await world.desk.publish({ files: [...demoRulebook] });
    expect((await there('/v1/records/notices?count=true')).json.count).toBeGreaterThan(0);
  });
});
