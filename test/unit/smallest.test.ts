import { expect, test } from 'vitest';
import { placed, smallest, type Found, type Setting } from '../../src/core/analysis/prove/worlds.ts';
import type { Value } from '../../src/core/types/types.ts';
import { NOW, parse } from '../decide/in-hand.ts';

/** An example is told with what it needs, and with nothing besides. */
const rulebook = parse(`
people { level integer }
claim tenant text from "tenant"
claim floor text from "floor"
collection yards { name text label }
collection sheds { name text label }
collection hives { code text required label  note text  size integer  tags list of text  keeper ref people  yard ref yards required  shed ref sheds }
collection visits { code text label  hive ref hives }
role keeper  role steward  role auditor
rules hives { people may read (all), share }
`);
const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const [me, other, sharer, second] = [id(1), id(2), id(3), id(4)];
const [hive, spare, last] = [id(11), id(12), id(13)];
const moments = { created_at: NOW, updated_at: NOW };
const people = [me, other, sharer, second].map((each, index) => ({
  id: each,
  name: null,
  email: 'a@hollowoak.example',
  level: index,
  _identity: each === other ? 'one' : null,
  ...moments,
}));
const yards = [id(21), id(22)].map((each) => ({ id: each, name: 'a', ...moments }));
const sheds = [{ id: id(23), name: 'a', ...moments }];
const hives = [spare, hive, last].map((each) => ({
  id: each,
  code: 'c',
  note: 'n',
  size: 3,
  tags: ['a', 'b', 'c'],
  keeper: other,
  yard: id(22),
  shed: id(23),
  ...moments,
}));
const visits = [
  { id: id(31), code: 'v', hive: spare, ...moments },
  { id: id(32), code: 'w', hive, ...moments },
];
const nobody = { me: null, roles: [], verified: false, claims: {} };
const shareBy = (who: string | null, roles = ['keeper']) => ({
  sharer: { ...nobody, me: who, roles, claims: { tenant: 'theirs' } },
  share: { collection: 'hives', record: hive, operations: ['read' as const] },
});
const setting: Setting = {
  sent: {
    operation: 'update',
    values: new Map<string, Value>([
      ['code', 'x'],
      ['note', 'y'],
      ['size', 1],
    ]),
  },
  asked: { collection: 'hives', id: hive, now: NOW },
  records: new Map<string, Setting['records'] extends ReadonlyMap<string, infer All> ? All : never>([
    ['people', people],
    ['yards', yards],
    ['sheds', sheds],
    ['hives', hives],
    ['visits', visits],
  ]),
  somebody: {
    me,
    roles: ['keeper', 'steward', 'auditor'],
    verified: true,
    ofTheApplication: true,
    claims: { tenant: 'ours', floor: 'first' },
    shares: [shareBy(second), shareBy(sharer), shareBy(other)],
  },
  mentioned: new Map(),
};
const start = placed(rulebook, setting)!;
const reduced = (needed: (found: Found) => boolean) => {
  const found = smallest(rulebook, start, needed);
  expect(needed(found)).toBe(true);
  const { somebody, records, sent } = found;
  return {
    somebody,
    sent: [...sent!.values.keys()],
    ids: Object.fromEntries([...records].map(([name, all]) => [name, all.map((each) => each.id)])),
    record: found.record,
    records,
  };
};

test('what nothing needs is taken away, but who asks and the record', () => {
  const { somebody, sent, ids, record } = reduced(() => true);
  expect(somebody).toEqual({
    me,
    roles: [],
    verified: true,
    ofTheApplication: false,
    claims: {},
    shares: [],
  });
  expect([sent, ids]).toEqual([
    [],
    // What a record must point at stays.
    { people: [me], yards: [id(22)], sheds: [], hives: [hive], visits: [] },
  ]);
  expect(record).toEqual({
    id: hive,
    code: 'c',
    note: null,
    size: null,
    tags: null,
    keeper: null,
    yard: id(22),
    shed: null,
    ...moments,
  });
});

