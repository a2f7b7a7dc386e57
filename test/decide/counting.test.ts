import { expect, test } from 'vitest';
import { reachedOf } from '../../src/core/analysis/search.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { Decider, type World } from '../../src/core/evaluate/decider.ts';
import { outcomeCollections } from '../agreement/worlds.ts';
import { counting, differences, words } from './counted.ts';
import { NOW, inHand, parse, toldOf } from './in-hand.ts';

test('what is counted by conditions about the record as it is, is what the decider finds by trying, or left open', () => {
  let [cells, open] = [0, 0];
  for (let round = 0; round < 8; round++) {
    const { dice, text, rulebook, records, world, callers } = inHand(52_000 + round, 3);
    for (const caller of callers) {
      const collection = dice.pick(outcomeCollections);
      const decider = new Decider(rulebook, caller, world);
      const count = counting(rulebook, caller, world, collection);
      for (const record of [...records.get(collection)!.values()].slice(0, 4)) {
        const tried = reachedOf(decider, collection, record, true);
        const found = count(record);
        expect(
          differences(tried, found),
          `round ${round}: ${collection} ${record.id as string} by ${toldOf(caller)}\n${text}`,
        ).toEqual([]);
        cells += words(tried).size + words(found).size;
        open += tried.undecided.length + found.undecided.length;
      }
    }
  }
  expect(cells).toBeGreaterThan(150);
  expect(open / cells).toBeLessThan(0.3);
});

const schema = `
people { grade integer  mentor ref people }
collection teams { name text label  color one of ("red", "green")  parent ref teams  tree by parent }
collection notes { title text label  author ref people  hand ref people }
action adopt on notes sets author = me
accept people feeds people because "a test"
`;
const person = (id: string, more: RecordValues = {}): RecordValues & { id: string } => ({
  id,
  name: null,
  email: null,
  grade: 1,
  mentor: null,
  created_at: NOW,
  updated_at: NOW,
  ...more,
});

function worldOf(records: Readonly<Record<string, readonly RecordValues[]>>): World {
  return {
    now: NOW,
    look: (name, id) => records[name]?.find((each) => each.id === id) ?? null,
    all: (name) => records[name] ?? [],
  };
}

/** Both answers for one record. */
function both(
  rules: string,
  caller: Caller,
  collection: string,
  record: RecordValues,
  records: Record<string, readonly RecordValues[]>,
) {
  const rulebook = parse(schema + rules);
  const world = worldOf(records);
  const tried = reachedOf(new Decider(rulebook, caller, world), collection, record, true);
  const found = counting(rulebook, caller, world, collection)(record);
  expect(differences(tried, found)).toEqual([]);
  return { tried, found };
}

test('what a sharer may do is asked of the sharer, and not of whoever it is shared with', () => {
  const caller = (id: string, grade: number): Caller => ({
    person: { id, values: person(id, { grade }) },
    roles: new Set(),
  });
  const [ada, gina] = [caller('ada', 5), caller('gina', 1)];
  const guest: Caller = {
    ...gina,
    shared: [
      { collection: 'notes', operation: 'read', sharer: ada, records: ['n'] },
      { collection: 'notes', operation: 'update', sharer: ada, records: ['n'] },
    ],
  };
  const note = { id: 'n', title: 'x', author: 'ada', created_at: NOW, updated_at: NOW };
  const records = { people: [person('ada', { grade: 5 }), person('gina')], notes: [note] };
  const rules = (when: string) =>
    `rules people { people may read (all) } rules notes { people may read (all) when me.grade > 2  people may update (all) when ${when}  people may share when me.grade > 2 }`;
  for (const found of Object.values(both(rules('me.grade > 2'), guest, 'notes', note, records)))
    expect([found.read, found.updatable]).toEqual([true, ['title', 'author', 'hand']]);
  // Only who shares it could write themself in; whoever it is shared with writes the sharer.
  const own = both(rules('new.author = me'), guest, 'notes', { ...note, author: 'gina' }, records);
  expect(own.tried.updatable).toContain('author');
  expect(own.found.updatable.includes('author') || own.found.undecided.includes('update author')).toBe(true);
});

