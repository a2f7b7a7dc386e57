import { afterAll, beforeAll, beforeEach, describe, expect, test } from 'vitest';
import type { DeskClient, ShareRequest } from '../../src/client/desk.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

const rulebook = `
people { trusted boolean  phone text }
collection places { name text required label  host ref people }
collection hives {
  code text required label
  keeper ref people
  place ref places
  notes text
  price decimal
  locked boolean = false
  changed_by ref people
  owned by keeper
}
collection visits { code text label  hive ref hives }
collection boards { code text required label }
role keeper
role lender
role inspector
role office
role guard includes inspector only read

rules people {
  people may read (name)
  people may read (all), update (name, trusted, phone), share when this = me
}
rules visits { people may read (all) }
rules boards { people may read (all) when some h in hives has (h.code = code and me may read h) }
rules places {
  people may read when host = me
}
rules hives {
  keeper may read (all but changed_by), create (code, notes, price, place, locked) when keeper = me stamp keeper = me
  keeper may update (notes, price, place) when keeper = me and locked = false stamp changed_by = me
  keeper may delete when keeper = me
  lender may share when keeper = me and place is missing
  office may read (code, keeper, changed_by)

  nobody but office may read (price) unless keeper = me or me.trusted = true
  nobody may delete unless locked = false
  nobody may share unless locked = false
  nobody but keeper may update (price)
}
test identity ada { name "Ada" email "ada@hollowoak.example" roles keeper, lender }
test identity ben { name "Ben" email "ben@hollowoak.example" roles keeper }
test identity cleo { name "Cleo" email "cleo@hollowoak.example" trusted true }
test identity dora { name "Dora" email "dora@hollowoak.example" roles guard }
test identity finn { name "Finn" email "finn@hollowoak.example" roles keeper, lender }
test identity olga { name "Olga" roles office }
`;

let world: World;
const clients = new Map<string | null, DeskClient>();
let hive: string;
beforeAll(async () => {
  world = await openWorld(rulebook, { shares: { byOne: 300, withOne: 400, sharers: 20 } });
  for (const name of ['ada', 'ben', 'cleo', 'dora', 'finn', 'olga', null])
    clients.set(name, await world.as(name));
});
afterAll(() => world.close());

let number = 0;
beforeEach(async () => {
  await run(world.database, sql`delete from gate.shares`);
  await world.desk.publish({ files: [{ name: 'test.gate', text: rulebook }] });
  hive = await made();
});

const as = (name: string | null) => clients.get(name)!;
const id = async (name: string) => (await world.desk.person(name)).id;
const made = async (values: object = {}) =>
  (await as('ada').create('hives', { code: `OAK-${++number}`, notes: 'calm', price: '12.50', ...values })).id;
const seen = async (name: string | null, record = hive) =>
  as(name)
    .read('hives', record)
    .then(
      (each) => each,
      () => null,
    );
const share = async (request: Omit<ShareRequest, 'person'> & { to?: string }, by = 'ada', record = hive) => {
  const { to, ...rest } = request;
  return as(by).share('hives', record, { ...rest, ...(to === undefined ? {} : { person: await id(to) }) });
};
const refused = (status: number, type: string) => ({ problem: { status, type: `/problems/${type}` } });
/** Counted in the database, decided by the closures, and asked over HTTP: the three must agree. */
const agrees = async () => {
  const { differences, left } = await world.desk.sweep({ collections: ['hives'] });
  expect([differences, left.filter((each) => !each.startsWith('places'))]).toEqual([[], []]);
};

test('counts where another collection is read whose filters or rules come to the record that is shared', async () => {
  const { code } = await as('ada').read('hives', hive);
  await run(
    world.database,
    sql`insert into records.visits (id, code, hive, created_at, updated_at) values (gen_random_uuid(), 'V-1', ${value(hive)}::uuid, now(), now())`,
  );
  await run(
    world.database,
    sql`insert into records.boards (id, code, created_at, updated_at) values (gen_random_uuid(), ${value(code as string)}, now(), now())`,
  );
  const visits = async () =>
    (await as('ben').list('visits', { where: `hive.code = ${JSON.stringify(code)}` })).records.length;
  const boards = async () => (await as('ben').list('boards', {})).records.length;
  expect([await visits(), await boards()]).toEqual([0, 0]);
  await share({ to: 'ben' });
  expect([await visits(), await boards()]).toEqual([1, 1]);
  // Also where no rule asks what the caller may do: the filter comes there by itself.
  await world.desk.publish({
    files: [{ name: 'test.gate', text: rulebook.replace(/^rules boards.*$/m, '') }],
  });
  expect(await visits()).toBe(1);
});

