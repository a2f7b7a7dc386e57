import { afterEach, beforeEach, expect, test } from 'vitest';
import { GateProblem } from '../../src/client/desk.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { publishedVersion, syncIdentities } from '../../src/store/publish/index.ts';
import { openWorld, type World } from '../support/world.ts';

const base = (fields: string, rules = 'people may read, create, update') => `
collection hives { ${fields} }
rules hives { ${rules} }
test identity ada { email "ada@hollowoak.example" }
`;

let world: World;
beforeEach(async () => {
  world = await openWorld(base('code text required label  size text'));
});
afterEach(() => world.close());

const publish = (text: string) => world.desk.publish({ files: [{ name: 'test.gate', text }] });

const refused = (text: string) => problemOf(publish(text));

async function problemOf(work: Promise<unknown>): Promise<string> {
  const problem = await work.then(
    () => null,
    (error: unknown) => error,
  );
  expect(problem).toBeInstanceOf(GateProblem);
  return JSON.stringify((problem as GateProblem).problem);
}

test('what is published holds for the very next request, on every process', async () => {
  const second = await openSecond();
  const list = async (url: string) =>
    (
      await fetch(`${url}/v1/records/hives`, {
        headers: { authorization: `Bearer ${await world.token('ada')}` },
      })
    ).json() as Promise<{ records: unknown[] }>;
  await (await world.as('ada')).create('hives', { code: 'a' });
  expect((await list(second.url)).records).toHaveLength(1);
  await publish(base('code text required label  size text', 'visitors may read'));
  expect((await list(second.url)).records).toEqual([]);
  expect((await list(world.service.url)).records).toEqual([]);
  await second.stop();

  async function openSecond() {
    const { startService } = await import('../../src/service/start.ts');
    const service = await startService({
      databaseUrl: world.url,
      host: '127.0.0.1',
      proxies: [],
      origins: [],
      port: 0,
      issuers: [],
      leeway: 5,
      developmentKey: `${world.folder}/development-key.json`,
      post: null,
      welcome: '',
      logLevel: 'silent',
      consoleFolder: null,
    });
    await service.ready;
    return service;
  }
});

test('a rulebook with errors changes nothing and names every error with its place', async () => {
  const answer = await refused('collection hives { code txt required label }\nrules hive { people may red }');
  expect(answer).toContain('"status":422');
  for (const part of ['T009', '"line":1,"column":25', 'N001', '"line":2']) expect(answer).toContain(part);
  expect((await world.desk.overview()).version).toBe(1);
});

test('records are kept through every change of the collections', async () => {
  const ada = await world.as('ada');
  const { id } = await ada.create('hives', { code: 'a', size: 'large' });
  // A field that is left out is set aside: declared again it begins empty, unless it is to be taken back.
  expect((await publish(base('code text required label'))).setAside).toEqual(['hives.size']);
  expect(await ada.read('hives', id)).not.toHaveProperty('size');
  await ada.create('hives', { code: 'b' });
  await publish(base('code text required label  size text  weight decimal = 1.5'));
  expect(await ada.read('hives', id)).toMatchObject({ size: null, weight: '1.5' });
  await publish(base('code text required label  weight decimal = 1.5'));
  await ada.update('hives', id, { weight: '2' });
  await publish(base('code text required label  size text  weight decimal = 1.5'));
  // A collection that is left out likewise.
  expect(
    (
      await publish(
        'collection crews { name text label }\ntest identity ada { email "ada@hollowoak.example" }',
      )
    ).setAside,
  ).toEqual(['hives']);
  expect((await world.ask('GET', '/v1/records/hives', { as: 'ada' })).status).toBe(404);
  await publish(base('code text required label  size text'));
  expect((await ada.list('hives')).records).toHaveLength(0);
  const back = [{ name: 'r.gate', text: base('code text required label  size text  weight decimal') }];
  for (const [takeBack, why] of [
    [['hives'], /hives is in force: what was set aside under its name cannot be taken back beside it/],
    [['crews.name'], /nothing is set aside that is called crews.name/],
    [['crews'], /crews is to be taken back, and these files do not declare it/],
  ] as const)
    expect(await problemOf(world.desk.publish({ files: back, takeBack: [...takeBack] }))).toMatch(why);
  const { aside } = await world.desk.aside();
  expect(aside.map(({ name, kind, count }) => [name, kind, count])).toEqual([
    ['crews', 'collection', 0],
    ['hives', 'collection', 2],
    ['hives.size', 'field', 0],
    ['hives.size', 'field', 1],
  ]);
  await publish('collection crews { name text label }\ntest identity ada { email "ada@hollowoak.example" }');
  const { version } = aside.find(({ name }) => name === 'hives')!;
  await world.desk.publish({ files: back, takeBack: [`hives@${version}`] });
  const { records } = await ada.list('hives', { order: 'code' });
  expect(records.map(({ code, weight }) => [code, weight])).toEqual([
    ['a', '2'],
    ['b', '1.5'],
  ]);
});

