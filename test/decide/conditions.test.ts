import { expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { claimValue, workOutCaller } from '../../src/core/evaluate/attributes.ts';
import { compilePredicate, type Circumstances } from '../../src/core/evaluate/closures.ts';
import { Decider, type World } from '../../src/core/evaluate/decider.ts';
import { mayDecider } from '../../src/core/evaluate/may.ts';
import { traceCondition } from '../../src/core/evaluate/trace.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import { NOW, parse } from './in-hand.ts';

/** How each condition of the language comes out, written down by hand: what both engines could get wrong alike. */
const schema = `
people { age integer  yard ref yards  boss ref people }
collection yards { name text label  up ref yards  tree by up }
collection hives {
  code text label  note text  size integer  weight decimal  sold boolean  kind one of ("log", "box")
  due date  seen timestamp  tags list of text  weights list of decimal  sizes list of integer  keeper ref people
  yard ref yards  more json
}
collection visits { code text label  hive ref hives  open boolean  who ref people  weight decimal }
role keeper
role lead
`;
const person = (id: string, more: RecordValues = {}): RecordValues & { id: string } => ({
  id,
  name: null,
  email: null,
  age: null,
  yard: null,
  boss: null,
  created_at: NOW,
  updated_at: NOW,
  ...more,
});
const yard = (id: string, up: string | null) => ({ id, name: id, up, created_at: NOW, updated_at: NOW });
const visit = (
  id: string,
  hive: string | null,
  open: boolean | null,
  who: string | null = null,
  weight: string | null = null,
) => ({
  id,
  code: id,
  hive,
  open,
  who,
  weight,
  created_at: NOW,
  updated_at: NOW,
});
const records: Record<string, readonly RecordValues[]> = {
  people: [person('ada', { age: 30, yard: 'east', boss: 'ben' }), person('ben')],
  yards: [
    yard('top', null),
    yard('east', 'top'),
    yard('shed', 'east'),
    yard('a', 'b'),
    yard('b', 'a'),
    yard('west', 'gone'),
  ],
  hives: [],
  visits: [
    visit('v1', 'h', true, 'ada'),
    visit('v2', 'h', false),
    visit('v3', 'h2', null),
    visit('v4', 'h3', false, null, '1.00'),
    visit('v5', 'h4', true),
    visit('v6', 'h4', null),
  ],
};
const world: World = {
  now: NOW,
  look: (name, id) => records[name]?.find((each) => each.id === id) ?? null,
  // No more than is asked for: where the field has another value, the answer is no; where it has none, unknown.
  all: (name, beside) =>
    (records[name] ?? []).filter(
      (each) => beside === undefined || [null, undefined, beside.value].includes(each[beside.field] as never),
    ),
};
const rulebook = parse(`${schema} rules yards { people may read (all) }`);
const ada: Caller = { person: { id: 'ada', values: records.people![0]! }, roles: new Set(['keeper']) };
const around: Circumstances = {
  ...world,
  caller: ada,
  roles: new Set(['keeper']),
  may: mayDecider(rulebook),
};

function conditionOf(text: string, of = rulebook): Condition {
  const checked = checkFilter(text, 'hives', of);
  if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
  return checked.condition;
}
const hive = (more: RecordValues): RecordValues => ({ id: 'h', ...more });
const no = { note: null };

test.each<[string, RecordValues, boolean | null]>([
  ['note = "x"', { note: 'x' }, true],
  ['note = "x"', { note: 'X' }, false],
  ['note = "x"', no, null],
  ['note != "x"', { note: 'y' }, true],
  ['note != "x"', no, null],
  ['size < 3', { size: 2 }, true],
  ['size < 3', { size: 3 }, false],
  ['size < 3', { size: null }, null],
  ['size <= 3', { size: 3 }, true],
  ['size <= 3', { size: 4 }, false],
  ['size > 3', { size: 4 }, true],
  ['size > 3', { size: 3 }, false],
  ['size >= 3', { size: 3 }, true],
  ['size >= 3', { size: 2 }, false],
  ['size < 10', { size: 9 }, true],
  ['weight = 1.5', { weight: '1.50' }, true],
  ['weight < 10', { weight: '9.5' }, true],
  ['weight = size', { weight: '2.0', size: 2 }, true],
  ['size = weight', { weight: '2.0', size: 2 }, true],
  ['size < weight', { weight: '2.5', size: 2 }, true],
  ['weight in (1, 2.50)', { weight: '2.5' }, true],
  ['size in (1, 2.5)', { size: 1 }, true],
  ['note < "b"', { note: 'a' }, true],
  ['note < "b"', { note: 'B' }, true],
  ['note contains "bc"', { note: 'abcd' }, true],
  ['note contains "bc"', { note: 'abd' }, false],
  ['note contains "bc"', no, null],
  ['"abcd" contains note', no, null],
  ['note starts with "ab"', { note: 'abc' }, true],
  ['note starts with "ab"', { note: 'cab' }, false],
  ['note ends with "ab"', { note: 'cab' }, true],
  ['note ends with "ab"', { note: 'abc' }, false],
  ['lower(note) = "äbc"', { note: 'äBC' }, true],
  ['lower(note) = "Äbc"', { note: 'ÄBC' }, true],
  ['length(note) = 2', { note: '🐝x' }, true],
  ['length(note) = 2', no, null],
  ['kind in ("log", "box")', { kind: 'box' }, true],
  ['kind in ("log")', { kind: 'box' }, false],
  ['kind in ("log")', { kind: null }, null],
  ['note is missing', no, true],
  ['note is missing', { note: '' }, false],
  ['note is present', { note: '' }, true],
  ['more is present', { more: null }, false],
  ['sold', { sold: true }, true],
  ['sold', { sold: false }, false],
  ['sold', { sold: null }, null],
  ['not sold', { sold: true }, false],
  ['not sold', { sold: false }, true],
  ['not sold', { sold: null }, null],
  ['sold and size = 1', { sold: null, size: 2 }, false],
  ['sold and size = 1', { sold: null, size: 1 }, null],
  ['size = 1 and sold', { sold: null, size: 2 }, false],
  ['sold or size = 1', { sold: null, size: 1 }, true],
  ['sold or size = 1', { sold: null, size: 2 }, null],
  ['sold or size = 1', { sold: false, size: 2 }, false],
  ['note in tags', { note: 'a', tags: ['b', 'a'] }, true],
  ['note in tags', { note: 'a', tags: [] }, false],
  ['note in tags', { note: 'a', tags: null }, null],
  ['note in tags', { note: null, tags: [] }, null],
  ['"b" in tags', { tags: ['b'] }, true],
  ['weight in weights', { weight: '1.0', weights: ['1'] }, true],
  ['size in sizes', { size: 10, sizes: [9, 10] }, true],
  ['size in weights', { size: 1, weights: ['1.0'] }, true],
  ['weight in sizes', { weight: '1.0', sizes: [1] }, true],
  ['weight in sizes', { weight: '1.0000000000000000001', sizes: [1] }, false],
  ['keeper.age > 20', { keeper: 'ada' }, true],
  ['keeper.age > 20', { keeper: 'ben' }, null],
  ['keeper.boss.age is missing', { keeper: 'ada' }, true],
  ['yard within keeper.yard', { yard: 'east', keeper: 'ben' }, null],
  ['seen < now', { seen: '2026-05-01T11:59:59.999999Z' }, true],
  ['seen < now', { seen: NOW }, false],
  ['seen <= now', { seen: NOW }, true],
  ['seen < "2026-05-01T12:00:00.5Z"', { seen: NOW }, true],
  ['seen + 1 hours > now', { seen: '2026-05-01T11:00:00Z' }, false],
  ['seen + 61 minutes > now', { seen: '2026-05-01T11:00:00Z' }, true],
  ['seen + 1 days > now', { seen: '9999-12-31T12:00:00Z' }, null],
  ['due = today', { due: '2026-05-01' }, true],
  ['due < today', { due: '2026-04-30' }, true],
  ['due + 2 days = "2026-03-01"', { due: '2026-02-27' }, true],
  ['due + 1 days > today', { due: '9999-12-31' }, null],
])('%s, of %j: %s', (text, values, expected) => {
  expect(compilePredicate(conditionOf(text))(hive(values), around)).toBe(expected);
});

/** Of a rule, which may say more than a filter. */
function ruleTruth(when: string, values: RecordValues): boolean | null {
  const { rules } = parse(`${schema} rules yards { people may read (all) when name != "top" }
    rules hives { people may read (all) when ${when} }`);
  const of = rules.find(({ collection }) => collection === 'hives')!;
  const asked = parse(`${schema} rules yards { people may read (all) when name != "top" }`);
  return compilePredicate(of.when)(hive(values), { ...around, may: mayDecider(asked) });
}

test.each<[string, RecordValues, boolean | null]>([
  ['some v in visits has (v.hive = this and v.open)', { id: 'h' }, true],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h2' }, null],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h3' }, false],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h4' }, true],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h' }, false],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h2' }, null],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h3' }, true],
  ['count(v in visits where v.hive = this) = 2', { id: 'h' }, true],
  ['count(v in visits where v.hive = this and v.open) = 1', { id: 'h' }, true],
  ['count(v in visits where v.hive = this and v.open) = 1', { id: 'h4' }, null],
  ['count(v in visits where v.hive = this) = 0', { id: 'h9' }, true],
  [
    'some v in visits has (v.hive = this and some w in visits has (w.hive = v.hive and not w.open))',
    { id: 'h' },
    true,
  ],
  [
    'some v in visits has (v.hive = this and some w in visits has (w.hive = v.hive and not w.open))',
    { id: 'h4' },
    null,
  ],
  ['keeper = me', { keeper: 'ada' }, true],
  ['keeper = me', { keeper: 'ben' }, false],
  ['keeper.boss = me', { keeper: null }, null],
  ['me.age = 30', {}, true],
  ['me.boss.age > 1', {}, null],
  ['yard within me.yard', { yard: 'shed' }, true],
  ['yard within me.yard', { yard: 'east' }, true],
  ['yard within me.yard', { yard: 'top' }, false],
  ['yard within me.yard', { yard: null }, null],
  ['yard within me.yard', { yard: 'a' }, null],
  ['yard within me.yard', { yard: 'west' }, false],
  ['some v in visits has (v.weight = weight)', { weight: '1.0' }, true],
  ['some v in visits has (weight = v.weight)', { weight: '1.0' }, true],
  ['some v in visits has (v.weight = size)', { size: 1 }, true],
  ['some v in visits has (v.hive.keeper = me)', {}, null],
  ['some v in visits has (v.hive = this and some w in visits has (w.who = v.who))', { id: 'h' }, true],
  ['some v in visits has (v.hive = this or v.open)', { id: 'h9' }, true],
  ['me has role keeper', {}, true],
  ['me has role lead', {}, false],
  ['me may read yard', { yard: 'east' }, true],
  ['me may read yard', { yard: 'top' }, false],
  ['me may read yard', { yard: 'nowhere' }, false],
  ['me may read yard', { yard: null }, null],
])('%s, of %j: %s', (text, values, expected) => {
  expect(ruleTruth(text, { yard: null, ...values })).toBe(expected);
});

