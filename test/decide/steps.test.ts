import { expect, test } from 'vitest';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { permissionOf } from '../../src/core/decide/permission.ts';
import { drive, driveAsync, type Driver } from '../../src/core/decide/steps/asking.ts';
import { acting, updating } from '../../src/core/decide/steps/change.ts';
import { creating } from '../../src/core/decide/steps/create.ts';
import { MOST_AFFECTED, deleting } from '../../src/core/decide/steps/delete.ts';
import { Decider, plain } from '../../src/core/evaluate/decider.ts';
import type { Value } from '../../src/core/types/types.ts';
import { NOW, parse as parseText } from './in-hand.ts';

const schema = `
people { grade integer  team ref teams on delete clear }
collection teams { name text label }
collection hives { code text label  keeper ref people on delete clear  status one of ("new", "kept") = "new"  size integer = 1  seen timestamp = now  team ref teams }
collection visits { title text required label  next ref hives on delete clear  hive ref hives on delete remove }
action sign on hives (size integer) sets size = size
accept people feeds people because "a test"
accept teams feeds people because "a test"
accept teams feeds teams because "a test"
accept people feeds teams because "a test"
`;

const parse = (rules: string) => parseText(schema + rules);

const ada: Caller = { person: { id: 'ada', values: { id: 'ada', grade: 3 } }, roles: new Set() };
const hive: RecordValues = {
  id: 'h',
  code: 'OAK-1',
  keeper: 'ada',
  status: 'new',
  size: 1,
  seen: NOW,
  team: null,
  created_at: NOW,
  updated_at: NOW,
};
const person = (id: string): RecordValues => ({
  id,
  name: null,
  email: null,
  grade: 1,
  team: 't',
  created_at: NOW,
  updated_at: NOW,
});

/** By the closures, with these records at hand. */
function ask(
  rules: string,
  operation: string,
  collection: string,
  record: RecordValues | null,
  values: Record<string, Value> = {},
  records: Record<string, readonly RecordValues[]> = {},
) {
  const world = {
    now: NOW,
    look: (name: string, id: string) => records[name]?.find((each) => each.id === id) ?? null,
    all: (name: string) => records[name] ?? [],
  };
  const decision = new Decider(parse(rules), ada, world).decide({
    operation,
    collection,
    record,
    values: new Map(Object.entries(values)),
  });
  return decision.allowed ? (decision.after ?? 'done') : [decision.refusedBy, ...decision.fields].join(' ');
}

/** Everything is so, but what is said. */
const driverWith = (more: Partial<Driver<Value>>): Driver<Value> => ({
  readable: () => true,
  precondition: () => true,
  'own record': () => false,
  references: () => [],
  values: ({ operands }) => operands.map(() => NOW),
  truths: ({ of }) => new Set(of),
  circle: () => false,
  referrers: () => [],
  passed: () => true,
  held: () => false,
  ...more,
});

const open = 'rules hives { people may read (all), update (all), delete  people may sign }';

test('a record that changed meanwhile is left alone, whatever is done to it', async () => {
  const rulebook = parse(open);
  const driver = driverWith({ precondition: () => false });
  const permission = (operation: string) => permissionOf(rulebook, ada, operation, 'hives');
  const sign = rulebook.actions.get('hives.sign')!;
  const steps = [
    () => updating(rulebook, permission('update'), new Map([['size', 2]]), plain),
    () => acting(rulebook, permission('sign'), sign, new Map([['size', 2]]), plain),
    () => deleting<Value>(rulebook, ada, permission('delete'), 'h'),
  ];
  for (const each of steps) {
    expect(drive(each(), driver)).toMatchObject({ allowed: false, refusedBy: 'changed meanwhile' });
    expect(drive(each(), driverWith({}))).toMatchObject({ allowed: true });
    expect(drive(each(), driverWith({ readable: () => false }))).toMatchObject({ refusedBy: 'not readable' });
    expect(await driveAsync(each(), driver)).toMatchObject({ refusedBy: 'changed meanwhile' });
  }
});

