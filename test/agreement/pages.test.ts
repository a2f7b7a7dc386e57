import { afterAll, beforeAll, expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { formulations, listSql, type ListQuestion, type OrderKey } from '../../src/core/sql/list.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run, type Executor } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { listStatement } from '../../src/store/records/plans.ts';
import { tallies } from '../../src/store/tallies.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { NOW } from '../decide/in-hand.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** Pages over many more records than they hold, of which some ids of a set have very many and others few. */
let own: OwnDatabase;

/** The same collections with other grounds to read. */
function reading(grounds: string): Rulebook {
  const text = `
people { n integer }
collection yards { name text label  keeper ref people }
collection hives { code text label  note text  size integer  keeper ref people  yard ref yards }
rules hives { ${grounds} }`;
  const checked = checkRulebook([{ name: 'rulebook.gate', text }]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics));
  return checked.rulebook;
}
const oneGround = reading('people may read when yard.keeper = me');
const twoGrounds = reading('people may read when yard.keeper = me  people may read when keeper = me');

const id = (kind: number, of: number) => `0000000${kind}-0000-7000-8000-${String(of).padStart(12, '0')}`;
const YARDS = 24;
const RECORDS = 900;
const me: Caller = { person: { id: id(1, 1), values: { id: id(1, 1) } }, roles: new Set() };

beforeAll(async () => {
  own = await ownDatabase();
  await migrate(own.database);
  await publish(own.database, twoGrounds, atTheMachine('test'));
  const dice = new Dice(5);
  const yards = Array.from({ length: YARDS }, (_, n) => n);
  // Three yards of four are mine, and one of them has a third of all records, the first ones among these.
  const yardOf = (n: number) => (n < 60 || dice.percent(30) ? 0 : dice.between(1, YARDS - 1));
  const records = Array.from({ length: RECORDS }, (_, n) => ({
    n,
    yard: yardOf(n),
    size: dice.between(0, 9),
  }));
  await run(
    own.database,
    sql`insert into records.people (id, created_at, updated_at) select unnest(${value([id(1, 1), id(1, 2)])}::uuid[]), now(), now()`,
  );
  await run(
    own.database,
    sql`insert into records.yards (id, keeper, created_at, updated_at)
      select id, keeper, now(), now() from unnest(${value(yards.map((n) => id(2, n)))}::uuid[], ${value(yards.map((n) => id(1, n % 4 === 3 ? 2 : 1)))}::uuid[]) as yard (id, keeper)`,
  );
  await run(
    own.database,
    sql`insert into records.hives (id, yard, size, keeper, code, note, created_at, updated_at)
      select id, yard, nullif(size, 0), case when size = 4 then ${value(id(1, 1))}::uuid end, id, 'H' || size % 3, now(), now()
      from unnest(${value(records.map(({ n }) => id(3, n)))}::uuid[], ${value(records.map(({ yard }) => id(2, yard)))}::uuid[], ${value(records.map(({ size }) => size))}::int[]) as hive (id, yard, size)`,
  );
  await run(own.database, sql`analyze`);
});

afterAll(() => own.drop());

const up = (field: string): OrderKey => ({ field, descending: false });
const down = (field: string): OrderKey => ({ field, descending: true });

test('every way of finding a page finds the same, page by page, however unevenly what may be read is spread', async () => {
  const ways = new Set<string>();
  for (const access of [oneGround, twoGrounds].map((rulebook) => new Access(rulebook, me, NOW)))
    for (const order of [
      [up('id')],
      [down('id')],
      [up('size'), up('id')],
      [down('size'), down('note'), up('id')],
    ])
      for (const limit of [1, 4, 5, 21, 100]) {
        const asked: ListQuestion = { collection: 'hives', filter: null, order, after: null, limit };
        const keys = `${order.map(({ field }) => field).join(', ')} by ${limit}`;
        let after: ListQuestion['after'] = null;
        for (let page = 0; page < 12; page++) {
          const question: ListQuestion = { ...asked, after };
          const answers = new Map<string, string>();
          for (const { form, statement, otherwise } of formulations(access, question)) {
            ways.add(form);
            answers.set(form, JSON.stringify(await run(own.database, statement)));
            if (otherwise !== undefined)
              answers.set(
                otherwise,
                JSON.stringify(await run(own.database, listSql(access, question, otherwise))),
              );
          }
          const [told] = answers.values();
          for (const [form, answer] of answers) expect(answer, `${form}: page ${page} of ${keys}`).toBe(told);
          const rows = JSON.parse(told!) as Record<string, string | null>[];
          if (rows.length < limit) break;
          after = order.map(({ field }) => rows.at(-1)![field] ?? null);
        }
      }
  expect([...ways].toSorted()).toEqual([
    'branches',
    'branches of sets',
    'few first',
    'gathered',
    'rows',
    'sets',
  ]);
});

test('few are looked at first only where a page would else be read along an order', async () => {
  const access = new Access(oneGround, me, NOW);
  const chosen = async (on: Executor, order: readonly OrderKey[]) => {
    const before = new Map(tallies.planned);
    await listStatement(on, access, { collection: 'hives', filter: null, order, after: null, limit: 21 });
    return [...tallies.planned].filter(([form, times]) => times !== before.get(form)).map(([form]) => form);
  };
  await own.database.transaction(async (transaction) => {
    for (const way of ['hashjoin', 'mergejoin', 'nestloop']) await run(transaction, setting(way, 'off'));
    // No index holds the sizes in order, so all is found, and then sorted.
    expect(await chosen(transaction, [up('size'), up('id')])).toEqual(['sets']);
    // Where nothing else is left, the records are gone through by their ids.
    for (const way of ['sort', 'bitmapscan']) await run(transaction, setting(way, 'off'));
    expect(await chosen(transaction, [up('id')])).toEqual(['few first']);
  });
});

function setting(way: string, to: string) {
  return { text: `set local enable_${way} = ${to}`, values: [] };
}
