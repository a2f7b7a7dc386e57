import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

/** Records that were there before anybody said whose they are. */
const rulebook = `
collection places { name text required label  host ref people }
collection hives {
  code text required label
  keeper ref people
  second ref people
  place ref places
  size integer
  owned by keeper
}
collection visits { code text label  hive ref hives  owned by hive.keeper }
collection swarms { code text label }
rules hives { people may read (all), update (size) when mine }
rules people { people may read (all) when mine }
test identity ada { name "Ada" email "ada@hollowoak.example" }
`;
let world: World;
let [alma, bert]: string[] = [];
beforeAll(async () => {
  world = await openWorld(rulebook);
  const add = async (name: string) =>
    (await world.desk.addPerson({ name, email: `${name.toLowerCase()}@hollowoak.example` })).id;
  [alma, bert] = [await add('Alma'), await add('Bert')];
});
afterAll(() => world.close());
beforeEach(async () => {
  await run(world.database, sql`delete from records.hives`);
  await run(world.database, sql`delete from records.places`);
  await run(
    world.database,
    sql`insert into records.places (id, name, host, created_at, updated_at)
      select gen_random_uuid(), name, (select id from records.people where email = host), now(), now()
      from (values ('Orchard', 'alma@hollowoak.example'), ('Mill', 'bert@hollowoak.example'), ('Field', null)) as each (name, host)`,
  );
  await run(
    world.database,
    sql`insert into records.hives (id, code, keeper, place, size, created_at, updated_at)
      select gen_random_uuid(), 'H-' || n, case when n = 1 then (select id from records.people where _identity = 'ada') end,
        (select id from records.places where name = (array['Orchard', 'Mill', 'Field'])[n % 3 + 1]), n, now() - interval '2 days', now() - interval '1 day'
      from generate_series(1, 9) as n`,
  );
});

const keepers = async () =>
  (
    await run<{ told: string }>(
      world.database,
      sql`select h.code || ' ' || coalesce(p.name, '-') as told from records.hives as h left join records.people as p on p.id = h.keeper order by h.code`,
    )
  ).map(({ told }) => told);
const refused = (type: string, errors?: unknown) => ({
  problem: { type: `/problems/${type}`, ...(errors === undefined ? {} : { errors }) },
});

test('what nobody owns is counted, with the oldest; where nothing is said of owners, that is said', async () => {
  expect(await world.desk.ownerless('hives')).toMatchObject({
    owned_by: ['keeper'],
    total: 9,
    without: 8,
    examples: ['H-2', 'H-3', 'H-4', 'H-5', 'H-6'].map(() => expect.stringMatching(/^H-[2-9]$/)),
    accepted: null,
  });
  expect(await world.desk.ownerless('visits')).toMatchObject({
    owned_by: ['hive.keeper'],
    without: 0,
    since: null,
  });
  await expect(world.desk.ownerless('swarms')).rejects.toMatchObject(refused('malformed-request'));
  await expect(world.desk.assignOwners('visits', { to: alma! })).rejects.toMatchObject(
    refused('malformed-request', [
      { field: 'field', message: expect.stringContaining('give those an owner') },
    ]),
  );
});

test('all, those for which a condition holds, or by a path: looked at first, saved whole, and on the trail', async () => {
  const was = await keepers();
  const looked = await world.desk.assignOwners('hives', {
    to: 'alma@hollowoak.example',
    where: 'size > 6',
    look: true,
  });
  expect(looked).toEqual({
    id: null,
    records: 3,
    missed: 0,
    owners: [{ person: alma, records: 3, was: 0, is: 3 }],
  });
  expect(await keepers()).toEqual(was);
  expect((await world.desk.audit({ action: 'look.owners' })).entries[0]).toMatchObject({
    detail: { where: 'size > 6' },
  });
  const { id } = await world.desk.assignOwners('hives', { to: alma!, where: 'size > 6' });
  expect(await keepers()).toEqual(was.map((each) => each.replace(/^(H-[789]) -$/, '$1 Alma')));
  expect((await world.desk.audit({ action: 'owners.assign' })).entries[0]).toMatchObject({
    subject: 'hives',
    detail: { assignment: id, field: 'keeper', records: 3 },
    reason: 'this test changes what is in force',
  });
  const byPath = await world.desk.assignOwners('hives', { by: 'place.host' });
  expect(byPath).toMatchObject({ records: 3, missed: 2 });
  expect(byPath.owners.toSorted((a, b) => b.records - a.records)).toMatchObject([
    { person: alma, records: 2, was: 3, is: 5 },
    { person: bert, records: 1, was: 0, is: 1 },
  ]);
  // Nobody who owns one loses it.
  expect((await keepers())[0]).toBe('H-1 Ada');
});