test('whether a record may be shared is asked of it as it is, whatever is put into the fields that this reads', () => {
  const rulebook = parse(`
    people { grade integer }
    collection notes { title text label  author ref people  hand ref people required }
    rules people { people may read (all) when grade = 2 }
    rules notes { people may read (all), update (hand) when author = me  people may share when hand.grade = 1 }`);
  const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
  const shared = (['read', 'update'] as const).map((operation) => ({
    collection: 'notes',
    operation,
    sharer: ada,
    records: ['n'],
  }));
  const gina: Caller = { person: { id: 'gina', values: person('gina') }, roles: new Set(), shared };
  const people = [person('ada'), person('ben', { grade: 2 }), person('gina')];
  // Ada cannot be named again, as she cannot be read; Ben can.
  for (const [hand, may] of [
    ['ada', ['hand']],
    ['ben', []],
  ] as const) {
    const note = { id: 'n', title: 'N', author: 'ada', hand, created_at: NOW, updated_at: NOW };
    const world = worldOf({ people, notes: [note] });
    for (const { updatable, undecided } of [
      reachedOf(new Decider(rulebook, gina, world), 'notes', note, true),
      counting(rulebook, gina, world, 'notes')(note),
    ])
      expect([updatable, undecided]).toEqual([may, []]);
  }
});

test('what lies behind a value that a change puts in is looked up behind it', () => {
  const rules =
    'rules people { people may read (all) } rules notes { people may read (all)  people may adopt when new.author.mentor = me }';
  const note = { id: 'n', title: 'x', author: null, created_at: NOW, updated_at: NOW };
  for (const mentor of ['ada', null]) {
    const records = { people: [person('ada', { mentor })], notes: [note] };
    const ada: Caller = { person: { id: 'ada', values: records.people[0]! }, roles: new Set() };
    for (const { actions } of Object.values(both(rules, ada, 'notes', note, records)))
      expect(actions).toEqual(mentor === 'ada' ? ['adopt'] : []);
  }
});

test('where data go round in a circle, nobody is told that a record cannot be put there', () => {
  const rules = 'rules teams { people may read (all), update (parent) when parent.color = "green" }';
  const team = (id: string, parent: string | null) => ({
    id,
    name: id,
    color: 'green',
    parent,
    created_at: NOW,
    updated_at: NOW,
  });
  const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
  const [a, top] = [team('a', 'top'), team('top', null)];
  const round = both(rules, ada, 'teams', a, { teams: [a, top, team('b', 'c'), team('c', 'b')] });
  expect(round.tried.updatable).toEqual(['parent']);
  const straight = both(rules, ada, 'teams', a, { teams: [a, top, team('b', 'a')] });
  expect([straight.found.undecided, straight.tried.undecided]).toEqual([[], []]);
});

test('a visitor has no entry of their own that could not be changed', () => {
  const rules =
    'rules people { everybody may read (all), update (grade)  people may update (mentor) when me.grade > 2 }';
  const record = person('ada');
  for (const caller of [
    { person: null, roles: new Set<string>() },
    { person: { id: 'ada', values: record }, roles: new Set<string>() },
  ] satisfies Caller[])
    for (const { updatable } of Object.values(both(rules, caller, 'people', record, { people: [record] })))
      expect(updatable).toEqual(caller.person === null ? ['grade'] : []);
});

test('a stamp that comes in with another field may be what lets a field be changed', () => {
  const rules = `rules people { people may read (all) }
    rules notes { people may read (all)  people may update (author) when new.hand = me  people may update (title) stamp hand = me }`;
  const note = { id: 'n', title: 'x', author: null, hand: null, created_at: NOW, updated_at: NOW };
  const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
  const records = { people: [person('ada')], notes: [note] };
  const { tried, found } = both(rules, ada, 'notes', note, records);
  expect(tried.updatable).toContain('title');
  // With “title” beside it, both ways of asking find it or leave it open; neither says no.
  for (const { updatable, undecided } of [tried, found])
    expect([...updatable, ...undecided.map((each) => each.replace('update ', ''))]).toContain('author');
});

test('a list, or a JSON document, that may be put in whatever it is, is put in as one', () => {
  const rulebook = parse(`
    people { level integer }
    collection jars { code text label  tags list of text  sizes list of integer  extra json }
    rules people { people may read (all) }
    rules jars {
      people may read (all), update (tags, sizes, extra)
      people may update (code) when some j in jars has ("a" in tags and 3 in sizes and extra is present)
      people may update (code) when "a" in tags or 3 in sizes or extra is missing
    }`);
  const jar = { id: 'j', code: 'J', tags: ['b'], sizes: null, extra: null, created_at: NOW, updated_at: NOW };
  const world = worldOf({ people: [person('ada')], jars: [jar] });
  const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
  const decider = new Decider(rulebook, ada, world);
  for (const { updatable, undecided } of [
    reachedOf(decider, 'jars', jar),
    counting(rulebook, ada, world, 'jars')(jar),
  ]) {
    expect(updatable).toEqual(expect.arrayContaining(['tags', 'sizes', 'extra']));
    expect(undecided.filter((each) => /tags|sizes|extra/.test(each))).toEqual([]);
  }
});

