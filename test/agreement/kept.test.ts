import { afterAll, beforeAll, expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access, type SelectList } from '../../src/core/sql/access.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import {
  countSql,
  formulations,
  readSql,
  selectionOf,
  walkedSql,
  type ListQuestion,
} from '../../src/core/sql/list.ts';
import { run, type Reader } from '../../src/store/connection.ts';
import { costOf } from '../../src/store/records/costs.ts';
import { countStatement, listStatement, readStatement } from '../../src/store/records/plans.ts';
import { rightsPlanOf } from '../../src/store/records/rights.ts';
import { tallies } from '../../src/store/tallies.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { openWorld, type World } from '../support/world.ts';

/** Statements that are kept from one question to the next, held against a rulebook that nothing was ever asked of. */
const text = `
role keeper
role steward
people { district text }
collection yards { name text label  keeper ref people }
collection hives { code text required label  size integer  keeper ref people  yard ref yards  note text  district text  sold boolean }
rules yards { people may read (all) when keeper = me }
rules hives {
  keeper may read (all), share when keeper = me
  keeper may update (size) when district = me.district
  people may read (code, size, yard) when yard.keeper = me
  people may read (code) when sold
  steward may read (all but note), delete
  nobody may read (note) unless keeper = me
}
`;
const idOf = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;

let world: World;
let explained = 0;
/** Asks the database, and counts how often its planner was asked. */
let reader: Reader;

beforeAll(async () => {
  world = await openWorld(text);
  reader = {
    asks: (statement: Parameters<typeof run>[1]) => {
      if (statement.text.startsWith('explain')) explained++;
      return run(world.database, statement);
    },
  } as Reader;
  await run(
    world.database,
    sql`insert into records.hives (id, created_at, updated_at, code, size, sold)
      select gen_random_uuid(), now(), now(), 'OAK-' || n, n, false from generate_series(1, 3000) as n`,
  );
  await run(world.database, sql`analyze records.hives`);
});
afterAll(() => world.close());

/** Whoever asks, by the rulebook at hand: what is shared goes by its rules. */
function callersOf(rulebook: Rulebook): Record<string, Caller> {
  const person = (n: number, district: string | null, ...roles: string[]): Caller => ({
    person: { id: idOf(n), values: { id: idOf(n), district } },
    roles: new Set(roles),
  });
  const ada = person(1, 'east', 'keeper');
  const ben = person(2, null, 'keeper');
  const guest = (n: number, sharer: Caller, records: readonly string[] | null): Caller => {
    const operations = ['read'] as const;
    const shares = (records ?? [null]).map((record) => ({
      collection: 'hives',
      record,
      operations,
      sharer: sharer.person!.id,
    }));
    return {
      ...person(n, 'west'),
      shared: sharingsOf(rulebook, shares, new Map([[sharer.person!.id, sharer]]), true),
    };
  };
  return {
    ada,
    ben,
    cleo: person(3, 'east'),
    stella: person(4, 'east', 'steward'),
    both: person(5, 'east', 'steward', 'keeper'),
    visitor: { person: null, roles: new Set() },
    'of the application': { ...person(6, 'east', 'keeper'), ofTheApplication: true },
    'guest of Ada': guest(7, ada, null),
    'guest of Ben': guest(8, ben, null),
    'guest to one': guest(9, ada, [idOf(11)]),
    'guest to two': guest(9, ada, [idOf(11), idOf(12)]),
  };
}

function filterOf(rulebook: Rulebook, asked: string): Condition {
  const checked = checkFilter(asked, 'hives', rulebook);
  if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
  return checked.condition;
}

const [byId, bySize] = [
  { field: 'id', descending: false },
  { field: 'size', descending: false },
];
const among = (least: number, many: number) =>
  `size in (${Array.from({ length: many }, (_, n) => least + n).join(', ')})`;

interface Asked extends Partial<Omit<ListQuestion, 'filter' | 'rights'>> {
  readonly where?: string;
  readonly withRights?: boolean;
}

