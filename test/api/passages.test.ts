import { afterEach, beforeEach, expect, test } from 'vitest';
import { GateProblem } from '../../src/client/desk.ts';
import { Access } from '../../src/core/sql/access.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { arrive } from '../../src/store/callers.ts';
import { run } from '../../src/store/connection.ts';
import { OtherRules } from '../../src/store/in-force.ts';
import { dropDiscarded, publishedVersion } from '../../src/store/publish/index.ts';
import { countVisible, listRecords, readRecord, readRecords } from '../../src/store/records/read.ts';
import { openWorld, type World } from '../support/world.ts';

const rest = `
role keeper
role steward
test identity ada { email "ada@hollowoak.example" roles keeper }
test identity ben { email "ben@hollowoak.example" roles keeper, steward }
`;

const first = `
collection apiaries { name text required label  host ref people }
collection hives {
  code text required label
  keeper ref people
  apiary ref apiaries
  queen_born integer
  state text
  weighed timestamp
  owned by keeper
}
rules people { people may read (name) }
rules apiaries { people may read, create }
rules hives {
  keeper may read, create, update when mine
  keeper may share when mine
  steward may read, update
}
trial "visitors read nothing" { as visitor { reads no hives } }
${rest}`;

let world: World;
beforeEach(async () => {
  world = await openWorld(first);
});
afterEach(() => world.close());

const publish = (text: string, further: object = {}) =>
  world.desk.publish({ files: [{ name: 'test.gate', text }], ...further });

async function refused(work: Promise<unknown>): Promise<string> {
  const problem = await work.then(
    () => null,
    (error: unknown) => error,
  );
  expect(problem).toBeInstanceOf(GateProblem);
  return ((problem as GateProblem).problem.errors ?? [])
    .map((each) => (each as { message: string }).message)
    .join('\n');
}

test('a field, a collection and a role keep what they hold under their new names, and under the old ones again', async () => {
  const ada = await world.as('ada');
  const me = (await (await world.ask('GET', '/v1/me', { as: 'ada' })).json).id as string;
  const apiary = await ada.create('apiaries', { name: 'Meadow', host: me });
  const hive = await ada.create('hives', { code: 'a', keeper: me, apiary: apiary.id, queen_born: 2024 });
  const renamed = first
    .replaceAll('apiaries', 'sites')
    .replace('collection sites', 'collection sites was apiaries')
    .replaceAll('apiary', 'site')
    .replace('site ref sites', 'site ref sites was apiary')
    .replace('queen_born integer', 'queen_year integer was queen_born')
    .replaceAll('steward', 'warden')
    .replace('role warden', 'role warden was steward');
  const { setAside } = await publish(renamed);
  expect(setAside).toEqual([]);
  expect(await ada.read('hives', hive.id)).toMatchObject({ site: apiary.id, queen_year: 2024 });
  expect(await ada.read('hives', hive.id)).not.toHaveProperty('queen_born');
  expect((await ada.list('sites', { where: `name = "Meadow"` })).records).toHaveLength(1);
  await ada.update('hives', hive.id, { queen_year: 2025 });
  expect(
    (await (await world.as('ben')).list('hives', { where: 'site.name = "Meadow"' })).records,
  ).toHaveLength(1);
  expect((await world.ask('GET', '/v1/records/apiaries', { as: 'ada' })).status).toBe(404);
  // Restored, everything is called as it was, and holds what was written meanwhile.
  await world.desk.publish({ restores: 1 });
  expect(await ada.read('hives', hive.id)).toMatchObject({ apiary: apiary.id, queen_born: 2025 });
  const tables = await run<{ name: string }>(
    world.database,
    sql`select tablename as name from pg_tables where schemaname = 'records' order by 1`,
  );
  expect(tables.map(({ name }) => name)).toEqual(['apiaries', 'hives', 'people']);
});

