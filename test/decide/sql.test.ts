import { expect, test } from 'vitest';
import type { Caller } from '../../src/core/decide/caller.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { constant } from '../../src/core/sql/conditions.ts';
import { JsonDocument } from '../../src/core/types/types.ts';
import { Slot, filled } from '../../src/core/sql/fragment.ts';
import { column, identifier, stored } from '../../src/core/sql/identifiers.ts';
import { searchedFields } from '../../src/core/sql/indexes.ts';
import { formulations, listSql, withSlots, type ListQuestion } from '../../src/core/sql/list.ts';
import { checkFilter } from '../../src/core/check/index.ts';
import { insertSql, updateSql } from '../../src/core/sql/writes.ts';
import { NOW, parse } from './in-hand.ts';

/** What no answer tells: how a question is put, and that nothing but names of ours gets into its text. */
const schema = `
people { district text  grown boolean  kind one of ("a", "b")  sizes list of integer  favourite ref hives }
collection yards { name text label  keeper ref people }
collection hives {
  code text required label  keeper ref people  helper ref people  yard ref yards
  kind one of ("log", "box")  color one of ("red", "blue")  size integer  weight decimal  sold boolean  due date
  tags list of text  note text
}
collection visits { code text label  hive ref hives  open boolean }
role keeper
`;
const person = { id: '00000000-0000-7000-8000-000000000001', district: 'east' };
const ada: Caller = { person: { id: person.id, values: person }, roles: new Set(['keeper']) };

function accessTo(rules: string): { rulebook: Rulebook; access: Access } {
  const rulebook = parse(`${schema}${rules}`);
  return { rulebook, access: new Access(rulebook, ada, NOW) };
}

const question = (more: Partial<ListQuestion> = {}): ListQuestion => ({
  collection: 'hives',
  filter: null,
  order: [{ field: 'id', descending: false }],
  after: null,
  limit: 10,
  ...more,
});

test('only names of ours become part of a statement, and they are no longer than PostgreSQL takes', () => {
  for (const name of ['a"b', 'a b', 'A', '', '1a', 'a;', 'é', 'a'.repeat(64)])
    expect(() => identifier(name), name).toThrow(TypeError);
  expect(identifier('a'.repeat(63)).text).toHaveLength(65);
  expect([stored('hives').text, column('r', 'code').text]).toEqual(['"records"."hives"', '"r"."code"']);
  const { access } = accessTo('rules hives { people may read (all) }');
  for (const limit of [-1, 1.5, NaN, Infinity])
    expect(() => listSql(access, question({ limit }), 'rows')).toThrow(TypeError);
  expect(listSql(access, question({ limit: 0 }), 'rows').text).toMatch(/ limit 0\b/);
});

test('a value of the rulebook is text only where it means nothing to PostgreSQL, and is bound otherwise', () => {
  const [text, integer] = [{ kind: 'text' }, { kind: 'integer' }] as const;
  expect(constant('a b-1', text)).toEqual({ text: "'a b-1'::text", values: [] });
  expect(constant(3, integer)).toEqual({ text: "'3'::bigint", values: [] });
  for (const each of ["a'b", '\\', 'é', 'x'.repeat(41), ['a']])
    expect(constant(each, text)).toEqual({ text: '?::text', values: [each] });
  expect(constant(new JsonDocument({ a: 1 }), { kind: 'json' })).toEqual({
    text: '?::jsonb',
    values: ['{"a":1}'],
  });
});

test('an index is kept for what rules for reading look for, where it is short and none is there already', () => {
  const fields = (when: string, rules = `rules hives { people may read (all) when ${when} }`) =>
    [...searchedFields(accessTo(rules).rulebook)].flatMap(([name, found]) =>
      [...found].map((each) => `${name}.${each}`),
    );
  expect(fields('kind = "log"')).toEqual(['hives.kind']);
  expect(fields('size = 3 and (sold or due = "2026-05-01")')).toEqual([
    'hives.size',
    'hives.sold',
    'hives.due',
  ]);
  expect(fields('kind in ("log", "box") or color = "red"')).toEqual(['hives.kind', 'hives.color']);
  expect(fields('some v in visits has (v.hive = this and v.open)')).toEqual(['visits.open']);
  expect(fields('size in me.sizes or 3 = size')).toEqual(['hives.size']);
  for (const none of [
    'keeper = me', // a reference has one
    'note = "x"', // a text may be too long for one
    'code = "x"', // what is unique has one
    'size > 3',
    'not sold',
    'kind = color',
    'size is missing',
    'me.district = "east"',
    'me.grown',
    'me.kind in ("a", "b")',
    'created_at = "2026-05-01T12:00:00Z"',
    'id = me.favourite',
  ])
    expect(fields(none), none).toEqual([]);
  expect(fields('', 'rules hives { people may update (all) when kind = "log" }')).toEqual([]);
});