const asked: readonly Asked[] = [
  {},
  { limit: 11 },
  { summed: true },
  { fields: ['id'] },
  { fields: ['id', 'code'] },
  { fields: ['id', 'code', 'size'] },
  { order: [bySize, byId] },
  { order: [{ ...bySize, descending: true }, byId] },
  { order: [{ ...byId, descending: true }] },
  { after: [idOf(20)] },
  { after: [idOf(21)] },
  { order: [bySize, byId], after: [3, idOf(20)] },
  { order: [bySize, byId], after: [null, idOf(20)] },
  { withRights: true },
  { where: 'size = 1' },
  { where: 'size = 2' },
  { where: 'size is missing' },
  { where: 'code = "a"' },
  { where: 'yard.name = "a"' },
  { where: 'yard.name = "a" and size = 2', order: [bySize, byId] },
  { where: among(1, 3) },
  { where: among(2, 3) },
  { where: among(1, 40) },
  { where: 'size > 1', after: [idOf(20)] },
];

function questionOf(access: Access, { where, withRights, ...more }: Asked): ListQuestion {
  return {
    collection: 'hives',
    filter: where === undefined ? null : filterOf(access.rulebook, where),
    order: [byId],
    after: null,
    limit: 10,
    ...more,
    ...(withRights === true ? { rights: rightsPlanOf(access, 'hives') } : {}),
  };
}

/** How an answer is read. */
const readAs = ({ fields, flags }: SelectList) => ({ fields, flags: [...flags] });

test('whatever was asked before, and by whom, lists, counts and records are asked for as if it were the first', async () => {
  const rulebook = parse(text);
  const callers = callersOf(rulebook);
  const dice = new Dice(5);
  // Whatever the planner says.
  const atRandom = {
    asks: async () => [
      {
        'QUERY PLAN': [
          { Plan: { 'Node Type': 'Result', 'Plan Rows': 1, 'Total Cost': dice.between(1, 1_000) } },
        ],
      },
    ],
  } as unknown as Reader;
  const all = Object.keys(callers).flatMap((who) => asked.map((question) => ({ who, question })));
  for (let round = 0; round < 2; round++)
    for (const { who, question } of all.toSorted(() => (dice.percent(50) ? 1 : -1)).slice(0, 150)) {
      const anew = parse(text);
      const [known, first] = [
        new Access(rulebook, callers[who]!, NOW),
        new Access(anew, callersOf(anew)[who]!, NOW),
      ];
      const told = `${who}: ${JSON.stringify(question)}`;
      const [one, another] = [questionOf(known, question), questionOf(first, question)];
      const list = await listStatement(atRandom, known, one);
      const ways = [walkedSql(first, another), ...formulations(first, another).map((each) => each.statement)];
      expect(ways, told).toContainEqual(list.statement);
      expect(readAs(list.reading), told).toEqual(readAs(selectionOf(first, another)));
      const count = await countStatement(atRandom, known, { collection: 'hives', filter: one.filter });
      expect(
        countSql(first, another).map((each) => each.statement),
        told,
      ).toContainEqual(count);
      const lock = dice.percent(50);
      const record = readStatement(known, 'hives', idOf(30 + round), lock, one.rights);
      const asFirst = readStatement(first, 'hives', idOf(30 + round), lock, another.rights);
      expect(record.statement, told).toEqual(asFirst.statement);
      expect(readAs(record.reading), told).toEqual(readAs(asFirst.reading));
    }
});

test('of several ways to find a page, or to count, the one that is expected to cost least is taken', async () => {
  const chosen = new Set<string>();
  for (const who of ['ada', 'stella', 'guest to two'])
    for (const question of asked) {
      const rulebook = parse(text);
      const access = new Access(rulebook, callersOf(rulebook)[who]!, NOW);
      const one = questionOf(access, question);
      const least = async (all: ReturnType<typeof formulations>) => {
        const costs = await Promise.all(
          all.map(async ({ statement, expected = statement }) => {
            const [row] = await run<{ 'QUERY PLAN': { Plan: Parameters<typeof costOf>[0] }[] }>(
              world.database,
              sql`explain (format json) ${expected}`,
            );
            return costOf(row!['QUERY PLAN'][0]!.Plan);
          }),
        );
        const at = costs.indexOf(Math.min(...costs));
        if (all.length > 1) chosen.add(at === 0 ? 'first' : at === all.length - 1 ? 'last' : 'between');
        return all[at]!.statement;
      };
      const told = `${who}: ${JSON.stringify(question)}`;
      const list = walkedSql(access, one) ?? (await least(formulations(access, one)));
      expect((await listStatement(reader, access, one)).statement.text, told).toBe(list.text);
      const count = await countStatement(reader, access, { collection: 'hives', filter: one.filter });
      expect(count.text, told).toBe((await least(countSql(access, one))).text);
    }
  expect([...chosen].toSorted()).toEqual(['between', 'first', 'last']);
});

