import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { adviceOn } from '../../src/core/analysis/advice/index.ts';
import { gallery } from '../../src/core/patterns/gallery.ts';
import { firstRulebook, patternNamed, writePattern } from '../../src/core/patterns/write.ts';
import { openWorld, type World } from '../support/world.ts';

/** Ready pieces of rulebook: each is right, in force, and guarded by the trial that comes with it. */
const base = `
people { unit ref units }
collection units { name text required label  above ref units  tree by above }
collection hives {
  code text required label
  owner ref people
  status one of ("draft", "review", "published") = "draft"
  price decimal
  parent ref units
  unit ref units
  inspector ref people
  starts timestamp
  ends timestamp
  owned by owner
}
rules people { people may read (name) }
rules units { people may read (all) }
`;
const checked = (text: string) => {
  const found = checkRulebook([{ name: 'main.gate', text }]);
  if (!found.ok) throw new Error(`${JSON.stringify(found.diagnostics)}\n${text}`);
  return found.rulebook;
};
/** What fences stand before, and their trials try. */
const beforeFences = 'rules hives { people may read (all), create (all), update (all), delete }';
const isFence = (name: string) => ['field-for-one', 'forwards-only', 'nothing-without-role'].includes(name);

let world: World;
beforeAll(async () => {
  world = await openWorld(base);
});
afterAll(() => world.close());

test.each(gallery.map(({ name }) => [name]))(
  '%s: its trial is met, and fails once its rules are gone',
  async (name) => {
    const pattern = patternNamed(name);
    if (typeof pattern === 'string') throw new Error(pattern);
    const around = isFence(name) ? base + beforeFences : base;
    const written = writePattern(pattern, checked(around), 'hives', {});
    if (!written.ok) throw new Error(written.problem);
    expect(written.notes).toEqual([]);
    const publish = (text: string) => world.desk.publish({ files: [{ name: 'main.gate', text }] });
    await publish(around + written.text);
    const report = await world.desk.trials(null);
    expect([report.failed, report.passed > 0]).toEqual([0, true]);
    // A pattern that only refuses is seen by what stands open without it; one that opens, by what is closed.
    const rules = /^rules hives \{[\s\S]*?^\}$/m.exec(written.text)![0];
    const opposite = isFence(name)
      ? ''
      : `rules hives { ${['members-write', 'owners-write', 'staff-only'].includes(name) ? '' : 'everybody may read (all)'} }`;
    const open = (around + written.text).replace(rules, opposite);
    expect((await world.desk.trials({ files: [{ name: 'main.gate', text: open }] })).failed).toBeGreaterThan(
      0,
    );
  },
);

test('what a pattern is told is asked for, and must fit; what it lacks for a trial is said', () => {
  const write = (name: string, said: Record<string, string> = {}, text = base, collection = 'hives') => {
    const pattern = patternNamed(name);
    if (typeof pattern === 'string') return pattern;
    const result = writePattern(pattern, checked(text), collection, said);
    return result.ok ? result.notes : result.problem;
  };
  expect(write('owner-only')).toBe('there is no pattern “owner-only”: did you mean “owners-only”?');
  expect(write('owners-only', {}, base, 'hive')).toMatch(/no collection “hive”: .*hives/);
  expect(write('owners-only', { owner: 'price' })).toBe('--owner price: it must be a “ref people”');
  expect(write('owners-only', { owner: 'ownr' })).toMatch(/--owner ownr: hives has no such field \(.*owner/);
  expect(write('own-or-published', { value: 'a" or true' })).toMatch(/a text without quotes/);
  expect(write('staff-only', { role: 'x } rules' })).toBe('--role x } rules: the name of a role');
  expect(write('on-duty', {}, 'collection a { code text label }', 'a')).toMatch(/^say --who/);
  expect(write('members-write', {}, 'collection a { code text }', 'a')).toEqual([
    expect.stringContaining('no label'),
  ]);
  expect(
    write(
      'members-write',
      {},
      'collection b { x text }\ncollection a { code text label  b ref b required }',
      'a',
    ),
  ).toEqual([expect.stringContaining('needs a value for b')]);
});

test('a rulebook begun with “firmgate new” is right, without advice, and its trial is met on an empty database', async () => {
  const files = firstRulebook('notes');
  const found = checkRulebook(files);
  if (!found.ok) throw new Error(JSON.stringify(found.diagnostics));
  expect(adviceOn(found.rulebook)).toEqual([]);
  const own = await openWorld(files);
  try {
    expect(await own.desk.trials(null)).toMatchObject({ failed: 0, passed: 6 });
    const ada = await own.as('ada');
    await ada.create('notes', { title: 'Mine' });
    expect((await (await own.as('ben')).list('notes')).records).toEqual([]);
    expect((await ada.list('notes')).records).toHaveLength(1);
  } finally {
    await own.close();
  }
});