test('values get another type where each has one meaning there, and nothing changes where one has none', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  for (const [code, state, weighed] of [
    ['a', '12', '2026-05-01T12:00:00Z'],
    ['b', '-3.50', null],
    ['c', null, '2026-05-01T23:30:00.25Z'],
  ] as const)
    await ada.create('hives', { code, keeper: me, queen_born: 2024, state, weighed });
  const wrong = await refused(publish(first.replace('state text', 'state integer')));
  expect(wrong).toMatch(
    /hives.state becomes integer: 1 of 2 values fit, and 1 record has one that does not \(“b”\)/,
  );
  expect(await refused(publish(first.replace('weighed timestamp', 'weighed date')))).toMatch(/losing time/);
  const { notes } = await publish(
    first
      .replace('state text', 'state decimal')
      .replace('weighed timestamp', 'weighed date losing time')
      .replace('queen_born integer', 'queen_born text'),
  );
  expect(notes).toEqual([
    'hives.queen_born becomes text: all 3 values fit',
    'hives.state becomes decimal: all 2 values fit',
    'hives.weighed becomes date: all 2 values fit',
  ]);
  const { records } = await ada.list('hives', { order: 'code' });
  expect(records.map(({ state, weighed, queen_born }) => [state, weighed, queen_born])).toEqual([
    ['12', '2026-05-01', '2024'],
    ['-3.50', null, '2024'],
    [null, '2026-05-01', '2024'],
  ]);
});

test('what is new is filled in, and a required field that nothing fills is refused', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const { id: apiary } = await ada.create('apiaries', { name: 'Meadow', host: me });
  for (const code of ['a', 'b']) await ada.create('hives', { code, keeper: me, apiary });
  await ada.create('hives', { code: 'c', keeper: me });
  const withOwner = (fill: string) =>
    first.replace('owned by keeper', `tended ref people required ${fill} owned by keeper`);
  expect(await refused(publish(withOwner('')))).toMatch(
    /hives.tended is required, and 3 records have no value \(“a”, “b”, “c”\): say what they get, by “fill tended …”/,
  );
  expect(await refused(publish(withOwner('fill tended from apiary.host')))).toMatch(
    /1 record has no value \(“c”\)/,
  );
  const { notes } = await publish(withOwner('fill tended from apiary.host').replace('required fill', 'fill'));
  expect(notes).toEqual(['hives.tended is filled in for 2 records']);
  const { records } = await ada.list('hives', { order: 'code' });
  expect(records.map(({ tended }) => tended)).toEqual([me, me, null]);
  const left = await run<{ name: string }>(
    world.database,
    sql`select kind as name from gate.prepared union all select tgname from pg_trigger where tgname like 'm\\_%'
      union all select conname from pg_constraint where not convalidated`,
  );
  expect(left).toEqual([]);
});

test('a role is held by whoever held it, under its new name, by hand, through a group, by an invitation and in a share', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const { id } = await ada.create('hives', { code: 'a', keeper: me });
  await ada.share('hives', id, { for: ['read'], role: 'steward' });
  const eve = await world.desk.addPerson({ email: 'eve@hollowoak.example' });
  await world.desk.changeRoles({ people: [eve.id], give: [{ role: 'steward' }] });
  const old = await world.desk.addPerson({ email: 'old@hollowoak.example' });
  // A role that was called “warden” once gave somebody something: that is not what is called so now.
  await run(
    world.database,
    sql`insert into gate.role_assignments (person, role) values ((select id from records.people where email = 'old@hollowoak.example'), 'warden')`,
  );
  await run(
    world.database,
    sql`insert into gate.groups (id, display_name) values (gen_random_uuid(), 'Wardens')`,
  );
  await run(
    world.database,
    sql`insert into gate.group_roles ("group", role, given_by) select id, 'steward', 'test' from gate.groups`,
  );
  await run(
    world.database,
    sql`insert into gate.invitations (id, email, roles, token_hash, created_by, expires_at)
      values (gen_random_uuid(), 'new@hollowoak.example', array['keeper', 'steward'], decode('00', 'hex'), 'test', now() + interval '1 day')`,
  );
  await publish(first.replaceAll('steward', 'warden').replace('role warden', 'role warden was steward'));
  expect((await world.desk.person(eve.id)).roles.map(({ role }) => role)).toEqual(['warden']);
  expect((await world.desk.person(old.id)).roles).toEqual([]);
  const kept = await run<{ role: string }>(
    world.database,
    sql`select role from gate.group_roles union all select role from gate.shares where role is not null`,
  );
  expect(kept.map(({ role }) => role)).toEqual(['warden', 'warden']);
  const [invited] = await run<{ roles: string[] }>(world.database, sql`select roles from gate.invitations`);
  expect(invited!.roles).toEqual(['keeper', 'warden']);
});

