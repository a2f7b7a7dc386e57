import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { firmgateOf } from '../support/firmgate.ts';
import { openWorld, type World } from '../support/world.ts';

const text = `collection apiaries {
  name text required label
  host ref people
}

collection hives {
  code text required label
  apiary ref apiaries
  keeper ref people
  queen_born integer
  owned by keeper
}

rules people { people may read (name) }
rules apiaries { people may read }

rules hives {
  people may read when queen_born >= 2020
  people may update (queen_born) when mine
}

test identity ada { email "ada@hollowoak.example" }
`;

let world: World;
let [folder, other] = ['', ''];
beforeAll(async () => {
  world = await openWorld(text);
  const made = mkdtempSync(join(tmpdir(), 'gate-'));
  [folder, other] = [join(made, 'mine'), join(made, 'other')];
  for (const name of ['iris', 'oleg'])
    await world.desk.addPerson({ name, email: `${name}@hollowoak.example` });
  await run(
    world.database,
    sql`insert into records.apiaries (id, name, host, created_at, updated_at)
      select gen_random_uuid(), 'Apiary ' || n, (select id from records.people where email = case n when 1 then 'iris@hollowoak.example' else 'oleg@hollowoak.example' end), now(), now() from generate_series(1, 2) as n`,
  );
  // Two hundred hives that nobody owns; one of them has a queen of 2019.
  await run(
    world.database,
    sql`insert into records.hives (id, code, apiary, queen_born, created_at, updated_at)
      select gen_random_uuid(), 'H-' || lpad(n::text, 3, '0'), (select id from records.apiaries where name = 'Apiary ' || (n % 2 + 1)), 2018 + n % 5, now(), now() from generate_series(1, 200) as n`,
  );
});
afterAll(() => world.close());

const firmgate = firmgateOf(() => world);
const well = async (...args: string[]) => {
  const { code, out, err } = await firmgate(...args);
  expect([code, err.replace(/^unlocked .*\n/, '')], args.join(' ')).toEqual([0, '']);
  return out;
};
const edit = (at: string, ...changes: (readonly [string, string])[]) => {
  const path = join(at, 'test.gate');
  let now = readFileSync(path, 'utf8');
  for (const [was, is] of changes) {
    expect(now).toContain(was);
    now = now.replaceAll(was, is);
  }
  writeFileSync(path, now);
};

test('a rename, a type, and an owner for two hundred records: looked at with the people who lose something, published, and taken back', async () => {
  await well('export', folder);
  edit(
    folder,
    ['queen_born integer', 'queen_year text was queen_born'],
    ['queen_born >= 2020', 'mine and queen_year != "2020"'],
    ['(queen_born)', '(queen_year)'],
    ['owned by keeper', 'owned by keeper\n  fill keeper from apiary.host'],
  );
  await well('unlock', 'the spring rules');
  const seen = await well('preview', folder);
  expect(seen).toContain(
    '~ field hives.queen_year\n    hives.queen_born is called hives.queen_year now, and keeps what it holds: “queen_year integer” is “queen_year text” now',
  );
  expect(seen).toContain('hives.queen_year becomes text: all 200 values fit');
  expect(seen).toContain('hives.keeper is filled in for 200 records; 0 of those that lack it stay without');
  expect(seen).toContain('clients send and read hives.queen_year in place of queen_born');
  expect(seen).toContain('when mine and queen_year != "2020", and no longer when queen_year >= 2020');
  expect(seen).not.toContain('update hives: update also');
  expect(seen).toMatch(
    /read hives \(the record.*iris@hollowoak.example \+40 -80.*oleg@hollowoak.example \+40 -80/,
  );
  const said = await well('publish', folder, '--yes', '--message', 'Owners, and years as they are written');
  expect(said).toContain('published as version 2');
  expect(said).toContain('hives.keeper is filled in for 200 records');
  expect(await well('owners', 'hives')).toContain('each of 200 records of hives has an owner');
  expect(await well('look', 'hives', '--as', 'ada').catch(() => '')).not.toContain('H-001');
  // The folder knows by now what it was made from.
  expect(await well('publish', folder, '--yes')).toContain('version 2 is in force already');
  const back = await well('restore', '1', '--yes');
  expect(back).toContain('version 3 is in force, with the files of version 1');
  expect(back).toContain('hives.queen_year is called hives.queen_born now, and keeps what it holds');
  expect(await well('history', 'differences', '1', '3')).toContain('the same');
  expect(await well('records', 'list', 'hives', '--as', 'ada')).toContain('120 hives for ada');
  const { code, err } = await firmgate('publish', folder, '--yes', '--message', 'Again');
  expect([code, err]).toEqual([1, expect.stringContaining('made from version 2; version 3 is in force')]);
  // Of the values as they were before the change two columns are kept, twice.
  expect(await well('aside')).toMatch(/hives\.queen_born\s+200 values/);
});

test('a draft goes between two folders and the service, and is moved onto what came between', async () => {
  expect(await well('draft', 'list')).toContain('there are no drafts');
  await well('export', folder, '--overwrite');
  edit(folder, ['rules apiaries { people may read }', 'rules apiaries { people may read (name) }']);
  expect(await well('draft', 'push', folder, 'summer')).toContain(
    'draft summer, save 1, from version 3: 1 file',
  );
  expect(await well('draft', 'pull', 'summer', other)).toContain('draft summer, save 1');
  edit(other, ['owned by keeper', 'owned by keeper, apiary.host']);
  await well('draft', 'push', other, '--message', 'hosts own, too');
  edit(folder, ['code text required label', 'code text required label up to 20']);
  expect(await well('draft', 'push', folder)).toContain('put together with what others saved meanwhile');
  expect(readFileSync(join(folder, 'test.gate'), 'utf8')).toContain('owned by keeper, apiary.host');
  edit(folder, ['people may read (name) }', 'people may red (name) }']);
  const wrong = await well('draft', 'push', folder);
  expect(wrong).toMatch(/error N011\s+test.gate:\d+:\d+/);
  expect(wrong).toContain('it can be saved so, and not published');
  expect((await firmgate('publish', '--draft', 'summer', '--yes')).code).toBe(1);
  edit(folder, ['may red', 'may read']);
  await well('draft', 'push', folder);
  const refused = await firmgate('draft', 'push', other, 'summer');
  expect([refused.code, refused.err]).toEqual([0, '']);
  const list = await well('draft', 'list');
  expect(list).toMatch(/summer\s+3\s+5/);
  expect(await well('draft', 'show', 'summer')).toContain('hosts own, too');
  expect(await well('preview', '--draft', 'summer')).toContain(
    'people may read apiaries: read no longer id, host',
  );
  expect(await well('publish', '--draft', 'summer', '--yes')).toContain('published as version 4');
  expect(await well('draft', 'rebase', 'summer')).toContain('from version 4');
  await well('draft', 'delete', 'summer');
  expect((await firmgate('draft', 'show', 'summer')).code).toBe(1);
});