test('what could lose or bend a value is refused with what to do, and nothing is half done', async () => {
  const ada = await world.as('ada');
  await ada.create('hives', { code: 'a', size: 'x' });
  await ada.create('hives', { code: 'b', size: 'x' });
  await ada.create('hives', { code: 'c' });
  expect(await refused(base('code text required label  size integer'))).toMatch(
    /becomes integer: 0 of 2 values fit, and 2 records have one that does not \(“a”, “b”\)/,
  );
  expect(await refused(base('code text required label  size text required'))).toMatch(
    /1 record has no value \(“c”\)/,
  );
  expect(await refused(base('code text required label  size text unique'))).toMatch(
    /2 records have a value there that another has, too \(“a”, “b”\)/,
  );
  expect(await refused(base('code text required label  size one of ("y")'))).toMatch(
    /2 records have a value in hives.size that its type no longer allows/,
  );
  expect(await refused(base('code text required label  extra text  size text unique'))).toMatch(
    /cannot-publish/,
  );
  const columns = await run(
    world.database,
    sql`select 1 from information_schema.columns where table_name = 'hives' and column_name = 'extra'`,
  );
  expect(columns).toEqual([]);
  expect((await world.desk.overview()).version).toBe(1);
});

test('PostgreSQL itself holds types, references and lists of values, with an index for each reference', async () => {
  await publish(
    base(
      `code text required label  state one of ("it's", "a?b")  above ref hives  size text  count_ integer`,
    ),
  );
  const insert = (column: string, value: string) =>
    run(world.database, {
      text: `insert into records.hives (id, created_at, updated_at, code, ${column}) values (gen_random_uuid(), now(), now(), 'x', ${value})`,
      values: [],
    });
  await expect(insert('state', `'other'`)).rejects.toThrow();
  await expect(insert('above', 'gen_random_uuid()')).rejects.toThrow();
  await expect(insert('count_', '9007199254740992')).rejects.toThrow();
  await insert('state', `'it''s'`);
  const [index] = await run<{ indexdef: string }>(
    world.database,
    sql`select indexdef from pg_indexes where indexname = 'i_hives__above'`,
  );
  expect(index!.indexdef).toContain('(above, id)');
  const [collation] = await run<{ name: string }>(
    world.database,
    sql`select collation_name as name from information_schema.columns where table_name = 'hives' and column_name = 'size'`,
  );
  expect(collation!.name).toBe('C');
});

test('a test identity is exactly what the rulebook says, and gone with it', async () => {
  const text = (identity: string) =>
    `role keeper\ncollection hives { code text label }\nrules hives { keeper may read }\n${identity}`;
  await publish(text('test identity ada { email "ada@hollowoak.example" roles keeper until "2020-01-01" }'));
  expect((await world.ask('GET', '/v1/me', { as: 'ada' })).json.roles).toEqual([]);
  await publish(text('test identity ada { email "ada@hollowoak.example" roles keeper }'));
  expect((await world.ask('GET', '/v1/me', { as: 'ada' })).json.roles).toEqual(['keeper']);
  await publish(text('test identity ben { email "ben@hollowoak.example" }'));
  expect((await world.ask('GET', '/v1/me', { as: 'ada' })).status).toBe(401);
  await run(
    world.database,
    sql`insert into records.people (id, email, created_at, updated_at) values (gen_random_uuid(), 'real@hollowoak.example', now(), now())`,
  );
  expect(await refused(text('test identity eve { email "real@hollowoak.example" }'))).toMatch(
    /belongs to another person/,
  );
});