describe('a share', () => {
  test('gives one record, for what it says, to whom it says, and nothing else', async () => {
    const other = await made();
    await share({ to: 'ben' });
    expect(await seen('ben')).toMatchObject({ notes: 'calm', _withheld: ['price', 'changed_by'] });
    expect([await seen('ben', other), await seen('cleo'), await seen(null)]).toEqual([null, null, null]);
    expect((await as('ben').list('hives', { count: true })).count).toBe(1);
    await expect(as('ben').update('hives', hive, { notes: 'x' })).rejects.toMatchObject(
      refused(403, 'not-allowed'),
    );
    await expect(as('ben').delete('hives', hive)).rejects.toMatchObject({ problem: { status: 403 } });
    await agrees();
    await share({ to: 'ben', for: ['update'] });
    await as('ben').update('hives', hive, { notes: 'windy' });
    const [row] = await run<{ keeper: string; changed_by: string }>(world.database, {
      ...sql``,
      text: `select keeper, changed_by from records.hives where id = '${hive}'`,
    });
    expect(row, 'stamps name whoever did it').toEqual({
      keeper: await id('ada'),
      changed_by: await id('ben'),
    });
    await expect(as('ben').update('hives', hive, { keeper: await id('ben') })).rejects.toMatchObject({
      problem: { status: 403 },
    });
    await agrees();
    await share({ to: 'ben', for: ['read', 'delete'] });
    await expect(
      as('ben').update('hives', hive, { notes: 'x' }),
      'the same target again has what it says now',
    ).rejects.toMatchObject({ problem: { status: 403 } });
    await agrees();
    await as('ben').delete('hives', hive);
    expect(await seen('ada')).toBeNull();
  });

  test('reaches a role, all people, or everybody; a role that is only brought along for something is not held', async () => {
    await share({ role: 'guard' });
    expect([(await seen('dora'))?.notes, await seen('ben')]).toEqual(['calm', null]);
    await run(world.database, sql`delete from gate.shares`);
    await share({ role: 'inspector' });
    expect(await seen('dora')).toBeNull();
    await share({ audience: 'people' });
    expect([(await seen('ben'))?.notes, (await seen('cleo'))?.notes, await seen(null)]).toEqual([
      'calm',
      'calm',
      null,
    ]);
    await agrees();
    await share({ audience: 'everybody' });
    expect((await seen(null))?.notes).toBe('calm');
    expect(
      (await as(null).list('hives', { where: 'notes = "calm"', order: 'notes', count: true })).count,
    ).toBe(1);
    await agrees();
  });

  test('never goes past a fence of whoever it reaches, nor past one of the sharer’s', async () => {
    await share({ to: 'cleo', for: ['update', 'delete'] });
    expect(await seen('cleo'), 'trusted, so past the fence').toMatchObject({ price: '12.50' });
    await share({ to: 'ben', for: ['update', 'delete'] });
    expect(await seen('ben')).toMatchObject({ _withheld: ['price', 'changed_by'] });
    expect((await as('ben').list('hives', { where: 'price > 1' })).records, 'nor by a filter').toEqual([]);
    await expect(as('cleo').update('hives', hive, { price: '1' })).rejects.toMatchObject({
      problem: { fields: ['price'] },
    });
    await as('ben').update('hives', hive, { price: '13' });
    await run(world.database, {
      ...sql``,
      text: `update records.hives set locked = true where id = '${hive}'`,
    });
    for (const [name, status] of [
      ['ada', 403],
      ['ben', 404],
      ['cleo', 404],
    ] as const)
      await expect(as(name).delete('hives', hive), name).rejects.toMatchObject({ problem: { status } });
    expect(await seen('cleo'), 'what cannot be shared any more is not shared').toBeNull();
    await agrees();
  });

  test('gives what the sharer has at this moment, and ends with it', async () => {
    await share({ to: 'ben', for: ['update'] });
    const ada = await id('ada');
    const changes: [string, string, string][] = [
      [
        'the role that lets share',
        `delete from gate.role_assignments where person = '${ada}' and role = 'lender'`,
        `insert into gate.role_assignments (person, role) values ('${ada}', 'lender')`,
      ],
      [
        'the role that lets read',
        `delete from gate.role_assignments where person = '${ada}' and role = 'keeper'`,
        `insert into gate.role_assignments (person, role) values ('${ada}', 'keeper')`,
      ],
      [
        'the sharer themself',
        `update records.people set _active = false where id = '${ada}'`,
        `update records.people set _active = true where id = '${ada}'`,
      ],
      [
        'the ownership',
        `update records.hives set keeper = null where id = '${hive}'`,
        `update records.hives set keeper = '${ada}' where id = '${hive}'`,
      ],
      ['its time', `update gate.shares set ends = now()`, `update gate.shares set ends = null`],
    ];
    for (const [what, away, back] of changes) {
      expect(await seen('ben'), what).not.toBeNull();
      await run(world.database, { ...sql``, text: away });
      expect([await seen('ben'), (await as('ben').list('hives', { count: true })).count], what).toEqual([
        null,
        0,
      ]);
      await expect(as('ben').update('hives', hive, { notes: 'x' }), what).rejects.toMatchObject({
        problem: { status: 404 },
      });
      await agrees();
      await run(world.database, { ...sql``, text: back });
    }
    await run(world.database, {
      ...sql``,
      text: `update records.hives set locked = true where id = '${hive}'`,
    });
    await expect(as('ben').update('hives', hive, { notes: 'x' })).rejects.toMatchObject({
      problem: { status: 404 },
    });
  });

  test('cannot be passed on, and is made by whom a rule lets, of what is theirs', async () => {
    await share({ to: 'ben' });
    await expect(share({ to: 'cleo' }, 'ben')).rejects.toMatchObject(refused(403, 'not-allowed'));
    await run(world.database, {
      ...sql``,
      text: `insert into gate.role_assignments (person, role) values ('${await id('ben')}', 'lender')`,
    });
    await expect(share({ to: 'cleo' }, 'ben')).rejects.toMatchObject(refused(403, 'not-allowed'));
    await expect(share({ to: 'ben' }, 'cleo'), 'what one cannot read').rejects.toMatchObject(
      refused(404, 'not-found'),
    );
    await expect(as('olga').share('hives', hive, { audience: 'people' })).rejects.toMatchObject(
      refused(403, 'not-allowed'),
    );
    await expect(as(null).share('hives', hive, { audience: 'people' })).rejects.toMatchObject(
      refused(404, 'not-found'),
    );
    const placed = await made();
    const [place] = await run<{ id: string }>(world.database, {
      ...sql``,
      text: `insert into records.places (id, name, host, created_at, updated_at) values (gen_random_uuid(), 'Orchard', '${await id('ada')}', now(), now()) returning id`,
    });
    await as('ada').update('hives', placed, { place: place!.id });
    await expect(share({ to: 'ben' }, 'ada', placed)).rejects.toMatchObject({
      problem: { errors: [{ message: 'no rule lets you share this record' }] },
    });
    await expect(as('ada').share('places', place!.id, { audience: 'people' })).rejects.toMatchObject({
      problem: { errors: [{ message: 'records of this collection cannot be shared' }] },
    });
    await run(world.database, {
      ...sql``,
      text: `delete from gate.role_assignments where role = 'lender' and given_by = 'the service' and person = '${await id('ben')}'`,
    });
  });

  test('what is asked for wrongly is told, and nothing of whom one cannot read', async () => {
    const post = (body: object) => world.ask('POST', `/v1/records/hives/${hive}/shares`, { as: 'ada', body });
    const cases: [object, number, string][] = [
      [{}, 400, 'malformed-request'],
      [{ person: await id('ben'), role: 'guard' }, 400, 'malformed-request'],
      [{ audience: 'visitors' }, 400, 'malformed-request'],
      [{ role: 'wizard' }, 400, 'malformed-request'],
      [{ person: await id('ada') }, 400, 'malformed-request'],
      [{ audience: 'people', for: [] }, 400, 'malformed-request'],
      [{ audience: 'people', for: ['share'] }, 400, 'malformed-request'],
      [{ audience: 'people', until: '2020-01-01T00:00:00Z' }, 400, 'malformed-request'],
      [{ person: '00000000-0000-7000-8000-000000000000' }, 422, 'reference-not-found'],
      [{ person: 'ben' }, 400, 'malformed-request'],
    ];
    for (const [body, status, type] of cases)
      expect(await post(body), JSON.stringify(body)).toMatchObject({
        status,
        json: { type: `/problems/${type}` },
      });
    await run(world.database, {
      ...sql``,
      text: `update records.hives set locked = true where id = '${hive}'`,
    });
    expect((await post({ audience: 'people' })).status).toBe(403);
    await run(world.database, {
      ...sql``,
      text: `update records.hives set locked = false where id = '${hive}'`,
    });
    expect(
      (await world.ask('PUT', `/v1/records/hives/${hive}/shares`, { as: 'ada' })).headers.get('allow'),
    ).toBe('GET, POST, HEAD, OPTIONS');
  });

  test('is listed and taken back by whoever may share the record, and by staff; at once, on every process', async () => {
    const shared = await share({ to: 'ben', for: ['update'], until: '2099-01-01T00:00:00Z' });
    expect(await as('ada').shares('hives', hive)).toEqual([shared]);
    expect(await as('ben').shares('hives', hive), 'others see what they shared themself').toEqual([]);
    await expect(as('cleo').shares('hives', hive)).rejects.toMatchObject(refused(404, 'not-found'));
    await expect(as('ben').unshare('hives', hive, shared.id)).rejects.toMatchObject(
      refused(404, 'not-found'),
    );
    await expect(
      as('ada').unshare('hives', await made(), shared.id),
      'of another record',
    ).rejects.toMatchObject(refused(404, 'not-found'));
    const other = await world.another();
    const there = async () =>
      (await world.ask('GET', `/v1/records/hives/${hive}`, { as: 'ben', url: other.url })).status;
    expect(await there()).toBe(200);
    await as('ada').unshare('hives', hive, shared.id);
    expect(await there()).toBe(404);
    const again = await share({ to: 'ben' });
    expect(await there()).toBe(200);
    expect(await world.desk.everyShare({ by: 'ada', with: 'ben' })).toMatchObject([{ id: again.id }]);
    await world.desk.removeShare(again.id);
    expect(await there()).toBe(404);
    await expect(world.desk.removeShare(again.id)).rejects.toMatchObject({ problem: { status: 404 } });
    const { entries } = await world.desk.audit({ action: 'share' });
    expect(entries.slice(0, 4).map(({ action, actor }) => [action, actor])).toEqual([
      ['share.take', 'development: test'],
      ['share.give', 'person ada@hollowoak.example'],
      ['share.take', 'person ada@hollowoak.example'],
      ['share.give', 'person ada@hollowoak.example'],
    ]);
  });

  test('of one’s own entry among people lets nobody change what rules read through “me”', async () => {
    const ada = await id('ada');
    await as('ada').share('people', ada, { person: await id('ben'), for: ['update'] });
    await as('ben').update('people', ada, { phone: '+44 1632 960004' });
    for (const name of ['ada', 'ben'])
      await expect(as(name).update('people', ada, { trusted: true }), name).rejects.toMatchObject({
        problem: { status: 403, fields: ['trusted'] },
      });
    const { differences } = await world.desk.sweep({ collections: ['people'] });
    expect(differences).toEqual([]);
  });

  test('explains itself, counts in reach, and stands in no one’s statement but its own caller’s', async () => {
    await share({ to: 'ben', for: ['update'] });
    const why = await world.desk.why({ as: 'ben', operation: 'read', collection: 'hives', record: hive });
    expect(why).toMatchObject({ allowed: true, served: { allowed: true } });
    const rules = why.stages.flatMap((stage) => stage.rules);
    expect(rules.find(({ truth }) => truth === true)).toMatchObject({
      id: 'hives/shared by ada@hollowoak.example, 1',
    });
    expect(
      await world.desk.why({ as: 'ada', operation: 'share', collection: 'hives', record: hive }),
    ).toMatchObject({ allowed: true, served: { allowed: true } });
    expect(
      await world.desk.why({ as: 'ben', operation: 'share', collection: 'hives', record: hive }),
    ).toMatchObject({ allowed: false, served: { allowed: false } });
    const { reach } = await world.desk.reach({ as: 'ben' });
    expect(
      reach.find(({ collection, operation }) => collection === 'hives' && operation === 'update'),
    ).toMatchObject({
      records: 1,
      through: [{ audience: 'them alone' }],
    });
    const reachers = await world.desk.reachers('hives', hive);
    expect(reachers.reachers.map(({ name }) => name).toSorted()).toEqual(['ada', 'ben', 'olga']);
    // Ben and Dora ask the same questions; what Ben was shared must not come out for her.
    for (const name of ['ben', 'dora', 'ben', 'cleo'])
      expect((await as(name).list('hives', { order: 'code', count: true })).records.length).toBe(
        name === 'ben' ? 1 : 0,
      );
  });
});