test('a missing value rules no record out of a quantifier: unknown is not false', () => {
  expect(ruleTruth('no v in visits has (v.who = keeper and v.open)', { keeper: null })).toBe(null);
  expect(ruleTruth('no v in visits has (v.who = keeper and v.open)', { keeper: 'ben' })).toBe(null);
  expect(ruleTruth('some v in visits has (v.who = keeper)', { keeper: 'ada' })).toBe(true);
});

test('nobody may change on their own entry what is closed there, asked of others as well', () => {
  const rules = parse(`${schema}
    rules people { people may read (all), update (age) when age is present or age is missing }
    rules hives { people may read (all) when me may update keeper (age) and me.age > 1 }
    accept people feeds hives because "a test"`);
  const seen = (keeper: string) =>
    new Decider(rules, ada, world).shown('hives', hive({ keeper, created_at: NOW })) !== null;
  expect([seen('ben'), seen('ada')]).toEqual([true, false]);
});

test('a claim is what its type says, or missing; and a list worked out holds each once, in order', () => {
  const rules = parse(
    `${schema}
    claim level integer from "level"
    claim groups list of text from "groups"
    attribute mine list of text = every v.code for v in visits where v.hive = me.first or v.open
    attribute first ref hives = me.hive0
    claim hive0 ref hives from "hive"
    role elder when me.level > 3
    accept visits feeds mine because "a test"`
      .replace('attribute first ref hives = me.hive0\n', '')
      .replace('me.first', 'me.hive0'),
  );
  const of = (claims: Record<string, unknown>, assigned: string[] = []) =>
    workOutCaller(rules, person('ada'), assigned, claims, world);
  expect(of({ level: 4 }).person!.values.level).toBe(4);
  for (const level of ['4', 1.5, null, [4]])
    expect(of({ level }).person!.values.level, String(level)).toBe(null);
  expect(of({}).person!.values.level).toBe(null);
  expect(of(Object.create({ level: 4 }) as Record<string, unknown>).person!.values.level).toBe(null);
  expect(of({ groups: ['b', 'a'] }).person!.values.groups).toEqual(['b', 'a']);
  expect(of({}).person!.values.mine).toEqual(['v1', 'v5']);
  // A role that is held by a condition is not held because it was given.
  expect([...of({ level: 4 }).roles]).toEqual(['elder']);
  expect([...of({ level: 3 }, ['elder', 'keeper', 'nothing']).roles]).toEqual(['keeper']);
  expect(claimValue({ ...rules.attributes.get('mine')! }, { mine: ['x'] })).toBe(null);
});

