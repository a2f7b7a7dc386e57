import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { differencesBetween } from '../../src/core/analysis/differences.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

/** What was in force, what is, and what was said of it. */
const rulebook = (rules: string, more = '') => `
collection hives { code text required label  keeper ref people  notes text ${more} owned by keeper }
role keeper
role inspector
rules hives {
  keeper may create (code, notes) when keeper = me stamp keeper = me
  ${rules}
}
test identity ada { email "ada@hollowoak.example" roles keeper }
trial "keepers read their own" {
  given hives (code = "T-1", keeper = ada)
  as ada { reads hives ("T-1") }
  as visitor { reads no hives }
}
`;
const own = 'keeper may read (all) when mine';
const files = (text: string, name = 'main.gate') => [{ name, text }];

let world: World;
beforeAll(async () => {
  world = await openWorld(rulebook(own));
});
afterAll(() => world.close());

const refused = (type: string) => ({ problem: { type: `/problems/${type}` } });
const inForce = async () => (await world.desk.history({ limit: 1 })).versions[0]!;

test('each publication is kept: who, when, what for, what came of its trials, and its files byte for byte', async () => {
  const odd = `// “a comment”\r\n${rulebook(own)}\t\n\n`;
  await world.desk.publish({ files: files(odd, 'odd.gate'), message: 'other line ends', base: 1 });
  const { versions, next } = await world.desk.history({ limit: 1 });
  expect(versions).toMatchObject([
    { version: 2, message: 'other line ends', restores: null, trials: { passed: 2, failed: 0 }, files: 1 },
  ]);
  expect(next).toBe(2);
  expect((await world.desk.history({ before: next! })).versions.map(({ version }) => version)).toEqual([1]);
  expect((await world.desk.version(2)).files).toEqual(files(odd, 'odd.gate'));
  await expect(world.desk.version(9)).rejects.toMatchObject(refused('not-found'));
  for (const path of ['0', '-1', '1e3', '99999999999', 'x'])
    expect((await world.ask('GET', `/v1/desk/publications/${path}`, { token: world.deskToken })).status).toBe(
      404,
    );
});

test('of two that were made from the same version one wins, and the other is told which came between', async () => {
  const { version } = await inForce();
  const made = (notes: string) =>
    world.desk.publish({ files: files(rulebook(`${own} because "${notes}"`)), base: version });
  const ended = await Promise.allSettled([made('one'), made('two'), made('three')]);
  expect(ended.filter(({ status }) => status === 'fulfilled')).toHaveLength(1);
  for (const each of ended)
    if (each.status === 'rejected')
      expect(each.reason).toMatchObject({
        problem: {
          type: '/problems/other-version',
          errors: [{ message: `it was made from version ${version}; version ${version + 1} is in force` }],
        },
      });
  expect((await inForce()).version).toBe(version + 1);
});

test('what fails its trials is not in force, also where collections change, unless somebody says why it is to be', async () => {
  const { version } = await inForce();
  const open = files(rulebook('everybody may read (all)', 'size integer'));
  await expect(world.desk.publish({ files: open })).rejects.toMatchObject({
    problem: {
      type: '/problems/trials-failed',
      errors: [
        { message: expect.stringMatching(/“keepers read their own”: the visitor reads no hives, and/) },
      ],
    },
  });
  expect((await inForce()).version).toBe(version);
  const overview = await world.desk.overview();
  expect(
    overview.collections.find(({ name }) => name === 'hives')!.fields.map(({ name }) => name),
  ).not.toContain('size');
  await world.desk.publish({ files: open, despite: 'the fair is open to everybody' });
  expect(await inForce()).toMatchObject({ version: version + 1, trials: { passed: 1, failed: 1 } });
  const { entries } = await world.desk.audit({ action: 'rulebook.publish' });
  expect(entries[0]!.detail).toMatchObject({ despite: 'the fair is open to everybody', failed: 1 });
  expect((await (await world.as(null)).list('hives')).records).toEqual([]);
});

test('an old version is in force again at once, as a new one; what it does not know is kept, and out of reach', async () => {
  const { version } = await inForce();
  const restored = await world.desk.publish({ restores: 1, message: 'the fair is over' });
  expect(restored).toMatchObject({ version: version + 1, changed: true, setAside: ['hives.size'] });
  expect(await inForce()).toMatchObject({ restores: 1, message: 'the fair is over' });
  expect((await world.desk.version(version + 1)).files).toEqual((await world.desk.version(1)).files);
  expect((await world.ask('GET', '/v1/records/hives')).json.records).toEqual([]);
  expect(await world.desk.publish({ restores: 1 })).toMatchObject({ changed: false });
  await expect(world.desk.publish({ restores: 99 })).rejects.toMatchObject(refused('malformed-request'));
  await expect(world.desk.publish({ restores: 1, message: 'a\u001B[31mred' })).rejects.toMatchObject(
    refused('malformed-request'),
  );
  await expect(world.desk.publish({} as never)).rejects.toMatchObject(refused('malformed-request'));
  await expect(world.desk.publish({ restores: 1, files: files('role x') })).rejects.toMatchObject(
    refused('malformed-request'),
  );
});

