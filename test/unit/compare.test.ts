import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import {
  compareRight,
  rightsThatDiffer,
  whyNotComparable,
  type Right,
} from '../../src/core/analysis/prove/compare.ts';
import { compareWrite, writesThatDiffer } from '../../src/core/analysis/prove/compare-writes.ts';
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

test('what is known of one field is an example for another only where both rulebooks bear that out', async () => {
  const [before, after] = [
    'keeper may read when keeper = me',
    'keeper may read when keeper = me  keeper may read (code, status, price) when status = "active"  nobody may read (price) unless keeper = me',
  ].map((rules) => rulebookOf(`rules hives { ${rules} }`)) as [Rulebook, Rulebook];
  const known = { more: [], less: [] };
  let questions = 0;
  const counted = (text: string) => {
    questions++;
    return solver.solve(text);
  };
  const asked = async (...fields: string[]) => {
    questions = 0;
    const right: Right = { ...read, fields: fields.length === 0 ? null : fields };
    const { more, less } = await compareRight(before, after, right, counted, known);
    return [more.result, less.result, questions];
  };
  const [gain, lose, first] = await asked();
  expect([gain, lose]).toEqual(['somebody', 'nobody']);
  expect(first).toBeGreaterThan(1);
  expect(await asked('code')).toEqual(['somebody', 'nobody', 1]);
  expect((await asked('price')).slice(0, 2)).toEqual(['nobody', 'nobody']);
  expect((await asked('apiary')).slice(0, 2)).toEqual(['nobody', 'nobody']);
  expect(known.less).toEqual([]);
});

test('a deletion that takes others along is compared where the same may stop it, and is not decided where not', async () => {
  const deleting: Right = { ...read, operation: 'delete' };
  const own = 'rules hives { keeper may read, delete when keeper = me }';
  const every = 'rules hives { keeper may read, delete }';
  const guests = 'rules visits { people may read nobody but steward may delete unless guest = me }';
  expect(await ways(own, every, deleting)).toEqual(['somebody', 'nobody']);
  expect(await ways(`${own} ${guests}`, `${every} ${guests}`, deleting)).toEqual(['somebody', 'nobody']);
  const undecided = ['not decided', 'not decided'];
  expect(await ways(own, `${own} ${guests}`, deleting), 'a fence of theirs').toEqual(undecided);
  const includes: [string, string] = ['role extra', 'role extra includes steward'];
  expect(await ways(`${own} ${guests}`, `${every} ${guests}`, deleting, includes)).toEqual(undecided);
  const follow = 'rules visits { people may read nobody may delete unless me may read hive }';
  expect(await ways(`${own} ${follow}`, `${every} ${follow}`, deleting), 'looks further').toEqual(undecided);
  // Who loses what decides about them by a deletion does not delete: once rules read it.
  const homes = 'people { home ref apiaries on delete clear }';
  const apiaries: Right = { collection: 'apiaries', operation: 'delete', fields: null };
  const some = 'rules apiaries { people may delete when host = me }';
  const all = 'rules apiaries { people may delete }';
  const at =
    'accept people feeds hives because "it may" rules hives { people may read when apiary = me.home }';
  expect(await ways(all, some, apiaries, [homes, homes])).toEqual(['nobody', 'nobody']);
  expect(await ways(`${all} ${at}`, `${some} ${at}`, apiaries, [homes, homes])).toEqual(['nobody', 'nobody']);
  expect(await ways(all, `${some} ${at}`, apiaries, [homes, homes])).toEqual(undecided);
  // Nothing is said of hives, and yet who deletes one is another.
  const asked = rightsThatDiffer(rulebookOf(own), rulebookOf(`${own} ${guests}`));
  expect(asked).toContainEqual(deleting);
});