test('trials of a draft run over the published collections, say which rule did it, and leave no trace', async () => {
  const ada = await world.as('ada');
  await ada.create('hives', { code: 'a', size: 'x' });
  const before = await run(
    world.database,
    sql`select md5(string_agg(h::text, '')) from records.hives as h union all select md5(string_agg(p::text, '')) from records.people as p`,
  );
  const draft = (rules: string, expectations: string) => ({
    files: [
      {
        name: 'draft.gate',
        text: `${base('code text required label  size text', rules)}\ntrial "t" { as ada { ${expectations} } as visitor { reads no hives } }`,
      },
    ],
  });
  const wide = await world.desk.trials(
    draft(
      'people may read, update, delete',
      'may not update hives "a" (size = "y")\nmay delete hives "a"\nmay not read hives "zzz"\nreads hives only ("a")',
    ),
  );
  expect([wide.passed, wide.failed]).toEqual([3, 2]);
  const [update, , absent] = wide.verdicts;
  expect(update!.failure).toMatchObject({
    actual: 'the update is allowed',
    why: {
      allowed: true,
      stages: [
        {},
        {
          rules: [{ id: 'hives/1', truth: true, sides: [{ side: 'as it is' }, { side: 'as it would be' }] }],
        },
      ],
    },
  });
  expect(update).toMatchObject({ file: 'draft.gate', line: 6 });
  expect(absent!.failure!.actual, '“may not” needs the record to be there').toContain(
    'there is no such record',
  );
  const narrow = await world.desk.trials(
    draft(
      'people may read when size = "y"',
      'may read hives "a"\nreads hives ("a")\nreads hives only where size = "y"\nshows hives "a" (size)\nmay create hives (code = "q")',
    ),
  );
  expect(narrow.verdicts.map((verdict) => verdict.passed)).toEqual([false, false, false, false, false, true]);
  expect(narrow.verdicts[0]!.failure!.why).toMatchObject({
    allowed: false,
    stages: [
      {
        rules: [
          { id: 'hives/1', truth: false, sides: [{ part: { values: [{ name: 'size', value: '"x"' }] } }] },
        ],
      },
    ],
    remedies: [{ kind: 'value', text: 'if size were "y" (it is "x")' }],
  });
  const clash = await world.desk.trials(
    draft('people may read, create', 'may not create hives (code = "a")'),
  );
  expect(clash.verdicts[0]!.failure!.actual, 'a clash is not a rule').toContain('not a rule that stopped it');
  const other = await world.desk.trials({
    files: [{ name: 'x.gate', text: 'collection hives { other text }' }],
  });
  expect(other).toMatchObject({ verdicts: [], left: [expect.stringContaining('not those in force')] });
  const after = await run(
    world.database,
    sql`select md5(string_agg(h::text, '')) from records.hives as h union all select md5(string_agg(p::text, '')) from records.people as p`,
  );
  expect(after).toEqual(before);
});

test('a service that has answered before sees the new fields of people at once', async () => {
  const list = async () => (await world.ask('GET', '/v1/records/hives', { as: 'ada' })).json.records?.length;
  await (await world.as('ada')).create('hives', { code: 'a', size: 'x' });
  // Often enough for every connection to have its statements prepared.
  for (let i = 0; i < 12; i++) expect(await list()).toBe(1);
  const rulebook = (size: string) => `
    people { size text }
    collection hives { code text required label  size text }
    rules hives { people may read when size = me.size }
    test identity ada { email "ada@hollowoak.example" size "${size}" }
  `;
  await publish(rulebook('x'));
  for (let i = 0; i < 12; i++) expect(await list()).toBe(1);
  await publish(rulebook('y'));
  for (let i = 0; i < 12; i++) expect(await list()).toBe(0);
});

test('the trials of the published rulebook wait for nobody who writes, and nobody waits for them', async () => {
  const rules = 'people may read, update when size is missing';
  await publish(`${base('code text required label  size text', rules)}
trial "t" { as ada { reads no hives } as visitor { reads no hives } }`);
  await world.database.transaction(async (transaction) => {
    // Somebody is just changing the person behind a test identity, and takes their time.
    await transaction.raw(`update records.people set name = 'Ada' where _identity = 'ada'`);
    expect(await world.desk.trials(null)).toMatchObject({ passed: 2, failed: 0 });
  });
});

test('whoever writes test identities waits for another, however long that takes, and is not turned away', async () => {
  const text = (roles: string) => `role keeper  role steward
    collection hives { code text required label }  rules hives { people may read (all), create (all) }
    test identity ada { email "ada@hollowoak.example"  roles ${roles} }
    ${Array.from({ length: 12 }, (_, n) => `trial "${n}" { as ada { may create hives (code = "${n}") } }`).join('\n')}`;
  await publish(text('keeper'));
  const rulebook = (await publishedVersion(world.database, (await world.desk.overview()).version!))!.rulebook;
  // Another process, at work for longer than a statement may otherwise take.
  let isOver = false;
  const other = world.database.transaction(async (on) => {
    await syncIdentities(on, rulebook);
    await new Promise((resolve) => setTimeout(resolve, 900));
    isOver = true;
  });
  await new Promise((resolve) => setTimeout(resolve, 150));
  await world.database.transaction(async (on) => {
    await run(on, sql`set local statement_timeout = '300ms'`);
    await syncIdentities(on, rulebook);
    expect(isOver).toBe(true);
    const [row] = await run<{ most: string }>(on, sql`select current_setting('statement_timeout') as most`);
    expect(row!.most, 'afterwards it is what it was').toBe('300ms');
  });
  await other;
  // Whatever points at an identity is written meanwhile: who is as they were is left alone.
  await world.database.transaction(async (on) => {
    await run(on, sql`select 1 from records.people where _identity = 'ada' for key share`);
    await world.database.transaction(async (beside) => {
      await run(beside, sql`set local statement_timeout = '300ms'`);
      await syncIdentities(beside, rulebook);
    });
  });
  const trying = (roles: string) => world.desk.trials({ files: [{ name: 'test.gate', text: text(roles) }] });
  const asked = ['steward', 'keeper, steward', 'steward'].map(trying);
  await Promise.all([publish(text('keeper, steward')), publish(text('steward')), ...asked]);
  for (const each of asked) expect(await each).toMatchObject({ passed: 12, failed: 0 });
});
