import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { Decider, type World } from '../../src/core/evaluate/decider.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { Slot, sql, value } from '../../src/core/sql/fragment.ts';
import { SAID, singleWrite } from '../../src/core/sql/single.ts';
import { insertSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import { JsonDocument, JsonPatch, type Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { createOf } from '../../src/store/records/create.ts';
import { deleteOf } from '../../src/store/records/delete.ts';
import { fullRecord } from '../../src/store/records/full.ts';
import { writtenAtOnce, type Guess, type Write } from '../../src/store/records/single.ts';
import { actionOf, updateOf } from '../../src/store/records/update.ts';
import { tallies } from '../../src/store/tallies.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/**
 * Writes in one trip, each by a rulebook of its own: what comes of it is written down, and the decider says the same. A write that is not
 * made in one trip is asked about step by step, so whether it is tried at all is written down as well.
 */
const schema = `
people { grade integer  boss ref people  level integer }
collection yards { name text label  up ref yards  tree by up }
collection hives {
  code text label  note text up to 20  size integer = 1  weight decimal  state one of ("new", "open", "shut") = "new"
  keeper ref people  yard ref yards  partner ref hives  more json
}
collection visits { hive ref hives required  open boolean }
collection rests { hive ref hives on delete clear  open boolean }
collection logs { code text label  hive ref hives on delete remove  open boolean }
role keeper
role lead
action shut on hives (why text) sets state = "shut", note = why
action grow on hives sets size = 9
action lend on hives (whom ref people required) sets keeper = whom
accept people feeds yards because "It is what is tried here"
rules yards { people may read (all) when name = "east" or name = "far" or me.grade > 8 }
rules visits { people may read (all) }
rules logs { people may read (all) }
`;
const id = (name: string) => `00000000-0000-7000-8000-${Buffer.from(name).toString('hex').padStart(12, '0')}`;
const moments = { created_at: NOW, updated_at: NOW };
const empty: RecordValues = {
  code: null,
  note: null,
  size: null,
  weight: null,
  state: 'new',
  keeper: null,
  yard: null,
  partner: null,
  more: null,
};
const hive = (name: string, more: RecordValues) => ({
  id: id(name),
  ...empty,
  code: name,
  ...more,
  ...moments,
});
const stored: Record<string, readonly (RecordValues & { id: string })[]> = {
  people: [
    { id: id('ada'), name: 'Ada', email: null, grade: 3, boss: id('ben'), level: 1, ...moments },
    {
      id: id('ben'),
      name: 'Ben',
      email: 'ben@hollowoak.example',
      grade: null,
      boss: null,
      level: 2,
      ...moments,
    },
  ],
  yards: [
    { id: id('top'), name: 'top', up: null, ...moments },
    { id: id('east'), name: 'east', up: id('top'), ...moments },
    { id: id('far'), name: 'far', up: null, ...moments },
  ],
  hives: [
    hive('a', { size: 1, weight: '1.50', keeper: id('ada'), yard: id('east'), note: 'n', partner: id('a') }),
    hive('b', { size: 2, weight: '2', keeper: id('ben'), yard: id('top'), state: 'open', partner: id('a') }),
    hive('c', { size: 7, state: 'shut', more: new JsonDocument({ a: 1, b: 2 }) }),
    hive('d', { size: 2, keeper: id('ada'), partner: id('b') }),
  ],
  visits: [
    { id: id('v1'), hive: id('a'), open: true, ...moments },
    { id: id('v2'), hive: id('b'), open: false, ...moments },
  ],
  rests: [],
  logs: [
    { id: id('l1'), code: 'l1', hive: id('c'), open: true, ...moments },
    { id: id('l2'), code: 'l2', hive: id('c'), open: true, ...moments },
  ],
};
let own: OwnDatabase;
const base = parse(schema);

beforeAll(async () => {
  own = await ownDatabase();
  await migrate(own.database);
  await publish(own.database, base, atTheMachine('test'));
});
afterAll(() => own.drop());

async function putBack(): Promise<void> {
  await own.database.transaction(async (on) => {
    await run(on, sql`set constraints all deferred`);
    await run(on, sql`delete from gate.shares`);
    for (const name of Object.keys(stored).toReversed())
      await run(on, { text: `delete from records.${name}`, values: [] });
    for (const [name, all] of Object.entries(stored))
      for (const each of all)
        await run(on, insertSql(collectionOf(base.schema, name), new Map(Object.entries(each))));
  });
}
beforeEach(putBack);

const world: World = {
  now: NOW,
  look: (name, key) => stored[name]!.find((each) => each.id === key) ?? null,
  all: (name) => stored[name]!,
};
const ada = (...roles: string[]): Caller => ({
  person: { id: id('ada'), values: stored.people![0]! },
  roles: new Set(roles),
});

/** Says of whoever asks that it is they, as long as it is. */
function guessOf(access: Access, told = 'it is she'): Guess & { readonly marks: string[] } {
  const marks: string[] = [];
  return {
    access,
    asking: sql`select set_config(${value(SAID)}, ${value(told)}, true) as _said`,
    said: 'it is she',
    wasWrong: () => marks.push('wrong'),
    wasRight: () => marks.push('right'),
    marks,
  };
}

interface Asked {
  readonly operation: string;
  readonly name: string;
  readonly values: Readonly<Record<string, Value>>;
}

function writeOf(rulebook: Rulebook, { operation, name, values }: Asked, collection = 'hives'): Write {
  const given = ([field, each]: [string, Value]): [string, Value] => [
    field,
    each !== null && typeof each === 'object' ? new JsonPatch(each) : each,
  ];
  const supplied = new Map(Object.entries(values).map(given));
  if (operation === 'create') return createOf(rulebook, collection, supplied);
  if (operation === 'update') return updateOf(rulebook, collection, id(name), supplied);
  if (operation === 'delete') return deleteOf(rulebook, collection, id(name));
  const action = [...rulebook.actions.values()].find((each) => each.name === operation)!;
  return actionOf(rulebook, action, id(name), supplied);
}

const rows = async (collection: string): Promise<Record<string, unknown>[]> =>
  run(own.database, { text: `select * from records.${collection} order by id`, values: [] });

/** `made`, with what the caller sees of it; `not made`, though it was tried; or `in steps`, as it was not tried. */
async function comesOf(rulebook: Rulebook, write: Write, caller: Caller) {
  const guess = guessOf(new Access(rulebook, caller, NOW));
  const before = { ...tallies.guesses, made: tallies.writes.atOnce };
  const written = await writtenAtOnce(own.database, guess, write);
  const tried = tallies.guesses.right > before.right || tallies.guesses.wrong > before.wrong;
  expect(guess.marks).toEqual(written === null ? [] : ['right']);
  expect(tallies.writes.atOnce - before.made).toBe(written === null ? 0 : 1);
  return { way: written !== null ? 'made' : tried ? 'not made' : 'in steps', written };
}

/**
 * The rules of hives; under them what ada asks, and what comes of it: the fields as they are then, of those that she sees, or that she does
 * not see it. `@a` is the id that goes by that name.
 */
const table = `
people may read (all)  people may update (note) when keeper = me
  update a {"note":"x"} → made {"note":"x","size":1}
  update b {"note":"x"} → not made
  update none {"note":"x"} → not made
people may read (all)  keeper may update (note)
  update a {"note":"x"} → in steps
people may read (all), update (note)
  update a {"note":"x","size":2} → in steps
  update a {} → in steps
  update a {"note":null} → made {"note":null}
  update a {"note":"20 characters at most"} → in steps
  update a {"note":"20 characters, it is"} → made {"note":"20 characters, it is"}
people may read (all) when size = 1  people may update (note)
  update a {"note":"x"} → made {"note":"x"}
  update b {"note":"x"} → not made
people may read (all), update (note)  nobody may read unless size = 1
  update a {"note":"x"} → made {"note":"x"}
  update b {"note":"x"} → not made
people may read (all)  people may update (size) when size < 5
  update a {"size":4} → made {"size":4}
  update a {"size":5} → not made
  update c {"size":4} → not made
people may read (all)  people may update (size) when old.size < 5
  update a {"size":5} → made {"size":5}
  update c {"size":4} → not made
people may read (all)  people may update (size) when new.size < 5
  update c {"size":4} → made {"size":4}
  update c {"size":8} → not made
people may read (all)  people may update (size) when new.size > old.size
  update a {"size":2} → made {"size":2}
  update a {"size":0} → not made
people may read (all)  people may update (state) when old.state = "new" and new.state = "open"
  update a {"state":"open"} → made {"state":"open"}
  update a {"state":"shut"} → not made
  update b {"state":"open"} → not made
people may read (all)  people may update (note) when keeper = me  people may update (note) when size = 2
  update b {"note":"x"} → made {"note":"x"}
  update a {"note":"x"} → made {"note":"x"}
  update c {"note":"x"} → not made
people may read (all)  people may update (note) when keeper = me  people may update (size) when size < 5
  update a {"note":"x","size":4} → made {"note":"x","size":4}
  update a {"note":"x","size":6} → not made
  update b {"note":"x","size":4} → not made
people may read (all), update (note)  nobody may update unless keeper = me
  update a {"note":"x"} → made {"note":"x"}
  update b {"note":"x"} → not made
  update c {"note":"x"} → not made
people may read (all), update (note, size)  nobody but keeper may update (note) unless size = 1
  update b {"note":"x"} → not made
  update b {"size":3} → made {"size":3}
people may read (all) when size < 5  people may update (size)
  update a {"size":9} → made null
people may read (code, size)  people may read (note) when size < 5  people may update (size)
  update a {"size":9} → made {"code":"a","size":9}
  update a {"size":4} → made {"code":"a","size":4,"note":"n"}
people may read (all)  people may update (note) stamp keeper = me
  update b {"note":"x"} → made {"note":"x","keeper":"@ada"}
people may read (all)  people may update (note) when new.keeper = me stamp keeper = me
  update b {"note":"x"} → made {"note":"x","keeper":"@ada"}
people may read (all)  people may update (note) when keeper is missing stamp keeper = me
  update c {"note":"x"} → not made
people may read (all)  people may update (note) stamp size = me.grade
  update b {"note":"x"} → made {"size":3}
people may read (all)  people may update (note) stamp keeper = me.boss.boss
  update b {"note":"x"} → in steps
people may read (all)  people may update (size) stamp note = me.name
  update b {"size":3} → in steps
people may read (all), update (yard, partner)
  update b {"yard":"@east"} → made {"yard":"@east"}
  update a {"yard":"@top"} → not made
  update a {"yard":"@none"} → not made
  update a {"yard":null} → made {"yard":null}
  update a {"partner":"@c"} → made {"partner":"@c"}
  update a {"partner":"@none"} → in steps
  update a {"partner":"@b","yard":"@top"} → not made
people may read (all)  people may update (note) when yard.name = "east"
  update a {"note":"x"} → made {"note":"x"}
  update b {"note":"x"} → not made
people may read (all)  people may update (yard) when yard.name = "east"
  update a {"yard":"@far"} → not made
people may read (all)  people may update (yard) when old.yard.name = "east"
  update a {"yard":"@far"} → made {"yard":"@far"}
people may read (all)  people may update (size) when partner.size > 0
  update a {"size":5} → made {"size":5}
  update a {"size":0} → not made
  update b {"size":0} → made {"size":0}
  update d {"size":0} → made {"size":0}
people may read (all)  people may update (size) when old.partner.size > 0
  update a {"size":0} → made {"size":0}
people may read (all)  people may update (size)  nobody may update unless new.partner.size > 0
  update a {"size":0} → not made
  update b {"size":0} → made {"size":0}
people may read (all)  people may update (size) when some v in visits has (v.hive = id and v.open)
  update a {"size":3} → in steps
people may read (all) when partner.size < 5  people may update (size)
  update a {"size":9} → made null
  update b {"size":9} → made {"size":9}
people may read (all), update (more)
  update c {"more":{"b":null,"c":3}} → made {"more":{"a":1,"c":3}}
  update c {"more":null} → made {"more":null}
people may read (all)  people may shut when keeper = me
  shut a {"why":"cold"} → made {"state":"shut","note":"cold"}
  shut a {"why":null} → made {"state":"shut","note":null}
  shut a {"why":"20 characters at most"} → in steps
  shut b {"why":"cold"} → not made
people may read (all)  people may shut when old.state = "new" and new.state = "shut"
  shut a {"why":null} → made {"state":"shut"}
  shut b {"why":null} → not made
people may read (all)  people may grow  nobody may update (size) unless new.size < 5
  grow a {} → not made
people may read (all)  people may grow  nobody may update (note) unless new.size < 5
  grow a {} → made {"size":9}
people may read (all)  people may lend when old.keeper = me
  lend a {"whom":"@ada"} → made {"keeper":"@ada"}
  lend a {"whom":"@ben"} → not made
  lend b {"whom":"@ada"} → not made
people may read (all)  people may create (code, keeper) when keeper = me
  create {"code":"e","keeper":"@ada"} → made {"code":"e","keeper":"@ada","size":1,"state":"new"}
  create {"code":"e"} → not made
people may read (all)  people may create (code, size) when size < 5
  create {"code":"e","size":4} → made {"size":4}
  create {"code":"e","size":5} → not made
  create {"code":"e"} → made {"size":1}
people may read (all), create (code, note)  nobody may create unless code starts with "e"
  create {"code":"e"} → made {"code":"e"}
  create {"code":"f"} → not made
  create {"code":"e","note":"20 characters at most"} → in steps
people may read (all), create (code, yard)
  create {"code":"e","yard":"@east"} → made {"yard":"@east"}
  create {"code":"e","yard":"@top"} → not made
people may read (all)  people may create (code, partner) when partner.size = 2
  create {"code":"e","partner":"@b"} → made {"partner":"@b"}
  create {"code":"e","partner":"@a"} → not made
people may read (all)  people may create (code) stamp state = "open", size = 3
  create {"code":"e"} → made {"code":"e","state":"open","size":3}
people may read (all)  people may create (code) stamp keeper = me.boss
  create {"code":"e"} → made {"code":"e","keeper":"@ben"}
people may read (all)  people may create (code) stamp keeper = me.boss.boss
  create {"code":"e"} → in steps
people may read (all)  people may create (code) when keeper = me stamp keeper = me
  create {"code":"e"} → made {"keeper":"@ada"}
people may read (all) when size > 1  people may create (code, size)
  create {"code":"e"} → made null
people may read (all) when partner.size = 1  people may create (code, partner)
  create {"code":"e","partner":"@a"} → made {"partner":"@a"}
`;
const line = /^ {2}(\w+)(?: (\w+))? (\{.*\}) → (made|not made|in steps)(?: (.*))?$/;
let under = '';
const cases = table.split('\n').flatMap((text) => {
  if (!text.startsWith(' ')) {
    under = text;
    return [];
  }
  const [, operation, name, values, way, seen] = line.exec(text)!;
  const read = (json: string) =>
    JSON.parse(json, (_, each) =>
      typeof each === 'string' && each.startsWith('@') ? id(each.slice(1)) : each,
    );
  return [
    [
      under,
      text.trim(),
      { operation: operation!, name: name ?? '', values: read(values!) },
      way!,
      seen && read(seen),
    ],
  ] as const;
});

test.each(cases)('“%s”: %s', async (rules, _, asked, way, seen) => {
  const rulebook = parse(
    `${schema} rules people { people may read (all) when id = me } rules hives { ${rules} }`,
  );
  const write = writeOf(rulebook, asked);
  const { operation, id: key, supplied } = write;
  const caller = ada('lead');
  const before = await rows('hives');
  const { way: came, written } = await comesOf(rulebook, write, caller);
  expect(came).toBe(way);
  const now = await rows('hives');
  // Nothing but that one record.
  const others = (all: typeof now) => all.filter((each) => way !== 'made' || each.id !== key);
  expect(others(now)).toEqual(others(before));
  if (way === 'in steps') return;
  const record = world.look('hives', key);
  const decided =
    record !== null || operation === 'create'
      ? new Decider(rulebook, caller, world).decide({
          operation,
          collection: 'hives',
          record,
          values: supplied,
        })
      : null;
  expect(decided?.allowed ?? false, 'the decider').toBe(way === 'made');
  if (way !== 'made') return;
  const after = await fullRecord(own.database, new Access(rulebook, caller, NOW), 'hives', key);
  const plainly = (values: Iterable<readonly [string, Value]>): Record<string, unknown> =>
    Object.fromEntries(
      [...values]
        .filter(([name]) => !['id', 'created_at', 'updated_at'].includes(name))
        .map(([name, each]) => [name, each instanceof JsonDocument ? each.json : each]),
    );
  const became = plainly(Object.entries(after!));
  // What a patch makes of a value no condition asks, and so the decider does not work it out.
  const merged = supplied.get('more') instanceof JsonPatch ? { more: seen.more } : {};
  expect(became).toEqual({ ...plainly(Object.entries(decided!.after!)), ...merged });
  if (seen === null) return expect(written!.record).toBe(null);
  const { shown, withheld, id: answered } = written!.record!;
  expect(answered).toBe(key);
  expect(plainly(shown)).toMatchObject(seen);
  // What she does not see is told to be withheld, and not in the answer.
  const { fields } = collectionOf(rulebook.schema, 'hives');
  expect([...shown.keys(), ...withheld].toSorted()).toEqual([...fields.keys()].toSorted());
});

const told = (rules: string) => parse(`${schema} ${rules}`);
const here = async (collection: string) => (await rows(collection)).map((each) => each.id);

test('a deletion is made where its rules hold and nothing points at the record, and its shares go along', async () => {
  const rulebook = told(
    'rules hives { people may read (all) } rules logs { people may read (all), delete when code = "l1"  people may share  nobody may delete unless open } rules yards { people may delete } rules visits { people may delete when not open }',
  );
  const share = (name: string) =>
    run(
      own.database,
      sql`insert into gate.shares (id, collection, record, operations, sharer, audience) values (gen_random_uuid(), 'logs', ${value(id(name))}::uuid, array['read'], ${value(id('ada'))}::uuid, 'everybody')`,
    );
  const shared = () => run(own.database, sql`select record from gate.shares`);
  const away = async (name: string, collection: string) =>
    (await comesOf(rulebook, writeOf(rulebook, { operation: 'delete', name, values: {} }, collection), ada()))
      .way;
  await share('l1');
  await share('l2');
  // Its fence holds for the one, its rule for the other.
  expect([await away('l2', 'logs'), await away('none', 'logs')]).toEqual(['not made', 'not made']);
  await run(own.database, sql`update records.logs set open = null where code = 'l1'`);
  expect(await away('l1', 'logs')).toBe('not made');
  expect([await here('logs'), await shared()]).toEqual([
    [id('l1'), id('l2')],
    [{ record: id('l1') }, { record: id('l2') }],
  ]);
  await run(own.database, sql`update records.logs set open = true`);
  expect(await away('l1', 'logs')).toBe('made');
  expect([await here('logs'), await shared()]).toEqual([[id('l2')], [{ record: id('l2') }]]);
  // Of what cannot be shared nothing is forgotten, and what is pointed at, or has followers, is asked about step by step.
  expect([await away('v2', 'visits'), await away('v1', 'visits')]).toEqual(['made', 'not made']);
  expect(await here('visits')).toEqual([id('v1')]);
  expect([await away('east', 'yards'), await away('far', 'yards')]).toEqual(['in steps', 'made']);
  expect(await away('d', 'hives')).toBe('in steps');
});

test('nothing is written as somebody who is not that one any more', async () => {
  const rulebook = told(
    'rules hives { people may read (all), create (code), update (note) } rules visits { people may read (all), delete }',
  );
  for (const [asked, collection] of [
    [{ operation: 'create', name: '', values: { code: 'e' } }, 'hives'],
    [{ operation: 'update', name: 'a', values: { note: 'x' } }, 'hives'],
    [{ operation: 'delete', name: 'v1', values: {} }, 'visits'],
  ] as const) {
    const before = await rows(collection);
    const guess = guessOf(new Access(rulebook, ada(), NOW), 'it is somebody else');
    const { wrong } = tallies.guesses;
    expect(await writtenAtOnce(own.database, guess, writeOf(rulebook, asked, collection))).toBe(null);
    expect([guess.marks, tallies.guesses.wrong - wrong]).toEqual([['wrong'], 1]);
    expect(await rows(collection)).toEqual(before);
  }
});

test('what decides about whoever calls is not changed in one trip on their own entry, and an address stays as sure as it was', async () => {
  const rulebook = told(
    'rules people { people may read (all), update (name, grade, email), create (email, name) }',
  );
  const changed = async (name: string, values: Record<string, Value>) =>
    (await comesOf(rulebook, writeOf(rulebook, { operation: 'update', name, values }, 'people'), ada())).way;
  expect([await changed('ada', { name: 'A' }), await changed('ada', { grade: 9 })]).toEqual([
    'made',
    'in steps',
  ]);
  expect(await changed('ben', { grade: 9 })).toBe('made');
  const sure = async (name: string) => {
    const { email, _email_verified, _email_claimed } = (await rows('people')).find(
      (each) => each.id === id(name),
    )!;
    return [email, _email_verified, _email_claimed];
  };
  const verify = sql`update records.people set _email_verified = true, _email_claimed = false where id = ${value(id('ben'))}::uuid`;
  // Put in as it is, an address is claimed, and where there is none nothing is.
  expect([await sure('ben'), await sure('ada')]).toEqual([
    ['ben@hollowoak.example', false, true],
    [null, false, false],
  ]);
  await run(own.database, verify);
  await changed('ben', { name: 'B' });
  expect(await sure('ben')).toEqual(['ben@hollowoak.example', true, false]);
  await changed('ben', { email: 'ben@hollowoak.example' });
  expect(await sure('ben')).toEqual(['ben@hollowoak.example', true, false]);
  await changed('ben', { email: 'b@hollowoak.example' });
  expect(await sure('ben')).toEqual(['b@hollowoak.example', false, true]);
  await run(own.database, verify);
  await changed('ben', { email: null });
  expect(await sure('ben')).toEqual([null, false, false]);
  for (const [values, claimed] of [
    [{ name: 'Cid', email: 'cid@hollowoak.example' }, true],
    [{ name: 'Dot', email: null }, false],
    [{ name: 'Eva' }, false],
  ] as const) {
    const write = createOf(rulebook, 'people', new Map<string, Value>(Object.entries(values)));
    expect((await comesOf(rulebook, write, ada())).way).toBe('made');
    const made = (await rows('people')).find((each) => each.id === write.id)!;
    expect([made.name, made.email, made._email_claimed]).toEqual([
      values.name,
      values.email ?? null,
      claimed,
    ]);
  }
});

test('a record is not changed in one statement where it is not stored by the names of the rulebook', () => {
  const needs = { formulas: [], references: [] };
  const made = (rulebook: Rulebook) =>
    singleWrite(
      new Access(rulebook, ada(), NOW),
      'hives',
      new Slot('given', ' id'),
      needs,
      { kind: 'none' },
      true,
    );
  const kept = (hives: object): Rulebook => {
    const collection = { ...collectionOf(base.schema, 'hives'), ...hives };
    return { ...base, schema: new Map([...base.schema, ['hives', collection]]) };
  };
  const { fields } = collectionOf(base.schema, 'hives');
  expect(made(base)).not.toBe(null);
  // Where nothing can be shared, no share is to be forgotten.
  const sharing = (rules: string) => {
    const rulebook = parse(`${schema} rules hives { people may read (all), delete  ${rules} }`);
    return made(rulebook)?.afterwards === null;
  };
  expect([sharing(''), sharing('people may share')]).toEqual([true, false]);
  expect(made(kept({ table: null }))).toBe(null);
  expect(
    made(kept({ fields: new Map([...fields, ['note', { ...fields.get('note')!, column: 'remark' }]]) })),
  ).toBe(null);
});
