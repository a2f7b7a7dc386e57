import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter, checkRulebook } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import type { Meeting } from '../../src/core/decide/turns.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import type { ListQuestion } from '../../src/core/sql/list.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import { JsonPatch, type Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { type Asks, connect, run, runKept, type Executor } from '../../src/store/connection.ts';
import { rowsOf } from '../../src/store/batch.ts';
import { DatabaseUnavailable } from '../../src/store/failures.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { createRecord } from '../../src/store/records/create.ts';
import { deleteRecord } from '../../src/store/records/delete.ts';
import { done, refuse, type Outcome } from '../../src/store/records/outcome.ts';
import { listStatement } from '../../src/store/records/plans.ts';
import { countVisible, listRecords, readRecord, readRecords } from '../../src/store/records/read.ts';
import { inTurn } from '../../src/store/records/turns.ts';
import { actOn, updateRecord } from '../../src/store/records/update.ts';
import { refers, writing, type Writer } from '../../src/store/records/writing.ts';
import type { WireRow } from '../../src/store/wire.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** What the store does with a write besides deciding it, asked of PostgreSQL itself. */
const NOW = '2026-05-01T12:00:00Z';
const HIVES = 4_000;

let own: OwnDatabase;
let rulebook: Rulebook;
const id = (kind: number, at: number) =>
  `00000000-0000-7000-8${String(kind).padStart(3, '0')}-${String(at).padStart(12, '0')}`;
const person = (at: number, ...roles: string[]): Caller => ({
  person: {
    id: id(1, at),
    values: { id: id(1, at), name: null, email: null, yard: null, created_at: NOW, updated_at: NOW },
  },
  roles: new Set(roles),
});

beforeAll(async () => {
  own = await ownDatabase();
  const checked = checkRulebook([
    {
      name: 'writing.gate',
      text: `
      people { yard ref yards }
      action brand on hives (mark text) sets mark = mark
      role keeper
      role helper
      collection yards { name text required label  keeper ref people }
      collection hives { code text required label  tag text unique  keeper ref people  yard ref yards  size integer = 1  open boolean = false  next ref hives  mark text up to 5 }
      collection logs { code text label  hive ref hives required  place ref yards required }
      rules people { people may read (all) }
      rules yards { people may read (all), create (name), delete }
      rules hives {
        people may read (all) when keeper = me or yard.keeper = me or open
        helper may create (code, tag, mark), update (code, size, keeper, next, mark), delete, brand
        people may share when keeper = me
      }
      rules logs {
        people may read (all)
        helper may create (code, hive) stamp place = me.yard
        keeper may create (code, hive, place)
      }
    `,
    },
  ]);
  if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
  ({ rulebook } = checked);
  await migrate(own.database);
  await publish(own.database, rulebook, atTheMachine('test'));
  const fill = async (text: string) => run(own.database, { text, values: [] });
  await fill(
    `insert into records.people (id, created_at, updated_at) select ('00000000-0000-7000-8001-' || lpad(n::text, 12, '0'))::uuid, now(), now() from generate_series(1, 400) n`,
  );
  await fill(
    `insert into records.yards (id, name, keeper, created_at, updated_at) select ('00000000-0000-7000-8002-' || lpad(n::text, 12, '0'))::uuid, 'Y' || n, ('00000000-0000-7000-8001-' || lpad(n::text, 12, '0'))::uuid, now(), now() from generate_series(1, 400) n`,
  );
  await fill(
    `insert into records.hives (id, code, keeper, yard, size, open, created_at, updated_at) select ('00000000-0000-7000-8003-' || lpad(n::text, 12, '0'))::uuid, 'H' || n, ('00000000-0000-7000-8001-' || lpad((n % 400 + 1)::text, 12, '0'))::uuid, ('00000000-0000-7000-8002-' || lpad((n / 7 % 400 + 1)::text, 12, '0'))::uuid, n % 5, false, now(), now() from generate_series(1, ${HIVES}) n`,
  );
  await fill('analyze');
});
afterAll(() => own.drop());

const accessOf = (caller: Caller) => new Access(rulebook, caller, NOW);
/** Somebody who is asked anew, and turns out to be somebody else than was thought. */
const turnsOut = (before: Caller, now: Caller): Writer => ({
  rulebook,
  before,
  arrive: async () => accessOf(now),
});

/** How the transaction runs, and whether it holds a turn. */
async function howItRuns(on: Executor): Promise<string> {
  const [row] = await run<{ level: string; turn: boolean }>(
    on,
    sql`select current_setting('transaction_isolation') as level, exists (select 1 from pg_locks where locktype = 'advisory' and pid = pg_backend_pid()) as turn`,
  );
  return `${row!.level}${row!.turn ? ', in turn' : ''}`;
}

test('a write runs as strictly as whoever turns out to write needs it, and is begun anew only for more', async () => {
  const [plain, counting] = [person(1), person(1, 'keeper')];
  const needs = (caller: Caller): Meeting =>
    caller.roles.has('keeper')
      ? { kind: 'group', group: 'hives' }
      : caller.roles.has('helper')
        ? { kind: 'others', group: 'hives' }
        : { kind: 'alone' };
  const ways = async (who: Writer) => {
    const seen: string[] = [];
    const outcome = await writing(own.database, 'hives', new Map(), who, needs, async (on, access) => {
      seen.push(`${await howItRuns(on)} as ${[...access.caller.roles].join()}`);
      return done(null);
    });
    expect(outcome.ok).toBe(true);
    return seen;
  };
  expect(await ways(accessOf(plain))).toEqual(['read committed as ']);
  expect(await ways(accessOf(counting))).toEqual(['serializable, in turn as keeper']);
  expect(await ways(turnsOut(plain, plain))).toEqual(['read committed as ']);
  expect(await ways(turnsOut(plain, counting))).toEqual(['serializable, in turn as keeper']);
  expect(await ways(turnsOut(plain, person(1, 'helper')))).toEqual(['serializable as helper']);
  expect(await ways(turnsOut(person(1, 'helper'), counting))).toEqual(['serializable, in turn as keeper']);
  // Less is needed than was thought: what was begun is enough.
  expect(await ways(turnsOut(counting, plain))).toEqual(['serializable, in turn as ']);
});

test('writes that meet others at every attempt wait for their turn, and are given up only after many', async () => {
  const tries = async (meeting: Meeting, succeed: number) => {
    const seen: string[] = [];
    const outcome = writing(
      own.database,
      'hives',
      new Map(),
      accessOf(person(1)),
      () => meeting,
      async (on) => {
        seen.push(await howItRuns(on));
        if (seen.length < succeed)
          await run(on, sql`do $$ begin raise exception using errcode = '40001'; end $$`);
        return done(null);
      },
    ).then(
      ({ ok }) => ok,
      (error: unknown) => error,
    );
    return { ended: await outcome, seen };
  };
  const others = await tries({ kind: 'others', group: 'hives' }, 5);
  expect(others.ended).toBe(true);
  expect(others.seen).toEqual([
    ...Array.from({ length: 3 }, () => 'serializable'),
    'serializable, in turn',
    'serializable, in turn',
  ]);
  let runs = 0;
  const failing = writing(
    own.database,
    'hives',
    new Map(),
    accessOf(person(1)),
    () => ({ kind: 'others', group: 'hives' }),
    async () => {
      runs++;
      throw new RangeError('a mistake');
    },
  );
  await expect(failing).rejects.toThrow('a mistake');
  expect(runs).toBe(1);
  const alone = await tries({ kind: 'alone' }, Infinity);
  expect(alone.ended).toBeInstanceOf(DatabaseUnavailable);
  expect(alone.seen).toEqual(Array.from({ length: 12 }, () => 'read committed'));
  const group = await tries({ kind: 'group', group: 'hives' }, 2);
  expect([group.ended, group.seen]).toEqual([true, ['serializable, in turn', 'serializable, in turn']]);
});

test('within a transaction the work is part of it: no transaction of its own, no turn, and nothing tried again', async () => {
  const seen: unknown[] = [];
  const group = () => ({ kind: 'group', group: 'hives' }) as const;
  await own.database.transaction(async (on) => {
    const outcome = await writing(on, 'hives', new Map(), accessOf(person(1)), group, async (inner) => {
      seen.push(inner === on, await howItRuns(inner));
      return refuse({ kind: 'not found' });
    });
    expect(outcome).toEqual({ ok: false, refusal: { kind: 'not found' } });
  });
  expect(seen).toEqual([true, 'read committed']);
});

test('what is refused, or fails, leaves nothing behind', async () => {
  const write = (then: () => Outcome<null>) =>
    writing(
      own.database,
      'hives',
      new Map(),
      accessOf(person(1)),
      () => ({ kind: 'alone' }),
      async (on) => {
        await run(on, sql`update records.hives set size = 99 where code = 'H1'`);
        return then();
      },
    );
  const size = async () =>
    (await run<{ size: number }>(own.database, sql`select size from records.hives where code = 'H1'`))[0]!
      .size;
  expect(await write(() => refuse({ kind: 'not found' }))).toEqual({
    ok: false,
    refusal: { kind: 'not found' },
  });
  await expect(
    write(() => {
      throw new RangeError('a mistake');
    }),
  ).rejects.toThrow('a mistake');
  expect(await size()).toBe(1);
  expect((await write(() => done(null))).ok).toBe(true);
  expect(await size()).toBe(99);
});

test('what the database refuses is told by the caller’s own fields, and by no other', async () => {
  const helper = accessOf(person(1, 'helper'));
  const make = (access: Access, collection: string, values: Record<string, Value>) =>
    createRecord(own.database, access, collection, new Map(Object.entries(values)));
  const refusal = (outcome: Outcome<unknown>) => (outcome.ok ? 'done' : outcome.refusal);
  expect((await make(helper, 'hives', { code: 'T1', tag: 'red' })).ok).toBe(true);
  expect(refusal(await make(helper, 'hives', { code: 'T2', tag: 'red' }))).toEqual({
    kind: 'value taken',
    fields: ['tag'],
  });
  // The place is a stamp that is missing: it is not the caller's.
  expect(refusal(await make(helper, 'logs', { code: 'L0', hive: id(3, 1) }))).toMatchObject({
    kind: 'value required',
  });
  const keeper = accessOf(person(2, 'keeper'));
  const log = { code: 'L1', hive: id(3, 1), place: id(2, 1) };
  expect((await make(keeper, 'logs', log)).ok).toBe(true);
  expect(refusal(await deleteRecord(own.database, helper, 'yards', id(2, 1)))).toEqual({
    kind: 'still referenced',
  });
  // A reference that goes while it is written: named where the caller gave it, and not where the service did.
  const gone = (supplied: ReadonlyMap<string, Value>) =>
    writing(
      own.database,
      'logs',
      supplied,
      keeper,
      () => ({ kind: 'alone' }),
      async (on) => {
        await run(
          on,
          sql`insert into records.logs (id, code, hive, place, created_at, updated_at) values (${value(id(9, 1))}::uuid, 'L2', ${value(id(3, 2))}::uuid, ${value(id(7, 7))}::uuid, now(), now())`,
        );
        return done(null);
      },
    );
  expect(refusal(await gone(new Map([['place', id(7, 7)]])))).toEqual({
    kind: 'reference not found',
    fields: ['place'],
  });
  expect(refusal(await gone(new Map()))).toEqual({ kind: 'still referenced' });
  // A value that the service filled in is not named.
  const twice = (supplied: ReadonlyMap<string, Value>) =>
    writing(
      own.database,
      'hives',
      supplied,
      helper,
      () => ({ kind: 'alone' }),
      async (on) => {
        await run(on, sql`update records.hives set tag = 'red' where code = 'H1'`);
        return done(null);
      },
    );
  expect(refusal(await twice(new Map([['size', 1]])))).toEqual({ kind: 'value taken', fields: [] });
  expect(refusal(await twice(new Map([['tag', 'red']])))).toEqual({ kind: 'value taken', fields: ['tag'] });
  expect(
    refusal(
      await writing(
        own.database,
        'logs',
        new Map(),
        keeper,
        () => ({ kind: 'alone' }),
        async (on) => {
          await run(on, sql`update records.logs set place = null`);
          return done(null);
        },
      ),
    ),
  ).toEqual({ kind: 'value required', fields: ['place'] });
  await expect(
    writing(
      own.database,
      'logs',
      new Map(),
      keeper,
      () => ({ kind: 'alone' }),
      async (on) => {
        await run(on, sql`select 1 / 0`);
        return done(null);
      },
    ),
  ).rejects.toThrow(/division/);
});

test('what is longer than its field may be is named where the caller gave it as that field, and is never written', async () => {
  const helper = accessOf(person(1, 'helper'));
  const told = (outcome: Outcome<unknown>) => (outcome.ok ? 'done' : outcome.refusal);
  const mark = (text: string) => new Map([['mark', text]]);
  const tooLarge = (...fields: string[]) => ({ kind: 'value too large', fields });
  const brand = [...rulebook.actions.values()].find(({ name }) => name === 'brand')!;
  const hive = id(3, 400);
  for (const [text, create, update, act] of [
    ['short', 'done', 'done', 'done'],
    ['longer', tooLarge('mark'), tooLarge('mark'), tooLarge()],
  ] as const) {
    const made = await createRecord(own.database, helper, 'hives', new Map([['code', text], ...mark(text)]));
    expect(told(made)).toEqual(create);
    expect(told(await updateRecord(own.database, helper, 'hives', hive, mark(text)))).toEqual(update);
    expect(told(await actOn(own.database, helper, brand, hive, mark(text)))).toEqual(act);
  }
  const [row] = await run<{ mark: string }>(
    own.database,
    sql`select mark from records.hives where id = ${value(hive)}::uuid`,
  );
  expect(row!.mark).toBe('short');
});

test('more than 2,000 writes of one group are not let wait; and others are not held up by them', async () => {
  let release = () => {};
  let begin = () => {};
  const begun = new Promise<void>((resolve) => (begin = resolve));
  const first = inTurn(own.database, 'full', () => {
    begin();
    return new Promise<void>((resolve) => (release = resolve));
  });
  let ran = 0;
  const waiting = Array.from({ length: 1_999 }, () =>
    inTurn(own.database, 'full', async () => {
      ran++;
    }),
  );
  await expect(inTurn(own.database, 'full', async () => null)).rejects.toThrow(DatabaseUnavailable);
  expect(await inTurn(own.database, 'another', async () => 'done')).toBe('done');
  expect(ran).toBe(0);
  // Let go before it has begun, it would be held for ever.
  await begun;
  release();
  await first;
  // Whoever fails holds up nobody; and there is room again.
  await expect(
    inTurn(own.database, 'full', () => Promise.reject(new RangeError('a mistake'))),
  ).rejects.toThrow('a mistake');
  await Promise.all(waiting);
  expect(ran).toBe(1_999);
});

const page = (more: Partial<ListQuestion> = {}): ListQuestion => ({
  collection: 'hives',
  filter: null,
  order: [{ field: 'id', descending: false }],
  after: null,
  limit: 10,
  ...more,
});

/** Rows that PostgreSQL looked at and left, or went through, for a statement. */
async function rowsRead(access: Access, question: ListQuestion): Promise<number> {
  const { statement } = await listStatement(own.database, access, question);
  const [row] = await run<{ 'QUERY PLAN': readonly [{ Plan: PlanNode }] }>(
    own.database,
    sql`explain (analyze, format json) ${statement}`,
  );
  const count = (node: PlanNode): number =>
    ((node['Actual Rows'] ?? 0) + (node['Rows Removed by Filter'] ?? 0)) * (node['Actual Loops'] ?? 1) +
    (node.Plans ?? []).reduce((sum, each) => sum + count(each), 0);
  return count(row!['QUERY PLAN'][0].Plan);
}
interface PlanNode {
  readonly 'Actual Rows'?: number;
  readonly 'Actual Loops'?: number;
  readonly 'Rows Removed by Filter'?: number;
  readonly Plans?: readonly PlanNode[];
}

test('a list is put in the form that reads little, and what is kept of it serves each with their own records', async () => {
  const [one, other] = [accessOf(person(3)), accessOf(person(4))];
  // Some twenty of four thousand are theirs: no form that goes through them all was chosen.
  for (const access of [one, other]) expect(await rowsRead(access, page())).toBeLessThan(HIVES / 4);
  const keepers = async (access: Access) =>
    new Set(
      (await listRecords(own.database, access, page({ limit: 100 }))).records.map(({ shown }) =>
        shown.get('keeper'),
      ),
    );
  expect(await keepers(one)).toContain(id(1, 3));
  expect(await keepers(other)).toContain(id(1, 4));
  expect(await keepers(other)).not.toContain(id(1, 3));
  const [mine] = (await listRecords(own.database, one, page())).records;
  expect(await readRecord(own.database, one, 'hives', mine!.id)).toEqual(mine);
  expect(await readRecord(own.database, other, 'hives', mine!.id)).toBe(null);
  expect((await readRecords(own.database, one, 'hives', [mine!.id, id(3, 5)])).size).toBe(1);
  expect((await readRecords(own.database, one, 'hives', [])).size).toBe(0);
  // What is shared with one is kept for nobody else.
  const shown3 = (await listRecords(own.database, one, page({ limit: 100 }))).records.find(
    ({ shown }) => shown.get('keeper') === id(1, 3),
  )!;
  const share = { collection: 'hives', record: shown3.id, operations: ['read'], sharer: id(1, 3) } as const;
  const guest: Caller = {
    ...person(4),
    shared: sharingsOf(rulebook, [share], new Map([[id(1, 3), person(3)]])),
  };
  for (const [access, isShared] of [
    [other, false],
    [accessOf(guest), true],
    [other, false],
  ] as const) {
    expect((await readRecord(own.database, access, 'hives', shown3.id)) !== null).toBe(isShared);
    const { records } = await listRecords(own.database, access, page({ limit: 100 }));
    expect(records.some((each) => each.id === shown3.id)).toBe(isShared);
  }
});

test('a page says whether there is more, and its size is what was asked for', async () => {
  const access = accessOf(person(3));
  const all = await listRecords(own.database, access, page({ limit: 1_000 }));
  expect(all.more).toBe(false);
  const count = all.records.length;
  expect((await listRecords(own.database, access, page({ limit: count }))).more).toBe(false);
  const less = await listRecords(own.database, access, page({ limit: count - 1 }));
  expect([less.more, less.records.length]).toEqual([true, count - 1]);
});

test('a precondition is asked of the record as this caller sees it, and before anything else is said', async () => {
  const helper = accessOf(person(3, 'helper'));
  const [mine] = (await listRecords(own.database, helper, page())).records;
  const seen: unknown[] = [];
  const outcome = await updateRecord(
    own.database,
    helper,
    'hives',
    mine!.id,
    new Map([['size', 7]]),
    (record) => {
      seen.push(record);
      return false;
    },
  );
  expect(outcome).toEqual({ ok: false, refusal: { kind: 'changed meanwhile' } });
  expect(seen).toEqual([mine]);
  const hidden = await updateRecord(
    own.database,
    helper,
    'hives',
    id(3, 399),
    new Map([['size', 7]]),
    () => false,
  );
  expect(hidden).toEqual({ ok: false, refusal: { kind: 'not found' } });
});

test('a write refers where a reference is given, and not where one is taken away', () => {
  const types = collectionOf(rulebook.schema, 'hives').fields;
  const does = (values: Record<string, Value>) => refers(types, new Map(Object.entries(values)));
  expect([does({}), does({ code: 'x', size: 1 }), does({ keeper: null })]).toEqual([false, false, false]);
  expect([does({ keeper: id(1, 1) }), does({ code: 'x', yard: id(2, 1) })]).toEqual([true, true]);
  expect([does({ unknown: 'x' }), does({ keeper: null, yard: id(2, 1) })]).toEqual([false, true]);
});

test('the planner is asked once for each shape of question, and only what comes again and again is kept', async () => {
  const access = accessOf(person(5));
  const asked: { text: string; kept: boolean }[] = [];
  const on: Asks = {
    asks(statement, kept) {
      asked.push({ text: statement.text, kept });
      return run(own.database, statement);
    },
  };
  /** How many plans were looked at, and whether the statement itself was kept. */
  const how = async (of: Access, more: Partial<ListQuestion> = {}) => {
    asked.length = 0;
    await listRecords(on, of, page(more));
    const { kept } = asked.at(-1)!;
    return [asked.filter(({ text }) => text.startsWith('explain')).length > 0, kept];
  };
  const byId = { field: 'id', descending: false };
  const [code, size] = ['code', 'size'].map((field) => ({ field, descending: false }));
  const filter = checkFilter('size > 2', 'hives', rulebook);
  if (!filter.ok) throw new Error('the filter has errors');
  const two = { limit: 17, order: [code!, byId] };
  expect(await how(access, two)).toEqual([true, true]);
  expect(await how(access, two)).toEqual([false, true]);
  // Somebody else of the same roles asks the same; another role, size, order, place or filter makes another question.
  expect(await how(accessOf(person(6)), two)).toEqual([false, true]);
  expect(await how(accessOf(person(6, 'helper')), two)).toEqual([true, true]);
  expect(await how(access, { ...two, limit: 18 })).toEqual([true, true]);
  expect(await how(access, { ...two, after: ['H1', id(3, 1)] })).toEqual([true, true]);
  expect(await how(access, { ...two, after: ['H2', id(3, 2)] })).toEqual([false, true]);
  expect(await how(access, { ...two, after: [null, id(3, 2)] })).toEqual([true, true]);
  expect(await how(access, { ...two, order: [size!, code!, byId] })).toEqual([true, false]);
  expect(await how(access, { ...two, filter: filter.condition })).toEqual([true, false]);
  expect(await how(access, { ...two, filter: filter.condition })).toEqual([false, false]);
  const other = checkFilter('size > 3', 'hives', rulebook);
  expect(await how(access, { ...two, filter: other.ok ? other.condition : null })).toEqual([false, false]);
  // Of what is shared with somebody only the way is remembered, by a text that holds no values.
  const share = { collection: 'hives', record: id(3, 9), operations: ['read'], sharer: id(1, 10) } as const;
  const guest = accessOf({
    ...person(5),
    shared: sharingsOf(rulebook, [share], new Map([[id(1, 10), person(10)]])),
  });
  expect((await how(guest, two))[0]).toBe(true);
  expect((await how(guest, two))[0]).toBe(false);
  asked.length = 0;
  const count = () => countVisible(on, access, { collection: 'hives', filter: filter.condition });
  expect([await count(), await count()]).toEqual([await count(), await count()]);
  expect(asked.filter(({ text }) => text.startsWith('explain')).length).toBeLessThan(3);
});

test('a connection holds the last five hundred statements prepared, and gives the oldest back', async () => {
  const one = connect({ url: own.url, poolSize: 1 });
  try {
    const nth = (n: number) => ({ text: `select ${n} + ?::integer as sum`, values: [n] });
    const names = async () =>
      (
        await run<{ name: string; statement: string }>(
          one,
          sql`select name, statement from pg_prepared_statements`,
        )
      )
        .map(({ statement }) => Number(/select (\d+)/.exec(statement)?.[1]))
        .toSorted((a, b) => a - b);
    for (let n = 0; n < 700; n++) expect((await runKept<{ sum: number }>(one, nth(n)))[0]!.sum).toBe(2 * n);
    expect(await names()).toEqual(Array.from({ length: 500 }, (_, n) => n + 200));
    // What was given back is prepared again, and what is asked for stays.
    await runKept(one, nth(200));
    await runKept(one, nth(0));
    const now = await names();
    expect([now.length, now.includes(200), now.includes(0), now.includes(201)]).toEqual([
      500,
      true,
      true,
      false,
    ]);
    // Within a transaction, too, and one that has failed takes nothing with it.
    await expect(
      one.transaction(async (on) => {
        await run(on, sql`select 1 / 0`).catch(() => undefined);
        await runKept(on, nth(1));
      }),
    ).rejects.toThrow(/current transaction is aborted/);
    expect((await runKept<{ sum: number }>(one, nth(1)))[0]!.sum).toBe(2);
    // A table that has got another column: the question is asked once more, by another name.
    await run(one, sql`create table wide (a integer)`);
    const wide = { text: 'select * from wide where a > ?', values: [0] };
    expect(await runKept(one, wide)).toEqual([]);
    await run(one, sql`alter table wide add column b integer`);
    await run(one, sql`insert into wide values (1, 2)`);
    expect(await runKept(one, wide)).toEqual([{ a: 1, b: 2 }]);
    expect(await runKept(one, wide)).toEqual([{ a: 1, b: 2 }]);
  } finally {
    await one.destroy();
  }
});

test('connections read the answers of one statement by the same columns, until its table is another', async () => {
  const connections = [1, 2, 3].map(() => connect({ url: own.url, poolSize: 1 }));
  const ask = async (on: number) => {
    const [row] = await rowsOf(connections[on]!, sql`select * from narrow`, true);
    return row as WireRow;
  };
  try {
    await run(own.database, sql`create table narrow (a integer)`);
    await run(own.database, sql`insert into narrow values (1)`);
    expect((await ask(1)).columns).toBe((await ask(0)).columns);
    await run(own.database, sql`alter table narrow add column b text default 'seven'`);
    // Of the three this one is the first to ask since, and nobody has told it.
    for (const on of [2, 1, 0]) expect((await ask(on)).value('b'), String(on)).toBe('seven');
    await run(own.database, sql`alter table narrow alter column b drop default`);
    await run(own.database, sql`alter table narrow alter column b type integer using 7`);
    for (const on of [1, 2, 0]) expect((await ask(on)).value('b'), String(on)).toBe(7);
  } finally {
    await Promise.all(connections.map((each) => each.destroy()));
  }
});

test('what is kept of a question serves nobody with the values, the rules or the filter of another', async () => {
  const access = accessOf(person(7));
  const sizes = async (of: Access, where: string | null) => {
    const checked = where === null ? null : checkFilter(where, 'hives', rulebook);
    if (checked !== null && !checked.ok) throw new Error(where!);
    const { records } = await listRecords(
      own.database,
      of,
      page({ limit: 200, filter: checked === null ? null : checked.condition }),
    );
    return [...new Set(records.map(({ shown }) => shown.get('size') as number))].toSorted((a, b) => a - b);
  };
  for (const round of [1, 2]) {
    expect([round, await sizes(access, 'size = 1'), await sizes(access, 'size = 2')]).toEqual([
      round,
      [1],
      [2],
    ]);
    expect(await sizes(access, 'size = 3 or size = 4')).toEqual([3, 4]);
    // A visitor and somebody without a role have no role alike, and other rules.
    expect((await sizes(accessOf({ person: null, roles: new Set() }), null)).length).toBe(0);
    expect((await sizes(access, null)).length).toBeGreaterThan(2);
  }
  const shown = async (at: string | null) =>
    (
      await listRecords(
        own.database,
        access,
        page({
          limit: 5,
          order: [
            { field: 'tag', descending: false },
            { field: 'id', descending: false },
          ],
          after: [at, id(3, 1)],
        }),
      )
    ).records.length;
  // Behind a value come the missing ones, and behind a missing one only those of a later id.
  expect([await shown('zzz'), await shown(null), await shown('zzz')]).toEqual([5, 5, 5]);
});

test('a value that no index or JSON value can hold is told by the caller’s own long fields', async () => {
  const long = Array.from({ length: 4_000 }, (_, n) =>
    String.fromCodePoint(0x4e00 + ((n * 7_919) % 20_000)),
  ).join('');
  const refusal = async (supplied: ReadonlyMap<string, Value>, state: string) => {
    const outcome = await writing(
      own.database,
      'hives',
      supplied,
      accessOf(person(1)),
      () => ({ kind: 'alone' }),
      async (on) => {
        await run(on, { text: `do $$ begin raise exception using errcode = '${state}'; end $$`, values: [] });
        return done(null);
      },
    );
    return outcome.ok ? null : outcome.refusal;
  };
  const given = new Map<string, Value>([
    ['code', 'short'],
    ['size', 100_000],
    ['tag', 'x'.repeat(601)],
    ['note', 'x'.repeat(600)],
    ['more', new JsonPatch({ a: 1 })],
    ['next', null],
  ]);
  for (const state of ['22001', '54000'])
    expect(await refusal(given, state)).toEqual({ kind: 'value too large', fields: ['tag', 'more'] });
  const made = await createRecord(
    own.database,
    accessOf(person(1, 'helper')),
    'hives',
    new Map([['tag', long]]),
  );
  expect(made).toMatchObject({ ok: false });
});
