import { afterEach, beforeEach, expect, test } from 'vitest';
import { GateProblem } from '../../src/client/index.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
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
trial "keepers read their own" { as ada { reads hives only where keeper = me } }
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

test('a field, a collection, a role and an attribute keep what they hold under their new names, and under the old ones again', async () => {
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
  expect((await ada.read('hives', hive.id)).record).toMatchObject({ site: apiary.id, queen_year: 2024 });
  expect((await ada.read('hives', hive.id)).record).not.toHaveProperty('queen_born');
  expect((await ada.list('sites', { where: `name = "Meadow"` })).records).toHaveLength(1);
  await ada.update('hives', hive.id, { queen_year: 2025 });
  expect(
    (await (await world.as('ben')).list('hives', { where: 'site.name = "Meadow"' })).records,
  ).toHaveLength(1);
  expect((await world.ask('GET', '/v1/records/apiaries', { as: 'ada' })).status).toBe(404);
  // Restored, everything is called as it was, and holds what was written meanwhile.
  await world.desk.publish({ restores: 1 });
  expect((await ada.read('hives', hive.id)).record).toMatchObject({ apiary: apiary.id, queen_born: 2025 });
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