test('is undone whole, as long as nobody has changed one of the records since', async () => {
  const was = await keepers();
  const first = await world.desk.assignOwners('hives', { to: alma!, where: 'size < 5' });
  expect(await world.desk.undoOwners(first.id!)).toEqual({ records: 3 });
  expect(await keepers()).toEqual(was);
  await expect(world.desk.undoOwners(first.id!)).rejects.toMatchObject(refused('cannot-undo'));
  const second = await world.desk.assignOwners('hives', { to: alma! });
  await run(world.database, sql`update records.hives set size = 0, updated_at = now() where code = 'H-4'`);
  const then = await keepers();
  await expect(world.desk.undoOwners(second.id!)).rejects.toMatchObject(
    refused('cannot-undo', [{ message: expect.stringMatching(/^1 of its records/) }]),
  );
  expect(await keepers()).toEqual(then);
  for (const id of ['x', '01a21b2b-b98c-7728-a232-63e4260f37f2'])
    await expect(world.desk.undoOwners(id)).rejects.toMatchObject(refused('not-found'));
});

test('a list is taken whole or not at all: every bad line is named, and an address that somebody claims names nobody', async () => {
  const was = await keepers();
  const [{ id: h3 }] = (await run<{ id: string }>(
    world.database,
    sql`select id from records.hives where code = 'H-3'`,
  )) as [{ id: string }];
  await run(
    world.database,
    sql`insert into records.people (id, name, email, _email_claimed, created_at, updated_at) values (gen_random_uuid(), 'Mallory', 'mallory@hollowoak.example', true, now(), now())`,
  );
  const list = [
    'H-2,alma@hollowoak.example',
    `${h3},${bert}`,
    'H-99,alma@hollowoak.example',
    '"H-4","nobody@hollowoak.example"',
    'H-2,bert@hollowoak.example',
    'H-5',
    'H-6,mallory@hollowoak.example',
    '"H-7",BERT@hollowoak.example',
    '01a21b2b-b98c-7728-a232-63e4260f37f2,alma@hollowoak.example',
  ].join('\r\n');
  await expect(world.desk.assignOwners('hives', { list })).rejects.toMatchObject(
    refused('malformed-request', [
      { message: '3 of 9 lines are good; nothing was saved' },
      { message: 'line 3: hives has no record “H-99”' },
      { message: 'line 4: there is no one person “nobody@hollowoak.example”' },
      { message: 'line 5: “H-2” stands in line 1, too' },
      { message: expect.stringMatching(/^line 6: it takes two cells/) },
      { message: expect.stringMatching(/^line 7: the address “mallory@hollowoak.example” was entered/) },
      { message: 'line 9: hives has no record “01a21b2b-b98c-7728-a232-63e4260f37f2”' },
    ]),
  );
  expect(await keepers()).toEqual(was);
  const good = ['H-2,alma@hollowoak.example', `${h3},${bert}`, 'H-1,alma@hollowoak.example'].join('\n');
  // Whose record has an owner keeps them.
  expect(await world.desk.assignOwners('hives', { list: good })).toMatchObject({ records: 2, missed: 0 });
  expect((await keepers()).slice(0, 3)).toEqual(['H-1 Ada', 'H-2 Alma', 'H-3 Bert']);
});

test('takes an unlock and a publisher, and what is asked for wrongly is told', async () => {
  const wrong = async (body: object, field: string) =>
    expect(world.desk.assignOwners('hives', body as never)).rejects.toMatchObject(
      refused('malformed-request', [expect.objectContaining({ field })]),
    );
  await wrong({ to: 'nobody@hollowoak.example' }, 'to');
  await wrong({ to: alma, where: 'sise > 1' }, 'where');
  await wrong({ to: alma, where: 'me may read this' }, 'where');
  await wrong({ by: 'place.name' }, 'by');
  await wrong({ by: 'keeper is missing or true' }, 'by');
  await wrong({ to: alma, field: 'size' }, 'field');
  await wrong({ list: '"unclosed,x' }, 'list');
  await expect(world.desk.assignOwners('hives', { to: alma!, by: 'place.host' })).rejects.toMatchObject(
    refused('malformed-request'),
  );
  await world.desk.lock();
  await expect(world.desk.assignOwners('hives', { to: alma! })).rejects.toMatchObject(refused('locked'));
  await world.desk.unlock('to give owners to records', 10);
  const { secret } = await world.desk.makeKey({ name: 'looker', level: 'author', areas: ['look'] });
  expect(
    (await world.ask('POST', '/v1/desk/owners/hives', { token: secret, body: { to: alma } })).status,
  ).toBe(403);
  expect((await keepers()).filter((each) => each.endsWith('-'))).toHaveLength(8);
});