test('a role that people hold is not taken away unseen, and not silently held again when it comes back', async () => {
  const text = rulebook(own);
  const without = text.replace('role inspector\n', '');
  await world.desk.publish({ files: files(text) });
  const person = await world.desk.addPerson({ name: 'Stella', email: 'stella@hollowoak.example' });
  await world.desk.changeRoles({ people: [person.id], give: [{ role: 'inspector' }] });
  expect((await world.desk.preview({ files: files(without) })).roles).toEqual([
    { role: 'inspector', how: 'gone', holders: 1 },
  ]);
  const { version: before } = await inForce();
  expect((await world.desk.publish({ files: files(without) })).notes).toEqual([
    'the role “inspector” is gone: 1 person had it by hand, which gives them nothing any more',
  ]);
  expect((await world.desk.person(person.id)).held).toEqual([]);
  // Restored it is held as it was; put in anew, by nobody.
  expect((await world.desk.publish({ restores: before })).notes).toEqual([
    'the role “inspector” is back: 1 person who had it has it again',
  ]);
  expect((await world.desk.person(person.id)).held).toEqual(['inspector']);
  await world.desk.publish({ files: files(without) });
  expect((await world.desk.preview({ files: files(text) })).roles).toEqual([
    { role: 'inspector', how: 'back', holders: 1 },
  ]);
  expect((await world.desk.publish({ files: files(`${text}// anew`) })).notes).toEqual([
    'the role “inspector” is back, and 1 person who had it before it went has it no longer: give it again where it is meant',
  ]);
  expect((await world.desk.person(person.id)).held).toEqual([]);
  // One that was held by a condition, and is given by hand now, is held by nobody either.
  const held = text.replace('role inspector\n', 'role inspector when me.name = "Nobody"\n');
  await world.desk.changeRoles({ people: [person.id], give: [{ role: 'inspector' }] });
  expect((await world.desk.publish({ files: files(held) })).notes).toEqual([
    expect.stringContaining('is held by a condition now: 1 person'),
  ]);
  await world.desk.publish({ files: files(`${text}// by hand`) });
  expect((await world.desk.person(person.id)).held).toEqual([]);
  // A group that nobody is in keeps nothing of it for those who come.
  await run(
    world.database,
    sql`with made as (insert into gate.groups (id, display_name) values (gen_random_uuid(), 'Empty') returning id)
      insert into gate.group_roles ("group", role, given_by) select id, 'inspector', 'a test' from made`,
  );
  await world.desk.publish({ files: files(without) });
  expect((await world.desk.publish({ files: files(`${text}// again`) })).notes).toEqual([]);
  expect(await run(world.database, sql`select 1 from gate.group_roles where role = 'inspector'`)).toEqual([]);
  expect((await world.desk.audit({ action: 'role.forget' })).entries[0]).toMatchObject({
    subject: 'inspector',
    detail: { people: 1 },
  });
});

test('what differs is told by sentence and declaration, whatever the layout, and in words', () => {
  const checked = (text: string) => {
    const found = checkRulebook(files(text));
    if (!found.ok) throw new Error(JSON.stringify(found.diagnostics));
    return found.rulebook;
  };
  const told = (before: string, after: string) =>
    differencesBetween(checked(before), checked(after)).map(({ what, how, words }) => [how, what, words]);
  const before = rulebook(
    `${own}\n  inspector may read (code), delete when notes = "sick"\n  nobody but inspector may delete`,
  );
  expect(told(before, `// more\n${before.replaceAll('  ', '\n\n')}`)).toEqual([]);
  const after = rulebook(
    `people may read (code)\n  inspector may read (code, notes), delete when notes != "well"\n  nobody but keeper may delete unless notes is missing`,
    'size integer',
  ).replace('role inspector', 'role inspector "Looks"\nrole taster');
  expect(told(before, after)).toEqual([
    ['changed', 'role inspector', '“role inspector” is “role inspector "Looks"” now'],
    ['new', 'field hives.size', 'new: size integer'],
    ['new', 'role taster', 'new: role taster'],
    ['new', 'rule of hives', 'people may now also read (code)'],
    [
      'changed',
      'rule of hives',
      'inspector may read, delete hives: read also notes; when notes != "well", and no longer when notes = "sick"',
    ],
    ['gone', 'rule of hives', 'keeper may no longer read (all) when mine, unless another rule lets them'],
    ['new', 'fence of hives', 'a new fence: nobody but keeper may delete unless notes is missing'],
    ['gone', 'fence of hives', 'a fence is gone: nobody but inspector may delete'],
  ]);
  // By a condition that stays it is the same sentence, which lets them do something else.
  const [does, other] = ['read (code), delete', 'read (code), update (notes)'].map((operations) =>
    rulebook(`inspector may ${operations} when notes = "sick"`),
  );
  expect(told(does!, other!)).toEqual([
    [
      'changed',
      'rule of hives',
      'inspector may read, update hives: now also update (notes); no longer delete',
    ],
  ]);
  expect(told(does!, other!.replace('"sick"', '"well"')).map(([how]) => how)).toEqual(['new', 'gone']);
});