const threads = `
people { grade integer }
collection logs { title text label  open boolean  up ref logs on delete remove  next ref logs on delete clear }
rules people { people may read (all) }
`;

/** Both answers for a log of a chain, each of which goes along with the one before it. */
function inThread(rules: string, logs: readonly RecordValues[], id: string) {
  const rulebook = parse(threads + rules);
  const records: Record<string, readonly RecordValues[]> = { people: [person('ada')], logs };
  const world = worldOf(records);
  const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
  const log = logs.find((each) => each.id === id)!;
  const tried = reachedOf(new Decider(rulebook, ada, world), 'logs', log, true);
  const found = counting(rulebook, ada, world, 'logs')(log);
  expect(differences(tried, found)).toEqual([]);
  return { tried, found };
}
const logOf = (id: string, up: string | null, next: string | null = null, open = true) => ({
  id,
  title: id,
  open,
  up,
  next,
  created_at: NOW,
  updated_at: NOW,
});

test('what is deleted itself, or goes along further up, is not asked about the reference that it would lose', () => {
  const rules = 'rules logs { people may read (all), delete  nobody may update (next) }';
  const alone = inThread(rules, [logOf('a', null, 'a')], 'a');
  for (const { delete: may, follows } of [alone.tried, alone.found])
    expect([may, follows]).toEqual([true, []]);
  const below = inThread(rules, [logOf('a', null), logOf('b', 'a'), logOf('c', 'b', 'a')], 'a');
  expect([below.tried.delete, below.found.delete]).toEqual([true, true]);
  const beside = inThread(rules, [logOf('a', null), logOf('b', 'a'), logOf('c', null, 'b')], 'a');
  expect([beside.tried.delete, beside.found.delete]).toEqual([false, false]);
});

test('what goes along further than is followed is left open where a fence could stop it, and never said to go', () => {
  const chain = (length: number, last: boolean) =>
    Array.from({ length }, (_, at) =>
      logOf(`l${at}`, at === 0 ? null : `l${at - 1}`, null, at < length - 1 || last),
    );
  const rules =
    'rules logs { people may read (all)  people may delete when title = "l0"  nobody may delete unless open }';
  for (const length of [3, 5, 6, 9])
    for (const last of [true, false]) {
      const { tried, found } = inThread(rules, chain(length, last), 'l0');
      expect(tried.delete).toBe(last);
      if (length <= 5) expect([found.delete, found.undecided]).toEqual([last, []]);
      else expect([found.delete, found.undecided]).toEqual([false, ['delete']]);
      const end = inThread(rules, chain(length, true), `l${length - 1}`);
      for (const { follows, undecided } of [end.tried, end.found])
        expect([follows, undecided]).toEqual(length <= 5 ? [['delete'], []] : [[], ['goes along: delete']]);
    }
  // Where nothing could stop it, the length does not matter.
  const free = inThread('rules logs { people may read (all), delete }', chain(9, true), 'l0');
  expect([free.found.delete, free.found.undecided]).toEqual([true, []]);
});

const yards = `
people { grade integer }
collection yards { name text label }
collection sheds { name text label  yard ref yards on delete clear }
collection hives { code text label  yard ref yards on delete clear  winter ref yards on delete clear  shed ref sheds on delete clear }
collection visits { code text label  hive ref hives  yard ref yards on delete remove }
rules people { people may read (all) }
rules yards { people may read (all), delete }
`;
const yardAndWinter = ['update yard', 'update winter'];

test.each<
  [
    fence: string,
    may: boolean,
    lost: readonly string[] | 'open',
    more?: { winter?: string | null; town?: true },
  ]