test('a name that cannot have been what it says is refused; one that never was is new, and said to be', async () => {
  const two = first.replace('queen_born integer', 'queen_born integer  queen_year integer');
  await publish(two);
  for (const [text, why] of [
    [two.replace('queen_year integer', 'queen_year integer was queen_born'), /both are in force/],
    [
      two.replace(
        'queen_born integer  queen_year integer',
        'queen_born integer was queen_year  queen_year integer was queen_born',
      ),
      /both are in force.*\n.*both are in force/,
    ],
    [two.replace('state text', 'state text  mood text was state'), /which is still declared/],
    [
      two
        .replace('name text required label  host ref people', 'name text required  host text label')
        .replace('apiary ref apiaries', 'apiary text'),
      /hives.apiary is read by apiaries.host, which gets another type at the same time/,
    ],
    [
      two.replace('collection hives', 'collection boxes was hives { code text label }\ncollection hives'),
      /which is still declared/,
    ],
  ] as const)
    expect(await refused(publish(text))).toMatch(why);
  const { notes, setAside } = await publish(two.replace('state text', 'mood text was temper'));
  expect(setAside).toEqual(['hives.state']);
  expect(notes).toEqual([
    'the field of hives “mood” says that it was “temper”, which is not in force: it is new',
  ]);
  const again = await publish(two.replace('state text', 'spirit text was mood'));
  expect(again.notes).toEqual([]);
  expect((await publish(`${two.replace('state text', 'spirit text was mood')}\n`)).notes).toEqual([
    'the field of hives “spirit” is called so already: “was mood” has done its work, and can be left out',
  ]);
});

test('a statement that was made for one version gives nothing once another is in force', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const { id } = await ada.create('hives', { code: 'a', keeper: me, queen_born: 2024 });
  const { rulebook } = (await publishedVersion(world.database, 1))!;
  const { caller, now } = (await arrive(world.database, rulebook, { kind: 'test identity', name: 'ada' }))!;
  const access = new Access(rulebook, caller, now);
  const question = {
    collection: 'hives',
    filter: null,
    order: [{ field: 'id', descending: false }],
    after: null,
    limit: 5,
  };
  const asked = [
    () => listRecords(world.database, access, question),
    () => countVisible(world.database, access, question),
    () => readRecord(world.database, access, 'hives', id),
    () => readRecords(world.database, access, 'hives', [id]),
  ];
  for (const each of asked) await each();
  await publish(first.replace('queen_born integer', 'queen_born text'));
  for (const each of asked) await expect(each()).rejects.toThrow(OtherRules);
});