test('the planner is asked once of questions that differ in their values, and not where there is one way', async () => {
  const rulebook = parse(text);
  const callers = callersOf(rulebook);
  const asks = async (who: string, question: Asked) => {
    const access = new Access(rulebook, callers[who]!, NOW);
    const [before, planned] = [explained, sumOf(tallies.planned.values())];
    await listStatement(reader, access, questionOf(access, question));
    return { explained: explained - before, chosen: sumOf(tallies.planned.values()) - planned };
  };
  const { chosen, explained: ways } = await asks('ada', {});
  expect(chosen).toBe(1);
  expect(ways).toBeGreaterThan(1);
  const known = { explained: 0, chosen: 0 };
  for (const who of ['ada', 'ben']) expect(await asks(who, {})).toEqual(known);
  expect((await asks('stella', {})).chosen, 'other rules').toBe(1);
  // Literals make no difference, but for how many there are.
  for (const [first, same, other] of [
    ['size = 1', 'size = 2', 'size = 2 or size = 3'],
    [among(1, 3), among(7, 20), among(1, 21)],
    ['code = "a" and size in (1, 2)', 'code = "b" and size in (3)', 'code = "a" and size = 1'],
  ] as const) {
    expect((await asks('ada', { where: first })).chosen, first).toBe(1);
    expect(await asks('ben', { where: same }), same).toEqual(known);
    expect((await asks('ada', { where: other })).chosen, other).toBe(1);
  }
  // What is shared is walked along; where something is looked for in it, it is theirs alone.
  expect(await asks('guest of Ada', {})).toEqual(known);
  expect((await asks('guest of Ada', { where: 'size = 1' })).chosen).toBe(1);
  expect(await asks('guest of Ada', { where: 'size = 5' })).toEqual(known);
  // With one way there is nothing to choose.
  expect(await asks('visitor', {})).toEqual({ explained: 0, chosen: 1 });
});

test('what rules alone make is made once for all of one standing, and for whom something is shared once for them', async () => {
  const rulebook = parse(text);
  const callers = callersOf(rulebook);
  const readings = async (who: string, question: Asked = {}) => {
    const access = new Access(rulebook, callers[who]!, NOW);
    const { reading } = await listStatement(reader, access, questionOf(access, question));
    return [reading, readStatement(access, 'hives', idOf(30), false).reading, rightsPlanOf(access, 'hives')];
  };
  const [list, one, plan] = await readings('ada');
  for (const [index, each] of (await readings('ben')).entries()) expect(each).toBe([list, one, plan][index]);
  const [guests, guestsOne, guestsPlan] = await readings('guest of Ada');
  for (const [index, each] of (await readings('guest of Ada')).entries())
    expect(each).toBe([guests, guestsOne, guestsPlan][index]);
  for (const each of await readings('guest of Ben'))
    expect([guests, guestsOne, guestsPlan].every((other) => other !== each)).toBe(true);
  // A filter is the caller's own.
  const [filtered] = await readings('ada', { where: 'size = 1' });
  expect((await readings('ada', { where: 'size = 1' }))[0]).not.toBe(filtered);
});

test('a record is asked for by its own id, and held where it is to be', () => {
  const rulebook = parse(text);
  const access = new Access(rulebook, callersOf(rulebook).ada!, NOW);
  for (const lock of [false, true, false]) {
    const { statement } = readStatement(access, 'hives', idOf(lock ? 31 : 32), lock);
    expect(statement.text.includes('for update')).toBe(lock);
    expect(statement.values).toContain(idOf(lock ? 31 : 32));
    expect(statement.text).toBe(readSql(access.withSlots(), 'hives', idOf(1), lock).statement.text);
  }
});

const sumOf = (all: Iterable<number>) => [...all].reduce((sum, each) => sum + each, 0);