test('a list is put in each way that its rules offer, no two the same, and in few where it would be much', () => {
  const forms = (when: string, filter: string | null = null) => {
    const { rulebook, access } = accessTo(`rules visits { people may read (all) }
      rules hives { people may read (all)${when} }`);
    const checked = filter === null ? null : checkFilter(filter, 'hives', rulebook);
    if (checked !== null && !checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    return formulations(access, question({ filter: checked === null ? null : checked.condition })).map(
      ({ form }) => form,
    );
  };
  expect(forms('')).toEqual(['rows']);
  expect(forms(' when keeper = me')).toEqual(['rows']);
  expect(forms(' when keeper = me or size > 3')).toEqual(['rows', 'branches']);
  expect(forms(' when yard.keeper = me')).toEqual(['rows', 'few first', 'gathered']);
  expect(forms(' when yard.keeper = me and sold')).toEqual(['rows', 'few first', 'gathered']);
  expect(forms(' when sold and yard.keeper = me')).toEqual(['rows', 'few first', 'gathered']);
  // Where one rule asks nothing, nothing is searched for.
  expect(forms('  people may read (code) when keeper = me or sold')).toEqual(['rows']);
  const two = ' when keeper = me or yard.keeper = me';
  expect(forms(two)).toEqual(['rows', 'sets', 'branches', 'branches of sets', 'gathered']);
  expect(forms(two, 'size > 1')).toEqual(['rows', 'sets', 'branches', 'branches of sets', 'gathered']);
  // Each search would carry the whole filter.
  expect(forms(two, 'yard.name = "x"')).toEqual(['rows', 'sets']);
  const grounds = (count: number) =>
    ` when ${Array.from({ length: count }, (_, index) => `size = ${index}`).join(' or ')}`;
  expect(forms(grounds(8))).toEqual(['rows', 'branches']);
  expect(forms(grounds(9))).toEqual(['rows']);
});

test('nothing is asked that is known: what everybody sees has no mask, and what is never missing no word on it', () => {
  const shown = accessTo('rules hives { people may read (all)  people may read (code) when sold }').access;
  const text = listSql(shown, question({ order: [{ field: 'code', descending: true }] }), 'rows').text;
  // But for what would be too large: see the ways of finding a page.
  expect(text.replaceAll(/case when \(coalesce\([^<]*<= \d+\) then/g, '')).not.toMatch(/case|nulls|_shown_/);
  expect(text).toMatch(/order by "r"."code" desc limit/);
  const some = accessTo(
    'rules hives { people may read (id, size)  people may read (code, size, note) when sold }',
  ).access;
  const masked = listSql(some, question({ order: [{ field: 'code', descending: false }] }), 'rows').text;
  expect(masked).toMatch(/nulls last/);
  // Fields that are shown for the same reason share one flag.
  expect(masked.match(/ as "_shown_\d+"/g)).toEqual([' as "_shown_0"']);
  expect(masked).toMatch(/null::uuid as "keeper"/);
  expect(masked).not.toMatch(/case when [^"]* then "r"."size"/);
});

test('a page begins where an index can, and only where all of its keys go one way', () => {
  const { access } = accessTo('rules hives { people may read (all) }');
  const key = (field: string, descending: boolean) => ({ field, descending });
  const behind = (...order: ReturnType<typeof key>[]) =>
    listSql(access, question({ order, after: order.map(() => 'x') }), 'rows')
      .text.replaceAll('"', '')
      .replace(/.* where /s, '');
  expect(behind(key('code', false), key('id', false))).toMatch(/\(r.code, r.id\) > \(\?::text, \?::uuid\)/);
  expect(behind(key('code', true), key('id', true))).toMatch(/\(r.code, r.id\) < \(\?::text, \?::uuid\)/);
  expect(behind(key('code', true), key('id', false))).toMatch(/r.code <= \?::text/);
  expect(behind(key('code', false), key('id', true))).toMatch(/r.code >= \?::text/);
  expect(behind(key('note', false), key('id', false))).not.toMatch(/>= |<= /);
});

test('a statement that is kept holds nothing of whoever it was made for, and is filled for each', () => {
  const { access } = accessTo('rules hives { people may read (all) when keeper = me or due < today }');
  const open = listSql(access.withSlots(), question(), 'rows');
  expect(open.values.some((each) => each instanceof Slot)).toBe(true);
  expect(JSON.stringify(open)).not.toContain(person.id);
  const full = filled(open, (slot) => access.valueOf(slot));
  expect(full).toEqual(listSql(access, question(), 'rows'));
  const order = ['note', 'size', 'id'].map((field) => ({ field, descending: false }));
  const page = question({ order, after: [null, 3, person.id] });
  const kept = listSql(access.withSlots(), withSlots(page), 'rows');
  expect(JSON.stringify(kept)).not.toContain(person.id);
  expect(filled(kept, (slot) => access.valueOf(slot, [null, 3, person.id]))).toEqual(
    listSql(access, page, 'rows'),
  );
});

test('only of people, and where an address is written, is it kept how sure the address is', () => {
  const { schema: of } = parse('people { town text }  collection letters { email text  town text }');
  const writes = (name: string, field: string) => {
    const [values, collection] = [new Map([[field, 'x']]), of.get(name)!];
    return [insertSql(collection, values), updateSql(collection, person.id, values)].map(({ text }) =>
      /_email_claimed/.test(text),
    );
  };
  expect(writes('people', 'email')).toEqual([true, true]);
  for (const [name, field] of [
    ['people', 'town'],
    ['letters', 'email'],
    ['letters', 'town'],
  ] as const)
    expect(writes(name, field), `${name} ${field}`).toEqual([false, false]);
});