/** Shares that somebody has made of hives that are not there, or of those that are. */
const fill = (sharer: string, audience: string, count: number, operations = ['read']) =>
  run(world.database, {
    ...sql``,
    text: `insert into gate.shares (id, collection, record, operations, sharer, audience, ends)
      select gen_random_uuid(), 'hives', gen_random_uuid(), '{${operations.join()}}', (select id from records.people where _identity = '${sharer}'), '${audience}', null
      from generate_series(1, ${count})`,
  });

test('nobody shares more than the settings say, nor more with the same, and what is shared stays theirs to change', async () => {
  await fill('ada', 'everybody', 299);
  await share({ audience: 'people' });
  await expect(share({ to: 'ben' })).rejects.toMatchObject(refused(409, 'too-many-shares'));
  // The same once more is a change.
  await share({ audience: 'people' });
  await run(world.database, sql`delete from gate.shares`);
  await fill('cleo', 'people', 400);
  await expect(share({ audience: 'people' })).rejects.toMatchObject(refused(409, 'too-many-shares'));
  await share({ to: 'ben' });
  await run(world.database, sql`update gate.shares set ends = now() where audience = 'people'`);
  await share({ audience: 'people' });
});

test('more than can be named one by one are shared all the same: listed, found, changed, ended, and told as they are', async () => {
  const codes = Array.from({ length: 5 }, (_, n) => `MANY-${n}`);
  const ids: string[] = [];
  for (const code of codes) ids.push(await made({ code, notes: 'n' }));
  const far = await made({ code: 'MANY-FAR' });
  for (const record of ids) await share({ for: ['update'], audience: 'people' }, 'ada', record);
  // With those the same person shares the same with the same more often than shares are named.
  await fill('ada', 'people', 250, ['read', 'update']);
  const listed = async (name: string | null) =>
    (await as(name).list('hives', { order: 'code', where: 'code starts with "MANY-"' })).records.map(
      ({ code }) => code,
    );
  expect(await listed('cleo')).toEqual(codes);
  expect(await listed(null), 'not with everybody').toEqual([]);
  await as('cleo').update('hives', ids[0]!, { notes: 'by cleo' });
  await expect(as('cleo').update('hives', far, { notes: 'x' })).rejects.toMatchObject(
    refused(404, 'not-found'),
  );
  await expect(as('cleo').delete('hives', ids[0]!)).rejects.toMatchObject(refused(403, 'not-allowed'));
  expect(
    await world.desk.why({ as: 'cleo', operation: 'read', collection: 'hives', record: ids[0]! }),
  ).toMatchObject({ allowed: true, served: { allowed: true } });
  await run(
    world.database,
    sql`update gate.shares set ends = now() - interval '1 second' where record = ${value(ids[1]!)}::uuid`,
  );
  const [third] = await as('ada').shares('hives', ids[3]!);
  await as('ada').unshare('hives', ids[3]!, third!.id);
  expect(await listed('cleo')).toEqual(codes.filter((_, n) => n !== 1 && n !== 3));
  // Somebody of the same standing shares, too: each of what is theirs, and neither what is the other’s.
  const finns = (await as('finn').create('hives', { code: 'MANY-9' })).id as string;
  await share({ audience: 'people' }, 'finn', finns);
  for (const [record, sharer] of [
    [finns, 'ada'],
    [far, 'finn'],
  ])
    await run(
      world.database,
      sql`insert into gate.shares (id, collection, record, operations, sharer, audience)
        select gen_random_uuid(), 'hives', ${value(record!)}::uuid, array['read'], id, 'people' from records.people where _identity = ${value(sharer!)}`,
    );
  expect(await listed('cleo')).toEqual([codes[0], codes[2], codes[4], 'MANY-9']);
  const { differences, left } = await world.desk.sweep({ collections: ['hives'] });
  expect([differences, left.filter((each) => each.includes('cleo'))]).toEqual([[], []]);
  // The same where they are so few that they are named.
  await run(
    world.database,
    sql`delete from gate.shares where not exists (select from records.hives as h where h.id = record)`,
  );
  expect(await listed('cleo')).toEqual([codes[0], codes[2], codes[4], 'MANY-9']);
  await run(world.database, sql`update records.hives set locked = true where id = ${value(ids[4]!)}::uuid`);
  expect(await listed('cleo'), 'its sharer may not share it any more').toEqual([
    codes[0],
    codes[2],
    'MANY-9',
  ]);
});