test('page keys and tags from before two names were exchanged are refused after it', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const made = await ada.create('hives', { code: 'a', keeper: me, queen_born: 1 });
  for (const code of ['b', 'c']) await ada.create('hives', { code, keeper: me, queen_born: 1 });
  const before = await world.ask('GET', '/v1/records/hives?order=code&limit=1', { as: 'ada' });
  const tag = (await world.ask('GET', `/v1/records/hives/${made.id}`, { as: 'ada' })).headers.get('etag')!;
  const named = (code: string, state: string) =>
    first.replace('state text', state).replace('code text required label', code);
  await publish(named('was_code text required label was code', 'state text'));
  await publish(named('was_code text required label', 'code text was state'));
  await publish(named('state text required label was was_code', 'code text'));
  const after = await world.ask(
    'GET',
    `/v1/records/hives?order=code&limit=1&after=${before.json.next as string}`,
    { as: 'ada' },
  );
  expect([after.status, JSON.stringify(after.json)]).toEqual([
    400,
    expect.stringContaining('not the “next” of a page with this order'),
  ]);
  const changed = await world.ask('PATCH', `/v1/records/hives/${made.id}`, {
    as: 'ada',
    headers: { 'if-match': tag },
    body: { code: 'x' },
  });
  expect(changed.status).toBe(412);
});

test('what is set aside is discarded by name, kept after all while there is time, and then dropped for good', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  await ada.create('hives', { code: 'a', keeper: me, state: 'calm' });
  await publish(first.replace('state text', ''));
  const one = { name: 'hives.state', kind: 'field', version: 2, count: 1 };
  expect((await world.desk.aside()).aside).toMatchObject([{ ...one, dropped_after: null }]);
  const locked = await world.ask('POST', '/v1/desk/aside', {
    token: world.deskToken,
    body: { name: 'hives.mood' },
  });
  expect(locked.status).toBe(404);
  const [gone] = (await world.desk.changeAside({ name: 'hives.state' })).aside;
  expect(Date.parse(gone!.dropped_after!) - Date.now()).toBeGreaterThan(29 * 86_400_000);
  expect(await dropDiscarded(world.database, 30)).toEqual([]);
  expect((await world.desk.changeAside({ name: 'hives.state', keep: true })).aside).toMatchObject([
    { dropped_after: null },
  ]);
  expect(await dropDiscarded(world.database, 0)).toEqual([]);
  await world.desk.changeAside({ name: 'hives.state' });
  expect(await dropDiscarded(world.database, 0)).toEqual(['hives.state']);
  expect((await world.desk.aside()).aside).toEqual([]);
  expect(await refused(publish(first, { takeBack: ['hives.state'] }))).toMatch(
    /hives.state was discarded, and its values are no more/,
  );
  // Its column is never used again.
  await publish(first);
  const columns = await run<{ name: string }>(
    world.database,
    sql`select column_name as name from information_schema.columns where table_schema = 'records' and table_name = 'hives' and column_name like 'state%'`,
  );
  expect(columns).toEqual([{ name: 'state_3' }]);
  const { entries } = await world.desk.audit({ action: 'aside' });
  expect(entries.map(({ action }) => action)).toEqual([
    'aside.drop',
    'aside.discard',
    'aside.keep',
    'aside.discard',
  ]);
});

test('what was set aside is taken back under the new name of its collection, and by a restored version', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const { id } = await ada.create('hives', { code: 'a', keeper: me, state: 'calm' });
  // Published by this release, so that its identities are not its names.
  await publish(`${first}\n`);
  const mood = first.replace('state text', 'mood text');
  await publish(mood);
  await ada.update('hives', id, { mood: 'mild' });
  await publish(first.replace('state text', ''));
  await world.desk.publish({ restores: 3, takeBack: ['hives.mood'] });
  expect(await ada.read('hives', id)).toMatchObject({ mood: 'mild' });
  await publish(first.replace('state text', ''));
  const boxes = mood.replaceAll('hives', 'boxes').replace('collection boxes', 'collection boxes was hives');
  await publish(boxes.replace('mood text', ''));
  await publish(boxes, { takeBack: ['boxes.mood'] });
  expect(await ada.read('boxes', id)).toMatchObject({ mood: 'mild' });
  // What was left by a release that noted no types is taken back as it is kept, and as nothing else.
  await run(world.database, sql`update gate.aside set type = null`);
  const wrong = boxes.replace('mood text', 'mood text  state integer');
  expect(await refused(publish(wrong, { takeBack: ['boxes.state'] }))).toMatch(
    /before its type was noted, and it is not integer/,
  );
  await publish(wrong.replace('state integer', 'state text'), { takeBack: ['boxes.state'] });
  expect(await ada.read('boxes', id)).toMatchObject({ state: 'calm' });
});