test('what follows other rules over any number of collections is another right where these are others', async () => {
  // Of hives and visits not a word is changed: what one may update there hangs on apiaries.
  const chain = `rules hives { people may read people may update (code) when me may update apiary (name) }
    rules visits { people may read when me may update hive (code) }`;
  const [before, after] = ['name = "a"', 'host is present'].map((when) =>
    rulebookOf(`${chain} rules apiaries { people may update (name) when ${when} }`),
  ) as [Rulebook, Rulebook];
  const visits: Right = { collection: 'visits', operation: 'read', fields: null };
  expect(rightsThatDiffer(before, after)).toContainEqual(visits);
  const { more, less } = await compareRight(before, after, visits, solver.solve);
  expect([more.result, less.result]).toEqual(['somebody', 'nobody']);
});

test('the rights that are asked about are those that a change can touch, and no others', () => {
  const own = 'rules hives { keeper may read, delete, share when keeper = me }';
  const rights = (before: string, after: string) =>
    rightsThatDiffer(rulebookOf(before), rulebookOf(after)).map(({ operation, collection, fields }) =>
      [operation, collection, ...(fields ?? [])].join(' '),
    );
  const fenced = own.replace('}', 'nobody may read (price) unless status = "active" }');
  expect(rights(own, fenced)).toEqual(['read hives price']);
  expect(rights(own, own.replace('keeper may read', 'steward may read (price)  keeper may read'))).toEqual([
    'read hives',
    'read hives code keeper apiary status created_at updated_at',
    'read hives price',
    'delete hives',
    'share hives',
  ]);
  expect(rights(own, own.replace('share', 'share when status = "active"  keeper may delete'))).toEqual([
    'read hives',
    'read hives code keeper apiary status price created_at updated_at',
    'delete hives',
    'share hives',
  ]);
  const guests = 'rules visits { people may read  nobody may delete unless guest = me }';
  expect(rights(`${own} rules visits { people may read }`, `${own} ${guests}`)).toEqual([
    'delete hives',
    'delete visits',
  ]);
});

test('what decides about callers from now on, nobody changes in their own entry: that is a change of what follows it, too', async () => {
  const more: [string, string] = ['people { level integer }', 'people { level integer }'];
  const same = `rules people { people may read (all), update (level) }
    rules visits { people may read when me may update guest (level) }`;
  const deciding = `${same} rules hives { people may read when me.level > 3 } accept people feeds hives because "a test"`;
  const right: Right = { collection: 'visits', operation: 'read', fields: null };
  expect(rightsThatDiffer(rulebookOf(same, more[0]), rulebookOf(deciding, more[1]))).toContainEqual(right);
  expect(await ways(same, deciding, right, more)).toEqual(['nobody', 'somebody']);
  // Though not a sentence is another one.
  const marked = 'people { level integer self set }';
  expect(rightsThatDiffer(rulebookOf(deciding, marked), rulebookOf(deciding, more[1]))).toContainEqual(right);
  expect(await ways(deciding, deciding, right, [marked, more[1]])).toEqual(['nobody', 'somebody']);
});

test('what may stop a deletion is nothing to those who read', async () => {
  const rules =
    'rules hives { people may read when keeper = me  keeper may delete when keeper = me } rules visits { people may read';
  const [before, after] = [`${rules} }`, `${rules}  nobody may delete unless guest = me }`];
  expect(await ways(before, after)).toEqual(['nobody', 'nobody']);
  expect(await ways(before, after, { ...read, operation: 'delete' })).toEqual(['not decided', 'not decided']);
});

test('where a sentence stands, and how it is laid out, is no difference', () => {
  const rules =
    'rules hives { people may read when keeper = me nobody may read (price) unless status = "active" }';
  const other = `# moved\n\n${rules.replaceAll(' ', '\n  ')}`.replace('# moved', '// moved');
  expect(rightsThatDiffer(rulebookOf(rules), rulebookOf(other))).toEqual([]);
});