test('what a condition saw is told part by part, and of many records the two that come nearest', () => {
  const rules = parse(`${schema} rules hives {
    people may read (all) when keeper = me and not (size > 3 or note is missing or sold)
      and some v in visits has (v.hive = this and v.open and v.who = me)
      and me may read yard and kind in ("log") and note in tags and me has role keeper }
    rules yards { people may read (all) }`);
  const [rule] = rules.rules;
  const values = { keeper: 'ada', size: 4, note: 'x', sold: false, yard: 'east', kind: 'log', tags: ['x'] };
  const trace = traceCondition(rule!.when, [hive(values)], { ...around, may: mayDecider(rules) });
  expect(trace.truth).toBe(false);
  const [keeper, not, some, may, kind, tags, role] = trace.parts;
  expect(keeper!.seen.map(({ value }) => value)).toEqual(['ada', 'ada']);
  const [inner] = not!.parts;
  expect(inner!.parts.map(({ truth }) => truth)).toEqual([true, false, false]);
  // A literal is in the text already.
  expect(inner!.parts[0]!.seen.map(({ value }) => value)).toEqual([4]);
  expect(some!.looked!.count).toBe(2);
  expect(some!.looked!.nearest.map(({ record }) => record.id)).toEqual(['v1', 'v2']);
  expect(some!.looked!.nearest[1]!.trace.parts.map(({ truth }) => truth)).toEqual([true, false, null]);
  expect(may!.target?.id).toBe('east');
  expect([kind!, tags!].map(({ seen }) => seen.map(({ value }) => value))).toEqual([['log'], ['x', ['x']]]);
  expect([role!.truth, role!.seen]).toEqual([true, []]);
  const lost = traceCondition(rule!.when, [hive({ ...values, yard: null })], {
    ...around,
    may: mayDecider(rules),
  });
  expect(lost.parts[3]!.target).toBe(null);
});