test('a draft over other collections is tried as it would be, its writes, too, and leaves nothing behind', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  const { id } = await ada.create('hives', { code: 'a', keeper: me, queen_born: 2024, state: '12' });
  const draft = (trial: string) => `${first
    .replace('queen_born integer', 'queen_year text was queen_born  checked boolean = true')
    .replace('state text', 'state integer')
    .replace('role steward', 'role warden was steward')
    .replaceAll('steward', 'warden')
    .replace('was warden', 'was steward')}
collection visits { hive ref hives required  note text label }
rules visits { people may read, create when hive.keeper = me }
trial "what will be" {
  given visits (hive = "a", note = "first")
  as ada {
    reads hives only where queen_year = "2024" and state = 12 and checked
    may update hives "a" (queen_year = "2025", state = 13)
    may create visits (hive = "a", note = "second")
    reads visits ("first")
    ${trial}
  }
  as ben { may update hives "a" (queen_year = "2026") }
}`;
  const files = (text: string) => [{ name: 'test.gate', text }];
  const report = await world.desk.trials({ files: files(draft('')) });
  expect(report.verdicts.filter(({ passed }) => !passed)).toEqual([]);
  expect(report.passed).toBeGreaterThan(5);
  expect(report.left).toEqual([expect.stringContaining('unique was not tried')]);
  const wrong = await world.desk.trials({
    files: files(draft('may not update hives "a" (queen_year = "2025")')),
  });
  expect(wrong.failed).toBe(1);
  const sweep = await world.desk.sweep({ files: files(draft('')) });
  expect(sweep.differences).toEqual([]);
  expect(sweep.covered.asked).toBe(0);
  const faults = await world.desk.mutate({ files: files(draft('')), most: 6 });
  expect(faults.faults).toHaveLength(6);
  // Nothing of it is left, and nothing was written.
  const left = await run<{ name: string }>(
    world.database,
    sql`select kind || name as name from gate.prepared union all select tgname from pg_trigger where tgname like 'm\\_%'
      union all select tablename from pg_tables where tablename = 'visits'`,
  );
  expect(left).toEqual([]);
  expect(await ada.read('hives', id)).toMatchObject({ queen_born: 2024, state: '12' });
  await ada.update('hives', id, { state: 'calm' });
  expect(await refused(world.desk.trials({ files: files(draft('')) }))).toMatch(
    /1 record has one that does not: change/,
  );
  // What was published under other names is tried, swept and mutated by those.
  await publish(first.replace('queen_born integer', 'queen_year integer was queen_born'));
  expect((await world.desk.trials(null)).failed).toBe(0);
  expect((await world.desk.sweep({})).differences).toEqual([]);
  expect((await world.desk.mutate({ most: 4 })).faults).toHaveLength(4);
});

test('the trials of a publication write what will be, though what was is still made into it', async () => {
  const ada = await world.as('ada');
  const me = (await world.ask('GET', '/v1/me', { as: 'ada' })).json.id as string;
  await ada.create('hives', { code: 'a', keeper: me, queen_born: 2024 });
  const text = first.replace('queen_born integer', 'queen_born text');
  const trial = (year: string) =>
    `\ntrial "years" { given hives (code = "g", keeper = ada, queen_born = "1999") as ada { reads hives only where queen_born = "2024" or queen_born = "${year}" } }`;
  expect(await refused(publish(text + trial('2000')))).toContain('“years”');
  await publish(text + trial('1999'));
});