test('what is shared gives the same to the same under rules that say the same', async () => {
  const sharing = 'people may share when keeper = me';
  const all = `rules hives { people may read when keeper = me ${sharing} }`;
  const some = `rules hives { people may read when keeper = me and status = "active" ${sharing} }`;
  expect(await ways(all, some)).toEqual(['nobody', 'somebody']);
  // Of a record that is only looked at, too.
  const visits = (when: string) => `rules visits { people may read when me may read hive ${when} }`;
  const ofVisits: Right = { collection: 'visits', operation: 'read', fields: null };
  const narrower = [`${all} ${visits('')}`, `${all} ${visits('and guest is present')}`] as const;
  expect((await ways(...narrower, ofVisits))[0]).toBe('nobody');
  // And where the rules of these are others, nothing is said of what a share of them gives.
  expect((await ways(`${some} ${visits('')}`, `${all} ${visits('')}`, ofVisits))[0]).not.toBe('nobody');
});

test('what is shared for one thing is no share for another', async () => {
  // Whoever shares it may read it; with whom they share it for its deletion alone may not.
  const rules = 'keeper may read when keeper = me  keeper may delete, share when keeper = me';
  expect(
    await ways(`rules hives { people may read  ${rules} }`, `rules hives { ${rules} }`, {
      ...read,
      operation: 'delete',
    }),
  ).toEqual(['nobody', 'somebody']);
});

test('what is shared counts where it takes something away, too', async () => {
  const hives = (when: string) =>
    `rules hives { people may read (all)  people may delete ${when} people may update (price), share when keeper = me }`;
  const all = hives('');
  expect(
    await ways(all, hives('when not (me may update this (price)) or keeper = me'), {
      ...read,
      operation: 'delete',
    }),
  ).toEqual(['nobody', 'somebody']);
  // Of a record that is only looked at, and of those that a quantifier goes through.
  const visits: Right = { collection: 'visits', operation: 'read', fields: null };
  const reading = (when: string) =>
    `${all} rules visits { people may read ${when} } accept hives feeds visits because "a test"`;
  const mine = 'hive is missing or hive.keeper = me';
  expect(
    await ways(reading(''), reading(`when ${mine} or not (me may update hive (price))`), visits),
  ).toEqual(['nobody', 'somebody']);
  const [more, less] = await ways(
    reading(''),
    reading('when no h in hives has (h.keeper != me and me may update h (price))'),
    visits,
  );
  expect([more, less === 'nobody']).toEqual(['nobody', false]);
});

test('what is not covered is said: other roles, other collections', async () => {
  const before = rulebookOf('rules hives { keeper may delete when keeper = me }');
  const after = rulebookOf('rules hives { keeper may delete }');
  const rights = rightsThatDiffer(before, after).map(
    ({ collection, operation }) => `${operation} ${collection}`,
  );
  expect(rights).toEqual(['delete hives']);
  expect(writesThatDiffer(before, after)).toEqual([]);
  expect(whyNotComparable(before, rulebookOf('', 'role other'))).toContain('roles');
  expect(whyNotComparable(before, rulebookOf('', 'collection more { a text }'))).toContain('collections');
  expect(whyNotComparable(before, rulebookOf('', 'attribute mine_ integer = count(h in hives)'))).toContain(
    'attributes',
  );
  expect(whyNotComparable(before, after)).toBe(null);
});

const readAll = 'people may read';
const written = (operation: string, collection = 'hives'): Right => ({ collection, operation, fields: null });

