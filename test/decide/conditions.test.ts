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
import { filterTruths, person, records, ruleTruths, rulesWith, schema } from './truths.ts';

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

test.each(filterTruths)('%s, of %j: %s', (text, values, expected) => {
  expect(compilePredicate(conditionOf(text))(hive(values), around)).toBe(expected);
});

/** Of a rule, which may say more than a filter. */
function ruleTruth(when: string, values: RecordValues): boolean | null {
  return compilePredicate(ruleOf(when))(hive(values), { ...around, may: mayDecider(parse(rulesWith(when))) });
}

function ruleOf(when: string): Condition {
  return parse(rulesWith(when)).rules.find(({ collection }) => collection === 'hives')!.when;
}

test.each(ruleTruths)('%s, of %j: %s', (text, values, expected) => {
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
  // Those that an equality names are the ones to look at; of these the nearest is not the first.
  const near = parse(`${schema} rules hives { people may read (all) when
    some v in visits has (v.hive = this and not v.open and v.n = 5) }`);
  const everything = { ...around, all: (name: string) => records[name] ?? [] };
  const { looked } = traceCondition(near.rules[0]!.when, [hive({})], everything);
  expect([looked!.count, ...looked!.nearest.map(({ record }) => record.id)]).toEqual([2, 'v2', 'v1']);
  const ben = { person: { id: 'ben', values: person('ben', { age: 3 }) }, roles: new Set<string>() };
  const asBen = { kind: 'as', caller: ben, condition: ruleOf('me.age = 3') } as const;
  const told = traceCondition(asBen, [hive({})], around);
  expect([told.truth, told.parts.map(({ truth }) => truth)]).toEqual([true, [true]]);
});

test('a change of nothing is the record as it is on both sides; and an operation that is none is not decided', () => {
  const rules = parse(
    `${schema} rules hives { people may read (all)  people may update (size) when new.size = old.size }`,
  );
  const decider = new Decider(rules, ada, world);
  const record = hive({ size: 1, created_at: NOW, updated_at: NOW });
  const asked = (values: [string, number][]) =>
    decider.decide({ operation: 'update', collection: 'hives', record, values: new Map(values) }).allowed;
  expect([asked([]), asked([['size', 1]]), asked([['size', 2]])]).toEqual([true, true, false]);
  expect(() => decider.decide({ operation: 'burn', collection: 'hives', record, values: new Map() })).toThrow(
    'no operation burn',
  );
});

test('a quantifier over the collection that is changed sees each record once, as it would become', () => {
  const rules = parse(`${schema} rules hives { people may read (all)
    people may update (size) when count(h in hives) = 5 and count(h in hives where h.size = 1) < 2 }
    accept hives feeds hives because "a test"`);
  const five = ['h', 'h2', 'h3', 'h4', 'h5'].map((id) => ({ ...hive({ size: id === 'h5' ? 1 : 0 }), id }));
  const tried = (hives: readonly RecordValues[], size: number) =>
    new Decider(rules, ada, { ...world, all: () => hives }).decide({
      operation: 'update',
      collection: 'hives',
      record: five[0]!,
      values: new Map([['size', size]]),
    }).allowed;
  expect([tried(five, 0), tried(five, 2), tried(five, 1)]).toEqual([true, true, false]);
  expect(tried([...five.slice(0, 4), { ...five[1]!, id: 'h6' }], 1)).toBe(true);
});
