import { afterAll, beforeAll, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import {
  compareRight,
  rightsThatDiffer,
  whyNotComparable,
  writingMayDiffer,
  type Right,
} from '../../src/core/analysis/prove/compare.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';

const rulebookOf = (rules: string, more = ''): Rulebook => {
  const checked = checkRulebook([
    {
      name: 'a.gate',
      text: `collection apiaries { name text required label  host ref people }
collection hives { code text required label  keeper ref people  apiary ref apiaries  status one of ("active", "retired")  price decimal  owned by keeper }
collection visits { hive ref hives on delete remove  guest ref people }
role keeper
role steward includes keeper
${more}
rules apiaries { people may read when host = me }
${rules}`,
    },
  ]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics));
  return checked.rulebook;
};

let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(5);
});
afterAll(() => solver.close());

const read: Right = { collection: 'hives', operation: 'read', fields: null };

async function ways(
  before: string,
  after: string,
  right: Right = read,
  more: readonly [string, string] = ['', ''],
) {
  const { more: gain, less } = await compareRight(
    rulebookOf(before, more[0]),
    rulebookOf(after, more[1]),
    right,
    solver.solve,
  );
  return [gain.result, less.result];
}

test.each([
  [
    'equal, though written otherwise',
    'keeper may read when keeper = me and status = "active"',
    'keeper may read when not (status != "active" or keeper != me)',
    ['nobody', 'nobody'],
  ],
  [
    'wider',
    'keeper may read when keeper = me',
    'keeper may read when keeper = me or status = "active"',
    ['somebody', 'nobody'],
  ],
  ['narrower', 'people may read', 'keeper may read', ['nobody', 'somebody']],
  [
    'one for another',
    'keeper may read when status = "active"',
    'keeper may read when status = "retired"',
    ['somebody', 'somebody'],
  ],
  [
    'a missing value counts',
    'keeper may read',
    'keeper may read when status = "active" or status != "active"',
    ['nobody', 'somebody'],
  ],
  ['a role that includes another', 'keeper may read', 'steward, keeper may read', ['nobody', 'nobody']],
  [
    'a fence',
    'people may read',
    'people may read nobody but steward may read unless keeper = me',
    ['nobody', 'somebody'],
  ],
  [
    'what follows another collection',
    'people may read when me may read apiary',
    'people may read when apiary.host = me',
    ['nobody', 'nobody'],
  ],
  [
    'among others’ records',
    'people may read when some v in visits has (v.hive = this and v.guest = me)',
    'people may read when some v in visits has (v.hive = this and v.guest = me and v.guest = keeper)',
    ['nobody', 'somebody'],
  ],
] as const)('is told for anybody and any record: %s', async (_, before, after, expected) => {
  expect(await ways(`rules hives { ${before} }`, `rules hives { ${after} }`)).toEqual(expected);
});

test('of a field, of sharing, and of what follows the change of another collection', async () => {
  const price: Right = { collection: 'hives', operation: 'read', fields: ['price'] };
  expect(
    await ways(
      'rules hives { people may read }',
      'rules hives { people may read nobody but steward may read (price) unless keeper = me }',
      price,
    ),
  ).toEqual(['nobody', 'somebody']);
  const sharing = (when: string) =>
    `rules hives { people may read when keeper = me people may share when ${when} }`;
  expect(
    await ways(sharing('keeper = me'), sharing('keeper = me and status = "active"'), {
      ...read,
      operation: 'share',
    }),
  ).toEqual(['nobody', 'somebody']);
  // Who reads what was shared depends on who may share it: a share that counted before may count no more, and never the other way.
  const [gain] = await ways(sharing('keeper = me'), sharing('keeper = me and status = "active"'));
  expect(gain).not.toBe('somebody');
  expect((await ways(sharing('keeper = me and status = "active"'), sharing('keeper = me')))[0]).not.toBe(
    'nobody',
  );
  const follows = 'rules visits { people may read when me may read hive }';
  const visits: Right = { collection: 'visits', operation: 'read', fields: null };
  expect(
    await ways(
      `${follows} rules hives { people may read when keeper = me }`,
      `${follows} rules hives { people may read }`,
      visits,
    ),
  ).toEqual(['somebody', 'nobody']);
});

test('an example is one that both rulebooks bear out, in lines of the language', async () => {
  const { more } = await compareRight(
    rulebookOf('rules hives { keeper may read when keeper = me }'),
    rulebookOf('rules hives { keeper may read when keeper = me or status = "active" }'),
    read,
    solver.solve,
  );
  expect(more).toMatchObject({
    result: 'somebody',
    example: {
      caller: expect.stringContaining('a person with'),
      record: expect.stringContaining('status = "active"'),
    },
  });
});

test('what is not covered is said: deletes that take others along, other roles, writes', async () => {
  const before = rulebookOf('rules hives { keeper may delete when keeper = me }');
  const after = rulebookOf('rules hives { keeper may delete }');
  const { more, less } = await compareRight(before, after, { ...read, operation: 'delete' }, solver.solve);
  expect([more, less]).toMatchObject([
    { result: 'not decided', why: expect.stringContaining('along') },
    { result: 'not decided' },
  ]);
  const rights = rightsThatDiffer(before, after).map(
    ({ collection, operation }) => `${operation} ${collection}`,
  );
  expect(rights).toEqual(['delete hives']);
  expect(writingMayDiffer(before, after)).toBe(false);
  const writes = 'rules visits { people may create }';
  expect(writingMayDiffer(rulebookOf(writes), rulebookOf(`${writes} rules hives { people may read }`))).toBe(
    true,
  );
  expect(whyNotComparable(before, rulebookOf('', 'role other'))).toContain('roles');
  expect(whyNotComparable(before, rulebookOf('', 'collection more { a text }'))).toContain('collections');
  expect(whyNotComparable(before, rulebookOf('', 'attribute mine_ integer = count(h in hives)'))).toContain(
    'attributes',
  );
  expect(whyNotComparable(before, after)).toBe(null);
});
