import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { compilePredicate } from '../../src/core/evaluate/closures.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import { Access, MomentNotKnown } from '../../src/core/sql/access.ts';
import { conditionSql, leadsUpSql, operandSql } from '../../src/core/sql/conditions.ts';
import { mayRunEarly } from '../../src/core/sql/early.ts';
import { Slot, commaList, sql, value, type Fragment } from '../../src/core/sql/fragment.ts';
import { asRecordKey, identifier, ownKey, ownKeys, recordKey } from '../../src/core/sql/identifiers.ts';
import { convertingIn, relation } from '../../src/core/sql/relations.ts';
import { clearSql, referrersSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import { run } from '../../src/store/connection.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { schema } from '../decide/truths.ts';
import type { OwnDatabase } from '../support/database.ts';
import { ada, idOf, names, rulebook, storedTruths } from './stored-truths.ts';

/** Statements and parts of them that larger questions are made of, each by itself. */
let own: OwnDatabase;
beforeAll(async () => {
  own = await storedTruths();
});
afterAll(() => own.drop());

const shortOf = (id: string) => [...names].find(([, of]) => of === id)![0];
const visitor: Caller = { person: null, roles: new Set() };

test('the moment of a call is told as soon as it is known, and asked for in vain before', () => {
  let moment: string | null = null;
  const access = new Access(rulebook, ada(), () => moment);
  expect(() => access.now).toThrow(MomentNotKnown);
  expect([access.valueOf(new Slot('now')), access.valueOf(new Slot('today'))]).toEqual([null, null]);
  moment = NOW;
  expect(access.now).toBe(NOW);
  expect([access.valueOf(new Slot('now')), access.valueOf(new Slot('today'))]).toEqual([NOW, '2026-05-01']);
  expect(access.valueOf(new Slot('me', 'age'))).toBe(30);
  expect(new Access(rulebook, visitor, NOW).valueOf(new Slot('me', 'age'))).toBe(null);
  expect(access.valueOf(new Slot('after', '1'), ['a', 'b'])).toBe('b');
  for (const of of ['given', 'said'] as const)
    expect(() => access.valueOf(new Slot(of, 'x'))).toThrow('the write fills itself');
});

test('what is constant runs early, and what is missing is missing in its type', async () => {
  const access = new Access(rulebook, ada(), NOW);
  expect(mayRunEarly({ kind: 'constant', value: true }, access)).toBe(true);
  const nothing = operandSql({ kind: 'nothing', type: { kind: 'decimal' } }, access.around('r', new Set()));
  const asked = sql`select (${nothing}) is null as missing, pg_typeof(${nothing})::text as type`;
  expect(await run(own.database, asked)).toEqual([{ missing: true, type: 'numeric' }]);
});

test('a visitor has no entry among people, and all others have one', async () => {
  const others = async (caller: Caller) => {
    const mine = new Access(rulebook, caller, NOW).nodeSql({ kind: 'not own record' }, 'r');
    const rows = await run<{ id: string }>(
      own.database,
      sql`select r.id from records.people as r where ${mine} order by r.id`,
    );
    return rows.map(({ id }) => shortOf(id));
  };
  expect([await others(visitor), await others(ada())]).toEqual([['ada', 'ben'], ['ben']]);
});

test('up a tree it is found what lies above, and no more, also where it goes round', async () => {
  const leads = async (from: string, to: string) => {
    const asked = leadsUpSql(relation(rulebook.schema, 'yards'), 'up', idOf(from), idOf(to));
    return (await run<{ found: boolean }>(own.database, asked))[0]!.found;
  };
  expect([await leads('shed', 'top'), await leads('shed', 'shed'), await leads('top', 'shed')]).toEqual([
    true,
    true,
    false,
  ]);
  expect([await leads('a', 'b'), await leads('a', 'top')]).toEqual([true, false]);
});

test('what points at a record is found, as much as is asked for, and cleared of that alone', async () => {
  const hives = ['h', 'h4'].map(idOf);
  const referrers = async (most: number) =>
    (
      await run<{ id: string }>(own.database, referrersSql(rulebook.schema, 'visits', 'hive', hives, most))
    ).map(({ id }) => shortOf(id));
  expect([await referrers(10), await referrers(3)]).toEqual([
    ['v1', 'v2', 'v5', 'v6'],
    ['v1', 'v2', 'v5'],
  ]);
  const visits = collectionOf(rulebook.schema, 'visits');
  const back = new Error('taken back');
  const clearing = own.database.transaction(async (on) => {
    const ids = ['v1', 'v5', 'v7'].map(idOf);
    await run(on, clearSql(visits, visits.fields.get('hive')!, ids, hives, '2026-05-02T00:00:00Z'));
    const rows = await run<{ code: string; hive: string | null; updated_at: string }>(
      on,
      sql`select code, hive, updated_at from records.visits order by code`,
    );
    const cleared = rows.filter(({ hive }) => hive === null).map(({ code }) => code);
    expect(cleared).toEqual(['v1', 'v5']);
    const changed = rows.filter((row) => !String(row.updated_at).startsWith('2026-05-01'));
    expect(changed.map(({ code }) => code)).toEqual(['v1', 'v5']);
    throw back;
  });
  await expect(clearing).rejects.toBe(back);
});

test('of few records that can be read, and of all, some and count say the same as the closures', async () => {
  const rules = parse(`${schema} rules visits { people may read (all) when open }`);
  const access = new Access(rules, ada(), NOW);
  const around = access.around('r', new Set());
  const all = await run<RecordValues & { id: string }>(
    own.database,
    sql`select * from records.visits order by id`,
  );
  const of = (text: string): Condition => {
    const checked = checkFilter(text, 'visits', rules);
    if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
    return inside(checked.condition);
  };
  const integer = { kind: 'integer' } as const;
  const asked = [
    'code = "v1"',
    'code = "v2"',
    'n = 0',
    'n = 1',
    'n is missing',
    'open',
    'not open',
    'n > 0 or open',
  ];
  const columns: Fragment[] = [];
  const expected: (boolean | number | null)[] = [];
  const add = (condition: Condition, few: number | undefined) => {
    for (const precision of ['true', 'false', 'exact'] as const) {
      columns.push(sql`(${conditionSql(condition, around, precision)})::text`);
      const open = all.filter((each) => few === undefined || each.open === true);
      const truth = compilePredicate(withoutFew(condition))(
        {},
        { caller: ada(), roles: new Set(), now: NOW, look: () => null, all: () => open, may: () => false },
      );
      // Where only true counts, or only false, the other two are not told apart.
      expected.push(precision === 'true' ? truth === true : precision === 'false' ? truth !== false : truth);
    }
  };
  for (const few of [undefined, 8])
    for (const text of asked) {
      const range = { collection: 'visits', depth: 1, ...(few === undefined ? {} : { few }) };
      add({ kind: 'some', range, body: of(text) }, few);
      add({ kind: 'not', operand: { kind: 'some', range, body: of(text) } }, few);
    }
  const rows = await run<Record<string, string | null>>(
    own.database,
    sql`select ${commaList(columns.map((each, index) => sql`${each} as ${identifier(`c${index}`)}`))}`,
  );
  const told = columns.map((_, index) => rows[0]![`c${index}`]!);
  const read = (text: string | null, index: number) => {
    const [precision, truth] = [
      ['true', 'false', 'exact'][index % 3],
      text === null ? null : text === 'true',
    ];
    return precision === 'true' ? truth === true : precision === 'false' ? truth !== false : truth;
  };
  expect(told.map(read)).toEqual(expected);
  const count = async (few: number | undefined) => {
    const range = { collection: 'visits', depth: 1, ...(few === undefined ? {} : { few }) };
    const counted = {
      kind: 'count',
      range,
      where: of('open or not open or open is missing'),
      type: integer,
    } as const;
    const [row] = await run<Record<string, boolean>>(
      own.database,
      sql`select ${commaList(
        Array.from({ length: 10 }, (_, n) => {
          const equal = {
            kind: 'equal',
            left: counted,
            right: { kind: 'literal', value: n, type: integer },
          } as const;
          return sql`${conditionSql(equal, around)} as ${identifier(`n${n}`)}`;
        }),
      )}`,
    );
    return Object.values(row!).indexOf(true);
  };
  // Two are open, eight are there.
  expect([await count(8), await count(1), await count(undefined)]).toEqual([2, 1, 8]);
});

/** A condition on a record in hand, as one on the record of a quantifier. */
function inside(condition: Condition): Condition {
  return JSON.parse(JSON.stringify(condition).replaceAll('"root":"record"', '"root":1')) as Condition;
}

function withoutFew(condition: Condition): Condition {
  return JSON.parse(JSON.stringify(condition).replaceAll(/,"few":\d+/g, '')) as Condition;
}

test('keys are uuids wherever they come from, and a label is known where a collection has one', async () => {
  const id = idOf('v1');
  const keys = [recordKey(id), asRecordKey(value(id)), ownKey(id), sql`(${ownKeys([id])})[1]`];
  const [row] = await run<Record<string, string>>(
    own.database,
    sql`select ${commaList(keys.map((key, index) => sql`pg_typeof(${key})::text || ' ' || ${key}::text as ${identifier(`k${index}`)}`))}`,
  );
  expect(Object.values(row!)).toEqual(keys.map(() => `uuid ${id}`));
  const { schema: things } = parse('collection things { n integer }');
  expect(convertingIn(things, 'UTC').labelled('things')).toBe(null);
  const { labelled, timeZone } = convertingIn(rulebook.schema, 'Europe/Berlin');
  expect([timeZone, labelled('yards')?.label, labelled('people') === null]).toEqual([
    'Europe/Berlin',
    'name',
    false,
  ]);
});