test.each<[string, (found: Found) => boolean, object]>([
  [
    'one role of several',
    ({ caller }) => caller.roles.has('steward'),
    { somebody: expect.objectContaining({ roles: ['steward'], claims: {}, shares: [] }) },
  ],
  [
    'two roles of several',
    ({ caller }) => caller.roles.has('keeper') && caller.roles.has('auditor'),
    { somebody: expect.objectContaining({ roles: ['keeper', 'auditor'] }) },
  ],
  [
    'one claim of several',
    ({ caller }) => caller.person?.values.floor === 'first',
    { somebody: expect.objectContaining({ claims: { floor: 'first' }, roles: [] }) },
  ],
  [
    'that they are of the application',
    ({ caller }) => caller.ofTheApplication === true,
    { somebody: expect.objectContaining({ ofTheApplication: true }) },
  ],
  [
    'one share of several, with whoever shares it',
    ({ caller }) => caller.shared?.some((each) => each.sharer.person!.id === sharer) === true,
    {
      somebody: expect.objectContaining({ shares: [shareBy(sharer, [])] }),
      ids: expect.objectContaining({ people: [me, sharer] }),
    },
  ],
  [
    'a role of whoever shares',
    ({ caller }) => caller.shared?.some((each) => each.sharer.roles.has('keeper')) === true,
    { somebody: expect.objectContaining({ roles: [], shares: [shareBy(expect.any(String))] }) },
  ],
  [
    'two shares of several',
    ({ caller }) => {
      const by = new Set(caller.shared?.map((each) => each.sharer.person!.id));
      return by.has(second) && by.has(other);
    },
    { somebody: expect.objectContaining({ shares: [shareBy(second, []), shareBy(other, [])] }) },
  ],
  [
    'two values that are sent',
    ({ sent }) => sent?.values.get('code') === 'x' && sent.values.get('size') === 1,
    { sent: ['code', 'size'] },
  ],
  [
    'two items of a list',
    ({ record }) => ['a', 'c'].every((each) => (record.tags as readonly string[] | null)?.includes(each)),
    { record: expect.objectContaining({ tags: ['a', 'c'] }) },
  ],
  ['one value that is sent', ({ sent }) => sent?.values.get('note') === 'y', { sent: ['note'] }],
  [
    'one item of a list',
    ({ record }) => (record.tags as readonly string[] | null)?.includes('b') === true,
    { record: expect.objectContaining({ tags: ['b'], note: null }) },
  ],
  [
    'a value, and another record that it leads to',
    ({ record, world }) =>
      record.keeper !== null &&
      record.keeper !== me &&
      world.look('people', record.keeper as string)!.level === 1,
    {
      record: expect.objectContaining({ keeper: other, note: null }),
      ids: expect.objectContaining({ people: [me, other] }),
    },
  ],
  [
    'one record that points at it',
    ({ world }) => [...world.all('visits')].some((each) => each.hive === hive),
    { ids: expect.objectContaining({ hives: [hive], visits: [id(32)] }) },
  ],
  [
    'a test identity among the others',
    ({ world }) => [...world.all('people')].some((each) => each._identity === 'one'),
    { ids: expect.objectContaining({ people: [me, other] }) },
  ],
])('what is needed stays: %s', (_, needed, expected) => {
  expect(reduced(needed)).toMatchObject(expected);
});

test('there is no example without its record or whoever asks, and nobody shares who is not there', () => {
  const without = (name: string, gone: string): Setting => ({
    ...setting,
    records: new Map([
      ...setting.records,
      [name, setting.records.get(name)!.filter((each) => each.id !== gone)],
    ]),
  });
  expect(placed(rulebook, without('hives', hive))).toBe(null);
  expect(placed(rulebook, without('people', me))).toBe(null);
  expect(placed(rulebook, without('hives', spare))).not.toBe(null);
  const sharers = (of: Setting) =>
    placed(rulebook, of)!.caller.shared?.map((each) => each.sharer.person!.id) ?? [];
  expect(sharers(setting)).toEqual([second, sharer, other]);
  expect(sharers(without('people', second))).toEqual([sharer, other]);
  const { somebody } = setting;
  expect(sharers({ ...setting, somebody: { ...somebody, shares: [shareBy(null)] } })).toEqual([]);
  // What their token would say is known of nobody but whoever asks.
  expect(start.caller.shared![0]!.sharer.person!.values.tenant ?? null).toBe(null);
  expect(start.caller.person!.values.tenant).toBe('ours');
  const visitor = placed(rulebook, { ...setting, somebody: { ...nobody, ofTheApplication: true } })!;
  expect(visitor.caller).toEqual({ person: null, roles: new Set(), ofTheApplication: true });
});

test('an address counts where it is verified', () => {
  const { somebody } = setting;
  const address = (verified: boolean) =>
    placed(rulebook, { ...setting, somebody: { ...somebody, verified } })!.caller.person!.values.email;
  expect([address(true), address(false)]).toEqual(['a@hollowoak.example', null]);
});