>([
  // Both references point there, and both are lost.
  ['yard is present or winter is present', false, []],
  ['old.yard is present and new.yard is missing and new.winter is missing', true, yardAndWinter],
  ['yard is present or winter is present', true, yardAndWinter, { winter: 'b' }],
  ['yard is present or winter is present', false, [], { winter: null }],
  ['new.yard is missing', true, ['update yard'], { winter: 'b' }],
  // Where a yard may go along with another, two yards may go at once.
  ['yard is present or winter is present', false, 'open', { town: true }],
  ['code = "h"', true, yardAndWinter, { town: true }],
  // The shed stays, but what it stands in does not: that is seen in other records alone.
  ['shed is present', true, yardAndWinter],
  ['shed.name = "s"', true, yardAndWinter],
  ['shed.yard is present', false, 'open'],
  ['old.shed.yard is present', true, yardAndWinter],
  ['new.shed.yard is missing', true, 'open'],
  // Visits go along, and a fence sees that they will have gone.
  ['some v in visits has (v.hive = this)', false, 'open'],
  ['no v in visits has (v.hive = this and v.code = "w")', true, 'open'],
  ['count(v in visits where v.hive = this) < 5', true, 'open'],
  ['some h in hives has (h.code = "h")', true, yardAndWinter],
  ['some h in hives has (h.yard is present)', false, 'open'],
  ['me may read shed', false, 'open'],
])(
  'a hive that a fence keeps unless “%s”, and its yard is deleted: it is let go %s, counted %s',
  (fence, may, lost, more = {}) => {
    const town = more.town === true ? 'town ref yards on delete remove' : '';
    const text = `${yards.replace('label }', `label  ${town} }`)}
    rules hives { people may read (all)  nobody may update unless ${fence} }`;
    const at = { created_at: NOW, updated_at: NOW };
    const hive = { id: 'h', code: 'h', yard: 'a', winter: 'a', shed: 's', ...more, ...at };
    const yard = { id: 'a', name: 'a', town: null, ...at };
    const records = {
      people: [person('ada')],
      yards: [yard, { ...yard, id: 'b' }],
      sheds: [{ id: 's', name: 's', yard: 'a', ...at }],
      hives: [hive],
      visits: [{ id: 'v', code: 'v', hive: 'h', yard: 'a', ...at }],
    };
    const rulebook = parse(text);
    const world = worldOf(records);
    const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
    const decider = new Decider(rulebook, ada, world);
    const { refusedBy } = decider.decide({
      operation: 'delete',
      collection: 'yards',
      record: yard,
      values: new Map(),
    });
    expect(refusedBy).toBe(may ? null : 'follows fenced');
    const left = decider.after({ removed: new Map([['yards', ['a']]]), cleared: [] });
    expect([left.look('yards', 'a'), left.look('yards', 'b')]).toEqual([null, world.look('yards', 'b')]);
    const deleted = counting(rulebook, ada, world, 'yards')(yard);
    expect([deleted.delete, deleted.undecided]).toEqual(lost === 'open' ? [false, ['delete']] : [may, []]);
    for (const { follows, undecided } of [
      counting(rulebook, ada, world, 'hives')(hive),
      reachedOf(decider, 'hives', hive),
    ]) {
      const open = yardAndWinter
        .filter((what) => what === 'update yard' || hive.winter !== null)
        .map((what) => `goes along: ${what}`);
      expect([follows, undecided]).toEqual(lost === 'open' ? [[], open] : [lost, []]);
    }
  },
);

test.each<[fence: string, base: string, refusedBy: string | null, counted: boolean | 'open']>([
  ['base.name = "a"', 'a', 'follows fenced', 'open'],
  ['base.name = "b"', 'b', null, true],
  ['base.name = "a"', 'b', 'follows fenced', false],
  ['old.base.name = "a"', 'a', 'still referenced', true],
  ['base is present', 'a', 'still referenced', true],
  // Behind another record, which of them it is cannot be said.
  ['shed.base.name = "b"', 'b', null, 'open'],
])(
  'a fence that looks at %s, where a reference to %s refuses that it goes: %s, and counted %s',
  (fence, base, refusedBy, counted) => {
    const rulebook = parse(`
      collection yards { name text label }
      collection sheds { name text label  base ref yards }
      collection hives { code text label  yard ref yards on delete clear  base ref yards  shed ref sheds }
      rules yards { people may read (all), delete }
      rules hives { people may read (all)  nobody may update unless ${fence} }`);
    const at = { created_at: NOW, updated_at: NOW };
    const yard = { id: 'a', name: 'a', ...at };
    const world = worldOf({
      people: [person('ada')],
      yards: [yard, { ...yard, id: 'b', name: 'b' }],
      sheds: [{ id: 's', name: 's', base: 'b', ...at }],
      hives: [{ id: 'h', code: 'h', yard: 'a', base, shed: 's', ...at }],
    });
    const ada: Caller = { person: { id: 'ada', values: person('ada') }, roles: new Set() };
    const decider = new Decider(rulebook, ada, world);
    const question = { operation: 'delete', collection: 'yards', record: yard, values: new Map() } as const;
    expect(decider.decide(question).refusedBy).toBe(refusedBy);
    const found = counting(rulebook, ada, world, 'yards')(yard);
    expect([found.delete, found.undecided]).toEqual(counted === 'open' ? [false, ['delete']] : [counted, []]);
    expect(differences(reachedOf(decider, 'yards', yard), found)).toEqual([]);
  },
);