test('nothing is asked that nothing depends on', () => {
  const asked: string[] = [];
  const listening = Object.fromEntries(
    Object.entries(driverWith({})).map(([kind, answer]) => [
      kind,
      (about: never) => {
        asked.push(kind);
        return (answer as unknown as (of: never) => never)(about);
      },
    ]),
  ) as unknown as Driver<Value>;
  const rulebook = parse(
    `${open} rules people { people may read (all), update (grade)  lead may update (team) when me.grade > 2 } role lead`,
  );
  const run = (values: Record<string, Value>, collection = 'hives') => {
    asked.length = 0;
    drive(
      updating(
        rulebook,
        permissionOf(rulebook, ada, 'update', collection),
        new Map(Object.entries(values)),
        plain,
      ),
      listening,
    );
    return asked.filter((each) => each !== 'readable' && each !== 'precondition').join(' ');
  };
  expect(run({ size: 2 })).toBe('values truths');
  expect(run({ keeper: 'ben' })).toBe('references values truths');
  expect(run({ keeper: null })).toBe('values truths');
  expect(run({})).toBe('truths');
  expect(run({ grade: 2 }, 'people')).toBe('own record values truths');
  const going = (steps: Generator<unknown, unknown, never>) => {
    asked.length = 0;
    drive(steps as never, listening);
    return asked.filter((each) => each !== 'readable' && each !== 'precondition').join(' ');
  };
  const sign = rulebook.actions.get('hives.sign')!;
  const permission = (operation: string, collection = 'hives') =>
    permissionOf(rulebook, ada, operation, collection);
  expect(
    going(acting(rulebook, permission('sign'), sign, new Map([['size', 2]]), plain)),
    'sets what is given',
  ).toBe('values truths');
  expect(going(deleting<Value>(rulebook, ada, permission('delete'), 'h')), 'nothing points there').toBe(
    'truths referrers referrers held',
  );
  const stamping = parse(
    'rules hives { people may read (all)  people may update (size) stamp keeper = me  people may create (code) }',
  );
  const stamped = updating(
    stamping,
    permissionOf(stamping, ada, 'update', 'hives'),
    new Map([['size', 2]]),
    plain,
  );
  expect(going(stamped), 'of a single rule that stamps, conditions are asked once').toBe(
    'values values truths values',
  );
  const made = creating(
    stamping,
    permissionOf(stamping, ada, 'create', 'hives'),
    new Map([['code', 'x']]),
    'h',
    plain,
  );
  expect(going(made)).toBe('values truths');
  const visits = driverWith({
    referrers: ({ collection }) => (collection === 'visits' ? ['v'] : []),
    passed: () => false,
  });
  expect(
    drive(deleting<Value>(rulebook, ada, permission('delete'), 'h'), visits),
    'no fence stands there',
  ).toMatchObject({ allowed: true });
});

test('a deletion takes along so many records and no more', () => {
  const rulebook = parse('rules hives { people may read (all), delete }');
  const ids = (count: number) => Array.from({ length: count }, (_, index) => `v${index}`);
  const take = (count: number) =>
    drive(
      deleting<Value>(rulebook, ada, permissionOf(rulebook, ada, 'delete', 'hives'), 'h'),
      driverWith({ referrers: ({ collection }) => (collection === 'visits' ? ids(count) : []) }),
    );
  expect(take(MOST_AFFECTED)).toMatchObject({ allowed: true });
  expect(take(MOST_AFFECTED + 1)).toMatchObject({ allowed: false, refusedBy: 'still referenced' });
});

test('what goes along is asked the fences on it, on the field that it loses, and on being read', () => {
  const visits = [{ id: 'v', title: 'x', hive: 'h' }];
  const take = (fence: string, collection = 'visits') =>
    ask(
      `rules hives { people may read (all), delete } rules ${collection} { ${fence} }`,
      'delete',
      'hives',
      hive,
      {},
      { visits },
    );
  expect(take('')).toBe('done');
  expect(take('nobody may delete')).toBe('follows fenced');
  expect(take('nobody may delete unless title = "x"')).toBe('done');
  expect(take('nobody may delete unless title = "y"')).toBe('follows fenced');
  expect(take('nobody may read unless title = "y"')).toBe('follows fenced');
  expect(take('nobody may read (title) unless title = "y"'), 'a fence on a field hides no record').toBe(
    'done',
  );
  expect(take('nobody may update unless title = "y"'), 'it is deleted, not updated').toBe('done');
  const lose = (fence: string) =>
    ask(
      `rules people { people may read (all), delete } rules hives { ${fence} }`,
      'delete',
      'people',
      person('ben'),
      {},
      { hives: [{ ...hive, keeper: 'ben' }] },
    );
  expect(lose('')).toBe('done');
  expect(lose('nobody may update (keeper)')).toBe('follows fenced');
  expect(lose('nobody may update (keeper) unless keeper is missing')).toBe('follows fenced');
  expect(lose('nobody may update (keeper) unless old.keeper is present')).toBe('done');
  expect(lose('nobody may update (size)'), 'another field').toBe('done');
  expect(lose('nobody may update unless size = 2')).toBe('follows fenced');
  expect(lose('nobody may delete'), 'it stays').toBe('done');
});

test('nobody’s own entry loses what rules read through “me”', () => {
  const rules = (more = '') =>
    `rules teams { people may read (all), delete ${more} } rules people { people may read (all) }`;
  const lose = (text: string, ...people: string[]) =>
    ask(text, 'delete', 'teams', { id: 't', name: 'a' }, {}, { people: people.map(person) });
  const reading = rules('when me.team is present or name = "a"');
  expect(lose(reading, 'ben')).toBe('done');
  expect(lose(reading, 'ben', 'ada')).toBe('follows fenced');
  expect(lose(rules(), 'ada'), 'which no rule reads').toBe('done');
});

