import { expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import { Access } from '../../src/core/sql/access.ts';
import { conditionSql, type Precision } from '../../src/core/sql/conditions.ts';
import type { Fragment } from '../../src/core/sql/fragment.ts';
import { isEarlyField, mayRunEarly } from '../../src/core/sql/early.ts';
import {
  countSql,
  formulations,
  listSql,
  readManySql,
  readSql,
  walkedSql,
  type Form,
  type ListQuestion,
} from '../../src/core/sql/list.ts';
import { idSet } from '../../src/core/sql/sets.ts';
import { NOW, parse } from './in-hand.ts';

/** How what one caller sees is put: what is worked out once, and what is asked besides. The answers would be the same without. */
const schema = `
people { district text  grade integer  share decimal  site ref yards }
collection yards { name text label  keeper ref people  up ref yards  closed boolean  tags list of text  tree by up }
collection hives {
  code text required label  keeper ref people  yard ref yards  size integer  weight decimal  sold boolean  kind one of ("log", "box")  due date  note text  tags list of text
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

const question = (more: Partial<ListQuestion> = {}): ListQuestion => ({
  collection: 'hives',
  filter: null,
  order: [{ field: 'id', descending: false }],
  after: null,
  limit: 10,
  ...more,
});

/** Somebody without a role, with whom a keeper shares more than can be named. */
function guestOf(rules: string) {
  const rulebook = parse(`${schema}rules hives { ${rules} }`);
  const ben: Caller = {
    person: { id: person.id.replace(/1$/, '2'), values: person },
    roles: new Set(['keeper']),
  };
  const share = { collection: 'hives', record: null, operations: ['read'], sharer: ben.person!.id } as const;
  const shared = sharingsOf(rulebook, [share], new Map([[ben.person!.id, ben]]));
  return { rulebook, guest: { ...ada, roles: new Set<string>(), shared } };
}

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
  // What somebody else shows by a rule that asks nothing is shown of what they share.
  const { rulebook, guest } = guestOf('keeper may read (all)  keeper may share  people may read (code)');
  const shared = new Access(rulebook, guest, NOW);
  expect(['code', 'note'].map((field) => shared.isShown('hives', field))).toEqual([true, false]);
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
  const { guest, rulebook } = guestOf('keeper may read (all) when sold  keeper may share');
  const shared = new Access(rulebook, guest, NOW).readBranches('hives', 'r')!;
  expect(shared).toHaveLength(1);
  expect(shared[0]).toMatchObject({ set: null, shared: { rest: [], targets: expect.anything() } });
  expect(shared[0]!.rest).toHaveLength(1);
});

test('a record is selected with each mask once, and never with what is not asked for', () => {
  const access = accessTo(
    'people may read (code, size) when keeper = me and sold or yard.keeper = me  people may read (note) when size > 3',
  );
  const selected = (of?: readonly string[], inline = false) => {
    const { columns, joined, flags, large, fields } = access.selectList('hives', 'r', {
      of,
      inline,
    });
    return {
      names: columns.map((each) =>
        plain(each)
          .replace(/.* as /s, '')
          .replace(/^masks\./, ''),
      ),
      joined: plain(joined),
      flags: [...flags],
      large: [...large.values()].map(({ size }) => plain(size)),
      fields,
    };
  };
  const whole = selected();
  expect(whole.names).toEqual([...whole.fields, '_shown_0', '_shown_1']);
  expect(new Map(whole.flags)).toEqual(
    new Map<string, string | null>([
      ['code', '_shown_0'],
      ['size', '_shown_0'],
      ['note', '_shown_1'],
      ...['keeper', 'yard', 'weight', 'sold', 'kind', 'due', 'tags', 'created_at', 'updated_at'].map(
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
  expect([few.names, few.fields, few.flags.length]).toEqual([
    ['id', 'code', 'note', '_shown_0', '_shown_1'],
    ['id', 'code', 'note'],
    2,
  ]);
  const open = accessTo('people may read (all)').selectList('hives', 'r', { of: ['code', 'tags', 'size'] });
  expect([
    plain(open.joined),
    open.flags.size,
    [...open.large.values()].map(({ size }) => plain(size)),
  ]).toEqual(['', 0, ['octet_length(r.code)', 'pg_column_size(r.tags)']]);
});

test('a condition that several masks ask is worked out once a row, where it looks at the row alone and takes its time', () => {
  const joined = (rules: string) => plain(accessTo(rules).selectList('hives', 'r').joined);
  const three = (when: string) =>
    `people may read (code) when sold  people may read (code, size) when ${when}  people may read (note, size) when code starts with "b"`;
  const shared = joined(three('code contains "a"'));
  expect(shared).toMatch(/ as _true_0, .* as _true_1 offset 0\) as leaves cross join lateral \(select /);
  expect([times(shared, 'strpos'), times(shared, 'starts_with')]).toEqual([1, 1]);
  expect(times(shared, 'r.sold')).toBe(1);
  expect(shared).not.toMatch(/_true_2/);
  // A comparison takes no longer than to look up what came of it; the length of a text does.
  for (const [quick, leaves] of [
    ['size > 3', 1],
    ['not (size in (1, 2))', 1],
    ['weight is missing', 1],
    ['length(code) > 3', 2],
    ['not (code ends with "x")', 2],
  ] as const)
    expect(times(joined(three(quick)), ' as _true_'), quick).toBe(leaves);
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

test('each way of finding a page is put as its name says, and sizes are summed up only where a record may be large', () => {
  const access = accessTo('people may read (all) when yard.keeper = me or keeper = me and sold');
  const put = (form: Form, more: Partial<ListQuestion> = {}, of = access) =>
    plain(listSql(of, question(more), form));
  const set = '= any(array(select s1.id';
  const ways = (['rows', 'sets', 'branches', 'branches of sets', 'gathered'] as const).map((form) => {
    const text = put(form);
    return [
      form,
      text.includes(set),
      / union all |\) union all/.test(text),
      text.includes('select distinct id from'),
    ];
  });
  expect(ways).toEqual([
    ['rows', false, false, false],
    ['sets', true, false, false],
    ['branches', false, true, false],
    ['branches of sets', true, true, false],
    ['gathered', false, true, true],
  ]);
  const sets = accessTo('people may read (all) when yard.keeper = me and size > 3');
  expect(put('few first', {}, sets)).toMatch(
    /^select .*with ids_0 \(id\) as materialized .* few as materialized /s,
  );
  // What every ground asks is true of what was found by it, and where one asks less than another, that other one is not needed.
  const masksOf = (rules: string) =>
    /cross join lateral \(select (.*?) offset 0\) as masks/s.exec(put('rows', {}, accessTo(rules)))?.[1];
  const mine = 'people may read (code) when keeper = me';
  const sold = 'people may read (all) when keeper = me and sold';
  const large = 'people may read (code) when keeper = me and size > 3';
  expect(masksOf(`${large}  ${sold}`)).toBe('r.sold as _shown_0');
  expect(masksOf(`${mine}  ${sold}`)).toBe('r.sold as _shown_0');
  expect(/as r where (.*?) order by/s.exec(put('rows', {}, accessTo(`${mine}  ${sold}`)))![1]).not.toMatch(
    /sold/,
  );
  expect(masksOf(`people may read (code) when keeper = me or size > 3  ${sold}`)).toMatch(
    /r\.keeper = .*r\.sold/s,
  );
  // What only another field asks is not known of the row.
  expect(
    masksOf(
      `${mine}  people may read (note) when keeper = me and sold  people may read (size) when keeper = me and sold and weight > 1`,
    ),
  ).toMatch(
    /r\.sold.* as _shown_0, .*r\.sold.*r\.weight.* as _shown_1|r\.sold.*r\.weight.* as _shown_0, .*r\.sold/s,
  );
  // Each row says whether it is large, and only where one is, the page is summed up. Of many values, that is worked out once a row.
  const short = { fields: ['id', 'size', 'sold'] };
  const [whole, list] = [{ fields: ['id', 'code', 'note'] }, { fields: ['id', 'tags'] }];
  const masked = accessTo('people may read (all)  nobody may read (note, tags) unless sold');
  for (const of of [access, masked]) {
    expect(put('rows', short, of)).not.toMatch(/_before|"_large"|octet_length/);
    for (const each of [list, whole]) {
      const text = put('rows', each, of);
      expect(text).not.toMatch(/_before/);
      expect(text).toMatch(/case when \(coalesce\([^<]*<= 419430\) then .* as _light/s);
      expect(put('rows', { ...each, summed: true }, of)).toMatch(/_before.*_found/s);
    }
  }
  // Where nothing is withheld there is nothing to do behind the limit, unless rights are asked for.
  const flat = /^select (?!.*\bfrom \().* limit 10$/s;
  const rights = { conditions: [], facts: [] } as unknown as NonNullable<ListQuestion['rights']>;
  expect([put('rows', short), put('rows', short, masked)].map((text) => flat.test(text))).toEqual([
    true,
    true,
  ]);
  expect(flat.test(put('rows', { fields: ['id', 'note'] }, masked))).toBe(false);
  expect(flat.test(put('rows', { rights }))).toBe(false);
  const { guest, rulebook } = guestOf(
    'keeper may read (all) when sold  keeper may share  people may read (all) when size > 3',
  );
  const walking = new Access(rulebook, guest, NOW);
  expect(formulations(walking, question()).map(({ form }) => form)).toEqual(['shared']);
  const walked = plain(listSql(walking, question(), 'shared'));
  // Both of the sharer's grounds are walked along; the guest's own is searched.
  expect(times(walked, 'unnest(')).toBe(2);
  expect(times(walked, 'from records.hives as r where') - times(walked, 'r.id = s.record')).toBe(1);
  expect(plain(listSql(walking, question(), 'branches'))).not.toMatch(/toward \(target\)/);
  // In another order, or with a filter, the planner is asked.
  const byCode = [
    { field: 'code', descending: false },
    { field: 'id', descending: false },
  ];
  expect(formulations(walking, question({ order: byCode })).map(({ form }) => form)).not.toContain('shared');
  const filter = checkFilter('size = 3', 'hives', rulebook);
  if (!filter.ok) throw new Error(JSON.stringify(filter.diagnostics));
  expect(walkedSql(walking, question({ filter: filter.condition }))).toBe(null);
  const nine = Array.from({ length: 9 }, (_, n) => `size = ${n}`).join(' or ');
  const grounds = (when: string) =>
    guestOf(`keeper may read (all) when sold  keeper may share  people may read (code) when ${when}`);
  const many = grounds(nine);
  expect(walkedSql(new Access(many.rulebook, many.guest, NOW), question())).toBe(null);
  expect(walkedSql(walking, question())?.text).toBe(listSql(walking, question(), 'shared').text);
  expect([walkedSql(walking, question({ order: byCode })), walkedSql(access, question())]).toEqual([
    null,
    null,
  ]);
});

test('one ground is searched once, rights come along where they are asked for, and every statement asks for its version', () => {
  const access = accessTo('people may read (all) when keeper = me');
  expect(plain(listSql(access, question(), 'branches'))).not.toMatch(/distinct on/);
  const two = accessTo('people may read (all) when keeper = me or sold');
  expect(plain(listSql(two, question(), 'branches'))).toMatch(/distinct on \(k\._key_0\)/);
  const rights = { conditions: [], facts: [] } as unknown as NonNullable<ListQuestion['rights']>;
  expect(plain(listSql(access, { ...question(), rights }, 'rows'))).toMatch(/ as _can, .* as _could/);
  expect(plain(listSql(access, question(), 'rows'))).not.toMatch(/_can/);
  const all = (of: Access) => [
    listSql(of, question(), 'rows'),
    listSql(of, question(), 'branches'),
    readSql(of, 'hives', person.id, false).statement,
    readSql(of, 'hives', person.id, true).statement,
    readManySql(of, 'hives', [person.id]).statement,
    ...countSql(of, question()).map(({ statement }) => statement),
  ];
  const inForce = new Access({ ...access.rulebook, version: 7 }, ada, NOW);
  const asks = ({ text }: Fragment) => text.includes('(select max(version) from gate.rulebooks) = 7');
  expect(all(inForce).map(asks)).toEqual(all(inForce).map(() => true));
  expect(all(access).filter(({ text }) => text.includes('gate.rulebooks'))).toEqual([]);
  expect(all(access).map(({ text }) => text.endsWith(' for update of r'))).toEqual([
    false,
    false,
    false,
    true,
    false,
    false,
  ]);
});

test('what is found from the other end is: one path over another record, a tree from above, a link, what one may read', () => {
  const row = (when: string, of: 'row' | 'ids' = 'row') => {
    const rulebook = parse(
      `${schema}rules hives { people may read (all)  people may update (all) when ${when} }`,
    );
    const { when: condition } = rulebook.rules.at(-1)!;
    const access = new Access(rulebook, ada, NOW);
    const set = idSet(condition, {
      ...access.withSets().around('r', ada.roles),
      old: 'before',
      new: 'after',
    });
    return set === null ? null : plain(of === 'row' ? set.row : set.ids);
  };
  const fromYards = [
    'yard.keeper = me',
    'yard.name is present',
    'not (yard.name = "a")',
    'yard.name != me.district',
    'yard.name in ("a", "b")',
    'lower(yard.name) = "a"',
    'length(yard.up.name) > 2',
    'yard.name contains "a"',
    'yard.closed',
    'not yard.closed',
    'me.district in yard.tags',
    'yard within me.site',
    'yard.up within me.site',
    'me may read yard',
  ];
  expect(fromYards.map((when) => row(when))).toEqual(fromYards.map(() => 'r.yard'));
  // Of a way over a yard, the yards whose own yard lies below.
  expect(row('yard.up within me.site', 'ids')).toMatch(
    /^select s1\.id from records\.yards as s1 where s1\.up /,
  );
  expect(row('yard within me.site', 'ids')).toMatch(/^with recursive down/);
  for (const link of [
    'y.keeper = keeper',
    'keeper = y.keeper',
    'y.keeper = keeper and y.name = "a" and y.up.keeper = me',
  ])
    expect(row(`some y in yards has (${link})`), link).toBe('r.keeper');
  for (const none of [
    'keeper = me',
    'sold',
    'note in ("a")',
    'me.district = "east"',
    'yard.name is missing',
    'not (yard.name is present)',
    'yard.name = note',
    'yard.name = yard.up.name',
    'old.yard.keeper = me',
    'new.yard.keeper = me',
    'old.yard within me.site',
    'new.yard within me.site',
    'yard within yard',
    'me.site within yard',
    'me.site within me.site',
    'yard within yard.up',
    'me may read yard.up',
    'me may read old.yard',
    'me may read new.yard',
    'some y in yards has (y.name = "a")',
    'some y in yards has (y.keeper != keeper)',
    'some y in yards has (y.keeper = keeper and y.name = note)',
    'some y in yards has (y.keeper = yard.keeper)',
    'some y in yards has (y.keeper = old.keeper)',
    'some y in yards has (y.keeper = new.keeper)',
    'no y in yards has (y.keeper = keeper)',
    'count(y in yards where y.keeper = keeper) = 1',
    'yard.keeper = me and sold',
    'yard.keeper = me or sold',
    'me has role keeper',
  ])
    expect(row(none), none).toBe(null);
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
  // Nothing is asked of a side that is not there.
  const { when: changes } = parse(`${schema}rules hives { people may update (all) when old.sold }`).rules.at(
    -1,
  )!;
  expect(() => conditionSql(changes, access.around('r', ada.roles), 'true')).toThrow('no old record');
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

test('before the rules only what takes as long for every value is asked, of fields that are shown of every readable record', () => {
  const access = accessTo('people may read (all)  nobody may read (sold) unless size > 3');
  const early = (text: string) => {
    const checked = checkFilter(text, 'hives', access.rulebook);
    if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
    return mayRunEarly(checked.condition, access);
  };
  const all = (...texts: string[]) => texts.filter(early);
  const yes = [
    'size = 3',
    'size != 3',
    'size < 3 and note <= "b"',
    'size = 3 or not (due < today)',
    'note in ("a", "b")',
    'size is missing',
    'kind = "log"',
    'kind = note',
    'keeper = keeper',
    'created_at <= now',
  ];
  expect(all(...yes)).toEqual(yes);
  expect(
    all(
      'weight = 1.5',
      'size = weight',
      'size in (1, 2.5)',
      'size = 1.5',
      'sold',
      'not sold',
      'sold is missing',
      'size = 3 and sold',
      'size = 3 or sold',
      'keeper.district = "east"',
      'yard.name is missing',
      'yard.keeper = keeper',
      'note contains "a"',
      'note starts with "a"',
      'note ends with "a"',
      'lower(note) = "a"',
      'length(note) = 3',
      'due + 1 days > today',
      '"a" in tags',
      'yard within yard',
      'tags is missing',
    ),
  ).toEqual([]);
  // What a rule may say besides: the caller’s own values are like literals, but not those of types that take their time.
  const ruled = (when: string) =>
    mayRunEarly(
      parse(`${schema}rules hives { people may read (all) when ${when} }`).rules.at(-1)!.when,
      access,
    );
  expect(['note = me.district', 'keeper = me', 'size = 3 and me.grade = size'].map(ruled)).toEqual([
    true,
    true,
    true,
  ]);
  expect(
    [
      'me.share = 1.5',
      'me has role keeper',
      'me may read yard',
      'some y in yards has (y.keeper = keeper)',
    ].map(ruled),
  ).toEqual([false, false, false, false]);
  expect(
    ['size', 'note', 'keeper', 'kind'].filter((field) => isEarlyField(access, 'hives', field)),
  ).toHaveLength(4);
  expect(['weight', 'tags', 'sold'].filter((field) => isEarlyField(access, 'hives', field))).toEqual([]);
});

test('what may be asked early stands beside the rules, and the rest behind those that ask something', () => {
  const where = (rules: string, text: string) => {
    const access = accessTo(rules);
    const checked = checkFilter(text, 'hives', access.rulebook);
    if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
    const list = plain(listSql(access, question({ filter: checked.condition, fields: ['id'] }), 'rows'));
    const asked = list.replace(/^.* where /s, '').replace(/ order by .*$/s, '');
    return asked
      .replaceAll(/[()]+/g, ' ')
      .replaceAll(/ +(?=,| )/g, '')
      .trim();
  };
  const [all, some] = ['people may read (all)', 'people may read (all) when sold'];
  expect(where(all, 'size = 1 and note contains "a"')).not.toMatch(/case/);
  expect(where(some, 'size = 1 and kind = "log"')).not.toMatch(/case/);
  expect(where(some, 'size = 1 and note contains "a"')).toBe(
    'r.sold and r.size = ?::bigint and case when r.sold then strpos r.note, ?::text > 0 end',
  );
});