test('a page of what very many share holds what each share gives, in either order, page by page', async () => {
  await run(world.database, sql`delete from gate.shares`);
  await run(world.database, sql`delete from records.visits`);
  await run(world.database, sql`delete from records.hives`);
  // A fence of those whom a share reaches, and not of who shares.
  const fence = 'nobody but keeper may read unless code != "WALK-8" and code != "WALK-12"';
  const fenced = rulebook.replace('nobody may delete unless', `${fence}\n  nobody may delete unless`);
  await world.desk.publish({ files: [{ name: 'test.gate', text: fenced }] });
  const person = (name: string) => sql`(select id from records.people where _identity = ${value(name)})`;
  // Of sixty hives every third is shared with people by whoever has it, every fourth with everybody, and each tenth is locked by now.
  await run(
    world.database,
    sql`insert into records.hives (id, code, keeper, locked, created_at, updated_at)
      select gen_random_uuid(), 'WALK-' || n, case n % 2 when 0 then ${person('ada')} else ${person('finn')} end, n % 10 = 0, now(), now()
      from generate_series(1, 60) as n`,
  );
  for (const [audience, each] of [
    ['people', 3],
    ['everybody', 4],
  ] as const)
    await run(
      world.database,
      sql`insert into gate.shares (id, collection, record, operations, sharer, audience)
        select gen_random_uuid(), 'hives', id, array['read'], keeper, ${value(audience)} from records.hives
        where substr(code, 6)::integer % ${value(each)}::integer = 0`,
    );
  // So many that none is named; and what is over, or what is another’s to share, is none.
  await fill('ada', 'people', 300);
  await fill('finn', 'everybody', 300);
  for (const [set, at] of [
    [`ends = now() - interval '1 second'`, 9],
    [`sharer = (select id from records.people where _identity = 'ben')`, 15],
  ] as const)
    await run(world.database, {
      text: `update gate.shares set ${set} where audience = 'people' and record = (select id from records.hives where code = 'WALK-${at}')`,
      values: [],
    });
  const rows = await run<{ id: string; n: number }>(
    world.database,
    sql`select id, substr(code, 6)::integer as n from records.hives order by id`,
  );
  const shared = (isPerson: boolean) =>
    rows
      .filter(({ n }) => n % 10 !== 0 && n !== 8 && n !== 12)
      .filter(({ n }) => n % 4 === 0 || (isPerson && n % 3 === 0 && ![9, 15].includes(n)))
      .map(({ id }) => id);
  for (const name of ['cleo', null]) {
    const expected = shared(name !== null);
    expect(expected.length).toBeGreaterThan(5);
    for (const order of [undefined, 'id desc']) {
      const found: string[] = [];
      let after: string | undefined;
      do {
        const answer = await as(name).list('hives', {
          limit: 4,
          ...(order === undefined ? {} : { order }),
          ...(after === undefined ? {} : { after }),
        });
        found.push(...answer.records.map(({ id }) => id as string));
        after = answer.next ?? undefined;
      } while (after !== undefined);
      expect(found, `${name} ${order}`).toEqual(order === undefined ? expected : expected.toReversed());
    }
    // With a filter, and in another order, it is asked in another way.
    const { records } = await as(name).list('hives', { order: 'code', limit: 100 });
    expect(records.map(({ id }) => id).toSorted()).toEqual(expected);
  }
});

test('no more people than the settings say share with the same, and a rulebook without “share” asks for none', async () => {
  await run(world.database, {
    ...sql``,
    text: `insert into records.people (id, name, created_at, updated_at) select gen_random_uuid(), 'Sharer ' || n, now(), now() from generate_series(1, 20) as n`,
  });
  await run(world.database, {
    ...sql``,
    text: `insert into gate.shares (id, collection, record, operations, sharer, audience) select gen_random_uuid(), 'hives', '${hive}', array['read'], id, 'people' from records.people where name like 'Sharer %'`,
  });
  await expect(share({ audience: 'people' })).rejects.toMatchObject(refused(409, 'too-many-shares'));
  expect(await seen('ben'), 'none of them may').toBeNull();
  const plain = rulebook.replace(/^.*may share.*$/gm, '');
  await world.desk.publish({ files: [{ name: 'test.gate', text: plain }] });
  await share({ to: 'ben' }).then(
    () => expect.unreachable(),
    (error: unknown) => expect(error).toMatchObject(refused(403, 'not-allowed')),
  );
  expect(await seen('ben')).toBeNull();
});