test('stamps on one’s own entry raise nobody, and two that differ are none', () => {
  const raise = (id: string) =>
    ask(
      'rules people { people may read (all)  people may update (name) stamp grade = 9  people may update (email) when me.grade > 2 }',
      'update',
      'people',
      person(id),
      { name: 'x' },
    );
  expect(raise('ada')).toBe('own record grade');
  expect(raise('ben')).toMatchObject({ name: 'x', grade: 9, updated_at: NOW });
  const stamped = (...stamps: string[]) =>
    ask(
      `rules hives { people may read (all) ${stamps.map((stamp) => `people may update (code) stamp ${stamp}`).join(' ')} }`,
      'update',
      'hives',
      hive,
      { code: 'x' },
    );
  expect(stamped('size = 2', 'status = "kept"')).toMatchObject({ size: 2, status: 'kept' });
  expect(stamped('size = 2', 'size = 2')).toMatchObject({ size: 2 });
  expect(stamped('size = 2', 'size = 3')).toBe('stamps differ size');
});

test('a rule that stamps and is not true for its own stamps lets nobody do what another would', () => {
  const rules = (more: string) =>
    `rules hives { people may read (all)  people may update (code) when new.size = 5 stamp size = 1 ${more} }`;
  expect(ask(rules(''), 'update', 'hives', { ...hive, size: 5 }, { code: 'x' })).toBe('no rule code');
  expect(
    ask(
      rules('people may update (code) when new.size = 5'),
      'update',
      'hives',
      { ...hive, size: 5 },
      { code: 'x' },
    ),
  ).toMatchObject({ code: 'x', size: 5 });
});

test('a change of nothing needs a rule, and changes nothing, not even its time', () => {
  const before = { ...hive, updated_at: '2026-01-01T00:00:00Z' };
  expect(ask(open, 'update', 'hives', before)).toEqual(before);
  expect(ask('rules hives { people may read (all) }', 'update', 'hives', before)).toBe('no rule');
  expect(
    ask(
      'rules hives { people may read (all)  people may update (all) when size = 2 }',
      'update',
      'hives',
      before,
    ),
  ).toBe('no rule');
});

test('an action with a parameter that is left out sets nothing into it', () => {
  expect(ask(open, 'sign', 'hives', { ...hive, size: 7 })).toMatchObject({ size: null });
});

test('two rules that would make the same record are one; two that would not, are none', () => {
  const make = (rules: string, values: Record<string, Value> = { code: 'x' }) =>
    ask(`rules hives { ${rules} }`, 'create', 'hives', null, values);
  expect(make('people may create (code)')).toMatchObject({
    code: 'x',
    size: 1,
    seen: NOW,
    status: 'new',
    keeper: null,
  });
  expect(
    make('people may create (code) people may create (code) stamp size = 1'),
    'the default',
  ).toMatchObject({ size: 1 });
  expect(make('people may create (code) people may create (code) stamp size = 2')).toBe('unclear');
  expect(make('people may create (code) when size = 1 people may create (code) stamp size = 2')).toBe(
    'unclear',
  );
  expect(
    make('people may create (code) when size = 3 people may create (code) stamp size = 2'),
  ).toMatchObject({ size: 2 });
  expect(
    make('people may create (code) people may create (code, size) stamp keeper = me', { code: 'x', size: 4 }),
  ).toMatchObject({ size: 4, keeper: 'ada' });
});

test('what is refused by name is refused first: a field that is filled in, and a fence that nobody passes', () => {
  const make = (rules: string, values: Record<string, Value>) =>
    ask(`rules hives { ${rules} }`, 'create', 'hives', null, values);
  expect(make('people may create (code) stamp size = 2', { size: 3 })).toBe('not covered size');
  expect(make('people may create (code, size) nobody may create (size)', { code: 'x', size: 3 })).toBe(
    'not covered size',
  );
  expect(make('people may create (code, team) nobody may create', { team: 'nowhere' })).toBe('no rule');
  expect(make('people may create (code, team)', { team: 'nowhere' })).toBe('reference not readable team');
  expect(
    make('people may create (code, size) nobody may create (size) unless size < 3', { code: 'x', size: 3 }),
  ).toBe('no rule');
});

test('what must have a value is not emptied, and only that', () => {
  const visit = { id: 'v', title: 'x', hive: null, created_at: NOW, updated_at: NOW };
  const empty = (values: Record<string, Value>) =>
    ask('rules visits { people may read (all), update (all) }', 'update', 'visits', visit, values);
  expect(empty({ title: null })).toBe('value required title');
  expect([empty({ hive: null }), empty({ title: 'y' })]).toMatchObject([{ title: 'x' }, { title: 'y' }]);
});

test('what goes along by one field loses nothing by another, in whichever order they stand', () => {
  const take = (visit: RecordValues) =>
    ask(
      'rules hives { people may read (all), delete } rules visits { nobody may update }',
      'delete',
      'hives',
      hive,
      {},
      {
        visits: [{ id: 'v', title: 'x', ...visit }],
      },
    );
  expect(take({ hive: 'h', next: 'h' })).toBe('done');
  expect(take({ hive: null, next: 'h' })).toBe('follows fenced');
});
