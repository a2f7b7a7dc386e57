import { expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import { Access } from '../../src/core/sql/access.ts';
import { conditionSql, type Precision } from '../../src/core/sql/conditions.ts';
import type { Fragment } from '../../src/core/sql/fragment.ts';
import { NOW, parse } from './in-hand.ts';

/** How what one caller sees is put: what is worked out once, and what is asked besides. The answers would be the same without. */
const schema = `
people { district text }
collection yards { name text label  keeper ref people }
collection hives {
  code text required label  keeper ref people  yard ref yards  size integer  weight decimal  sold boolean  due date  note text  tags list of text
}
role keeper
rules yards { people may read (all) when keeper = me }
`;
const person = { id: '00000000-0000-7000-8000-000000000001', district: 'east' };
const ada: Caller = { person: { id: person.id, values: person }, roles: new Set(['keeper']) };
const plain = ({ text }: Fragment) => text.replaceAll('"', '');
const accessTo = (rules: string, caller = ada) =>
  new Access(parse(`${schema}rules hives { ${rules} }`), caller, NOW);
const times = (text: string, part: string) => text.split(part).length - 1;

test('what a filter speaks of more than once is worked out once a row, where that takes more than a look at the row', () => {
  const access = accessTo('people may read (all)  nobody may read (note) unless sold');
  const asked = (filter: string, of = access) => {
    const checked = checkFilter(filter, 'hives', of.rulebook);
    if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    return plain(of.filter(checked.condition, 'r'));
  };
  const [mask, yard] = ['case when', 'from records.yards'];
  for (const once of [
    'size = 1 or size = 2',
    'note = "a"',
    'yard.name = "a"',
    'note = "a" or yard.name = "a"',
  ])
    expect(asked(once), once).not.toMatch(/offset 0/);
  expect(times(asked('note = "a" or note = "b" or size = 2 or size = 3'), mask)).toBe(1);
  expect(asked('note = "a" or note = "b" or size = 2 or size = 3')).toMatch(
    /^\(select .*o1\._0 = .*o1\._0 = .*r\.size.*r\.size.* from \(select .* as _0 offset 0\) as o1\)$/,
  );
  const both = 'note = "a" or note = "b" or yard.name = "x" or yard.name = "y" or yard.name = "z"';
  expect([times(asked(both), mask), times(asked(both), yard), times(asked(both), ' as _')]).toEqual([
    1, 1, 2,
  ]);
  // Sets turn paths round, which they could not then.
  expect(asked(both, access.withSets())).not.toMatch(/offset 0/);
});

test('a field has no mask where every rule shows it or one that asks nothing, and is nobody’s where none does', () => {
  const masks = (rules: string) => {
    const access = accessTo(rules);
    return ['id', 'code', 'size', 'note'].map((field) =>
      plain(access.masked('hives', field, 'r')).replace(/^case.*/, 'mask'),
    );
  };
  const [id, code, size, note] = ['r.id', 'r.code', 'r.size', 'r.note'];
  expect(masks('people may read (all) when sold')).toEqual([id, code, size, note]);
  expect(masks('people may read (code, size) when sold  people may read (size) when keeper = me')).toEqual([
    id,
    'mask',
    size,
    'null::text',
  ]);
  expect(masks('people may read (size) when sold  people may read (code)')).toEqual([
    id,
    code,
    'mask',
    'null::text',
  ]);
  expect(masks('people may read (all)  nobody may read (size) unless sold')).toEqual([
    id,
    code,
    'mask',
    note,
  ]);
  expect(masks('people may read (all)  nobody may read unless sold')).toEqual([id, code, size, note]);
  const access = accessTo('people may read (all) when size > 3  nobody may read unless sold');
  expect([access.readFences('hives', 'r').map(plain), plain(access.granted('hives', 'r'))]).toEqual([
    ['r.sold'],
    "'3'::bigint < r.size",
  ]);
  const open = accessTo('people may read (all)');
  expect([
    open.readFences('hives', 'r'),
    plain(open.granted('hives', 'r')),
    open.readBranches('hives', 'r'),
  ]).toEqual([[], 'true', null]);
  expect(plain(accessTo('people may read (all) when sold').shown('hives', 'code', 'r'))).not.toMatch(/true/);
});

test('each ground for reading is told with the part to begin from, and all that is asked beside it', () => {
  const grounds = (when: string, caller = ada) =>
    accessTo(when, caller)
      .readBranches('hives', 'r')!
      .map(({ set, rest, shared }) => ({
        from: set === null ? null : plain(set.row),
        beside: rest.map(plain),
        shared: shared?.rest.map(plain) ?? null,
      }));
  const none = { from: null, shared: null };
  expect(grounds('people may read (all) when keeper = me and sold')).toEqual([
    { ...none, beside: ['r.keeper = ?::uuid', 'r.sold'] },
  ]);
  expect(grounds('people may read (all) when sold and yard.keeper = me and size > 3 or not sold')).toEqual([
    { from: 'r.yard', beside: ['r.sold', "'3'::bigint < r.size"], shared: null },
    { ...none, beside: ['not (r.sold)'] },
  ]);
  const ben: Caller = {
    person: { id: person.id.replace(/1$/, '2'), values: person },
    roles: new Set(['keeper']),
  };
  const rulebook = parse(`${schema}rules hives { keeper may read (all) when sold  keeper may share }`);
  const share = {
    collection: 'hives',
    record: null,
    operations: ['read'],
    sharer: ben.person!.id,
  } as const;
  const guest: Caller = {
    ...ada,
    roles: new Set(),
    shared: sharingsOf(rulebook, [share], new Map([[ben.person!.id, ben]])),
  };
  const shared = new Access(rulebook, guest, NOW).readBranches('hives', 'r')!;
  expect(shared).toHaveLength(1);
  expect(shared[0]).toMatchObject({ set: null, shared: { rest: [], targets: expect.anything() } });
  expect(shared[0]!.rest).toHaveLength(1);
});

test('a record is selected with each mask once, in one column where it can be, and never with what is not asked for', () => {
  const access = accessTo(
    'people may read (code, size) when keeper = me and sold or yard.keeper = me  people may read (note) when size > 3',
  );
  const selected = (of?: readonly string[], inline = false) => {
    const { columns, document, joined, flags, large, fields } = access.selectList('hives', 'r', {
      of,
      inline,
    });
    return {
      names: columns.map((each) =>
        plain(each)
          .replace(/.* as /s, '')
          .replace(/^masks\./, ''),
      ),
      document: document === null ? null : plain(document),
      joined: plain(joined),
      flags: [...flags],
      large: large.map(plain),
      fields,
    };
  };
  const whole = selected();
  // A list is told as it is, by a column of its own.
  expect(whole.document).toBe(null);
  expect(whole.names).toEqual([...whole.fields, '_shown_0', '_shown_1']);
  expect(new Map(whole.flags)).toEqual(
    new Map<string, string | null>([
      ['code', '_shown_0'],
      ['size', '_shown_0'],
      ['note', '_shown_1'],
      ...['keeper', 'yard', 'weight', 'sold', 'due', 'tags', 'created_at', 'updated_at'].map(
        (name) => [name, null] as const,
      ),
    ]),
  );
  // Only what can be many bytes, and is not withheld from everybody.
  expect(whole.large).toEqual([
    'octet_length(case when masks._shown_0 then r.code end)',
    'octet_length(case when masks._shown_1 then r.note end)',
  ]);
  expect(times(whole.joined, 'cross join lateral')).toBe(1);
  expect(whole.joined).toMatch(/ as _shown_0, .* as _shown_1 offset 0\) as masks$/);
  const inline = selected(undefined, true);
  expect([inline.joined, inline.names.slice(-2)]).toEqual(['', ['_shown_0', '_shown_1']]);
  const few = selected(['id', 'code', 'note']);
  expect([few.names, few.fields, few.flags.length]).toEqual([['_json'], ['id', 'code', 'note'], 2]);
  expect(few.document).toMatch(/^'\{id:' \|\| r\.id .*,code:.*,note:.*_withheld/);
  expect(few.document).toMatch(/ltrim\(case/);
  expect(times(few.document!, '{id:') + times(few.document!, ',id')).toBe(1);
  const open = accessTo('people may read (all)').selectList('hives', 'r', { of: ['code', 'tags', 'size'] });
  expect([plain(open.joined), open.flags.size, open.large.map(plain)]).toEqual([
    '',
    0,
    ['octet_length(r.code)', 'pg_column_size(r.tags)'],
  ]);
});

test('a condition that several masks ask is worked out once a row, where it looks at the row alone', () => {
  const joined = (rules: string) => plain(accessTo(rules).selectList('hives', 'r').joined);
  const three = (when: string) =>
    `people may read (code) when ${when}  people may read (code, size) when size > 3  people may read (note, size) when weight > 1`;
  const shared = joined(three('sold'));
  expect(shared).toMatch(/ as _true_0, .* as _true_1 offset 0\) as leaves cross join lateral \(select /);
  expect(times(shared, 'weight') + times(shared, "'3'::bigint")).toBe(2);
  expect(times(shared, 'r.sold')).toBe(1);
  expect(shared).not.toMatch(/_true_2/);
  // Each is asked by one mask alone.
  expect(joined('people may read (code) when sold  people may read (size) when size > 3')).not.toMatch(
    /leaves/,
  );
  // What looks further is asked no sooner than a mask needs it; what asks nothing is never asked.
  const further = joined(
    'people may read (code) when sold  people may read (code, size) when yard.keeper = me  people may read (note, size) when yard.keeper = me',
  );
  expect(further).not.toMatch(/leaves/);
  expect(
    joined('people may read (id)  people may read (code, size)  people may read (note) when sold'),
  ).not.toMatch(/leaves/);
});

test('a condition is put as it can be answered fast, where less than all three values is asked for', () => {
  const rulebook = parse(schema);
  const access = new Access(rulebook, ada, NOW);
  const put = (text: string, precision: Precision) => {
    const checked = checkFilter(text, 'hives', rulebook);
    if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    return plain(conditionSql(checked.condition, access.around('r', ada.roles), precision));
  };
  expect([put('note in tags', 'true'), put('note in tags', 'exact')]).toEqual([
    'r.note = any((r.tags)::text[])',
    'case when r.note is not null then r.note = any((r.tags)::text[]) end',
  ]);
  // Texts go by code point whatever the database was made with; dates are no moments.
  expect(put('note < "b"', 'true')).toMatch(/^r\.note collate C </);
  expect(put('size < 3', 'true')).not.toMatch(/collate/);
  expect(put('due + 1 days > today', 'true')).toMatch(/date '0001-01-01'/);
  const ruled = (when: string, precision: Precision) => {
    const { when: condition } = parse(`${schema}rules hives { people may read (all) when ${when} }`).rules.at(
      -1,
    )!;
    return plain(conditionSql(condition, access.around('r', ada.roles), precision));
  };
  expect(ruled('me may read yard', 'true')).toMatch(/^exists/);
  expect(ruled('me may read yard', 'exact')).toMatch(/^case when r\.yard is not null/);
  const some = 'some y in yards has (y.keeper = keeper)';
  expect([ruled(some, 'true'), ruled(some, 'false'), ruled(some, 'exact')]).toEqual([
    expect.stringMatching(/^exists .* where y?.*keeper = r\.keeper\)$/),
    expect.stringMatching(/^exists .*\) is not false\)$/),
    expect.stringMatching(/^\(select case when bool_or/),
  ]);
});