describe('who may write something else than before', () => {
  test.each<[string, string, string, string, Right, [string, string]]>([
    [
      'a condition more',
      `rules hives { ${readAll} people may update }`,
      `rules hives { ${readAll} people may update when keeper = me }`,
      '',
      written('update'),
      ['nobody', 'somebody'],
    ],
    [
      'the side before the change alone',
      `rules hives { ${readAll} people may update when keeper = me }`,
      `rules hives { ${readAll} people may update when old.keeper = me }`,
      '',
      written('update'),
      ['somebody', 'nobody'],
    ],
    [
      'the same, said otherwise',
      `rules hives { ${readAll} people may update when keeper = me }`,
      `rules hives { ${readAll} people may update when old.keeper = me and not (new.keeper != me or new.keeper is missing) }`,
      '',
      written('update'),
      ['nobody', 'nobody'],
    ],
    [
      'a field more',
      `rules hives { ${readAll} people may update (code) }`,
      `rules hives { ${readAll} people may update (code, price) }`,
      '',
      written('update'),
      ['somebody', 'nobody'],
    ],
    [
      'fields that are covered together, and now each by itself',
      `rules hives { ${readAll} people may update (code, price) when keeper = me }`,
      `rules hives { ${readAll} people may update (code) when keeper = me people may update (price) when keeper = me and status = "active" }`,
      '',
      written('update'),
      ['nobody', 'somebody'],
    ],
    [
      'a fence on one field',
      `rules hives { ${readAll} people may update nobody may update (price) unless me has role steward }`,
      `rules hives { ${readAll} people may update }`,
      '',
      written('update'),
      ['somebody', 'nobody'],
    ],
    // Not a word of hives is changed: what they may be given is what can be read.
    [
      'what a reference can be given',
      `rules hives { ${readAll} people may update (apiary) }`,
      `rules hives { ${readAll} people may update (apiary) }`,
      'rules apiaries { keeper may read }',
      written('update'),
      ['somebody', 'nobody'],
    ],
    [
      'a new record, with the same filled in',
      'rules hives { people may create (code, price) stamp keeper = me }',
      'rules hives { people may create (code) stamp keeper = me }',
      '',
      written('create'),
      ['nobody', 'somebody'],
    ],
    [
      'a new record for more people',
      'rules hives { keeper may create when keeper = me }',
      'rules hives { steward may create when keeper = me }',
      '',
      written('create'),
      ['nobody', 'somebody'],
    ],
    [
      'a new record, with something else filled in',
      'rules hives { people may create (code, price) stamp keeper = me }',
      'rules hives { people may create (code, price) }',
      '',
      written('create'),
      ['not decided', 'not decided'],
    ],
    [
      'what an update fills in by itself',
      `rules hives { ${readAll} people may update (code) stamp keeper = me }`,
      `rules hives { ${readAll} people may update (code) when price > 1 stamp keeper = me }`,
      '',
      written('update'),
      ['not decided', 'not decided'],
    ],
    [
      'a rule beside one that fills in the same as before',
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" people may update (price) when status = "active" }`,
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" people may update (price) }`,
      '',
      written('update'),
      ['somebody', 'nobody'],
    ],
    [
      'a fence on what a rule fills in as before',
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" }`,
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" nobody may update (code) unless old.status = "retired" and status = "active" }`,
      '',
      written('update'),
      ['nobody', 'somebody'],
    ],
    [
      'a fence that what a rule fills in passes',
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" }`,
      `rules hives { ${readAll} people may update (code) when keeper = me stamp status = "active" nobody may update (code) unless new.status = "active" }`,
      '',
      written('update'),
      ['nobody', 'nobody'],
    ],
    [
      'what is filled in by a rule of those who hold another role than before',
      `rules hives { ${readAll} keeper may update (code) stamp status = "active" }`,
      `rules hives { ${readAll} keeper may update (code) stamp status = "active" }`,
      'role extra includes keeper',
      written('update'),
      ['not decided', 'not decided'],
    ],
    [
      'what is filled in where others may share it',
      `rules hives { ${readAll} people may update (code) stamp status = "active" people may share }`,
      `rules hives { ${readAll} people may update (code) stamp status = "active" people may share people may update (price) }`,
      '',
      written('update'),
      ['not decided', 'not decided'],
    ],
    [
      'what is filled in where something else may be done that is another thing',
      `rules hives { ${readAll} people may update (code) when me may update apiary (name) stamp status = "active" }`,
      `rules hives { ${readAll} people may update (code) when me may update apiary (name) stamp status = "active" }`,
      'rules apiaries { people may update (name) when host = me }',
      written('update'),
      ['not decided', 'not decided'],
    ],
    [
      'an action, which is an update, too',
      `rules hives { ${readAll} steward may retire nobody may update (status) unless keeper = me }`,
      `rules hives { ${readAll} steward may retire }`,
      '',
      written('retire'),
      ['somebody', 'nobody'],
    ],
    [
      'an action with a parameter',
      `rules hives { ${readAll} people may hand when new.keeper != me }`,
      `rules hives { ${readAll} people may hand when new.keeper is present }`,
      '',
      written('hand'),
      ['somebody', 'nobody'],
    ],
    [
      'what somebody shares',
      `rules hives { ${readAll} people may update when keeper = me people may share when keeper = me }`,
      `rules hives { ${readAll} people may update when keeper = me people may share when keeper = me and status = "active" }`,
      '',
      written('update'),
      ['nobody', 'somebody'],
    ],
  ])('%s', async (_, was, is, more, right, expected) => {
    const actions = `action retire on hives sets status = "retired" action hand on hives (to ref people required) sets keeper = to
      rules people { people may read }`;
    const [before, after] = [rulebookOf(was, actions), rulebookOf(is, `${actions} ${more}`)];
    expect(writesThatDiffer(before, after)).toContainEqual(right);
    const compared = await compareWrite(before, after, right, solver.solve);
    expect([compared.more.result, compared.less.result], JSON.stringify(compared)).toEqual(expected);
    for (const way of [compared.more, compared.less])
      if (way.result === 'somebody' && right.operation === 'update') expect(way.example.sent).toMatch(/ = /);
  });

  test.each([
    ['create', { record: 'a new record of hives: code = "", price = missing', sent: null }],
    ['update', { record: 'a record of hives: code = "", price = missing', sent: 'price = missing' }],
  ])('an example of %s is told as what is sent', async (operation, words) => {
    const [before, after] = ['code', 'code, price'].map((fields) =>
      rulebookOf(`rules hives { ${readAll} people may ${operation} (${fields}) }`),
    ) as [Rulebook, Rulebook];
    const { more, less } = await compareWrite(before, after, written(operation), solver.solve);
    expect(more).toEqual({
      result: 'somebody',
      example: { caller: 'a person without any role', others: [], ...words },
    });
    expect(less).toEqual({ result: 'nobody' });
  });

  test('what becomes of a request by other defaults is not decided', async () => {
    const [before, after] = ['"a"', '"b"'].map((standard) =>
      rulebookOf(
        'rules extras { people may create (code) when state = "a" }',
        `collection extras { code text required label  state text = ${standard} }`,
      ),
    ) as [Rulebook, Rulebook];
    expect(whyNotComparable(before, after)).toBe(null);
    const right = written('create', 'extras');
    expect(writesThatDiffer(before, after)).toContainEqual(right);
    const { more, less } = await compareWrite(before, after, right, solver.solve);
    expect([more.result, less.result]).toEqual(['not decided', 'not decided']);
  });

  test('what is filled in, and by now decides about whoever asks, is not decided', async () => {
    const people =
      'people { level integer nick text } rules people { people may read people may update (nick) stamp level = 1 }';
    const reading = (when: string) =>
      `${people} rules hives { people may read ${when} } accept people feeds hives because "a test"`;
    const [before, after] = [rulebookOf(reading('')), rulebookOf(reading('when me.level > 0'))];
    const right = written('update', 'people');
    expect(writesThatDiffer(before, after)).toContainEqual(right);
    const { more, less } = await compareWrite(before, after, right, solver.solve);
    expect([more.result, less.result]).toEqual(['not decided', 'not decided']);
    expect(await compareWrite(before, before, right, solver.solve)).toMatchObject({
      more: { result: 'nobody' },
      less: { result: 'nobody' },
    });
  });
});
