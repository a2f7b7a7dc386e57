import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import { Access } from '../../src/core/sql/access.ts';
import { classesSql, factsSql, recordBitsSql } from '../../src/core/sql/counting.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { ownedSql, ownersSql } from '../../src/core/sql/owners.ts';
import { run } from '../../src/store/connection.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { schema } from '../decide/truths.ts';
import type { OwnDatabase } from '../support/database.ts';
import { ada, idOf, storedTruths } from './stored-truths.ts';

/** Records counted by kind: by whose they are, and by which conditions are true of them. Each is written down by hand. */
let own: OwnDatabase;
const rulebook = parse(
  schema.replace('n integer }', 'n integer  owned by who, hive.keeper, hive.keeper.boss }'),
);
const access = new Access(rulebook, ada(), NOW);
const of = (...texts: string[]): Condition[] =>
  texts.map((text) => {
    const checked = checkFilter(text, 'visits', rulebook);
    if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
    return checked.condition;
  });

beforeAll(async () => {
  own = await storedTruths();
  for (const [name, keeper] of [
    ['h', 'ben'],
    ['h4', 'ada'],
    ['h5', 'ada'],
  ] as const)
    await run(
      own.database,
      sql`update records.hives set keeper = ${value(idOf(keeper))}::uuid where id = ${value(idOf(name))}::uuid`,
    );
});
afterAll(() => own.drop());

/** By `who`, by the hive’s keeper, whose boss is ben where it is ada: ada, anybody else, nobody; is it open; does `n = 0` hold; is it v4. */
const visits: Record<string, readonly [who: string | null, keeper: string | null, bits: string]> = {
  v1: ['ada', '*', '1 10'],
  v2: [null, '*', '0 00'],
  v3: [null, null, '0 00'],
  v4: [null, null, '0 01'],
  v5: [null, 'ada', '1 00'],
  v6: [null, 'ada', '0 00'],
  v7: ['*', 'ada', '0 00'],
  v8: ['ada', 'ada', '0 00'],
};

test('records are counted by owner and by what is true of them, with their ends as examples', async () => {
  const [common, rest] = [of('open'), of('n = 0', 'code = "v4"')];
  const named = (who: string | null) => (who === 'ada' ? idOf('ada') : who);
  const expectedOf = (names: readonly string[]) =>
    [...new Set(names.map((name) => JSON.stringify(visits[name])))].map((kind) => {
      const alike = names.filter((name) => JSON.stringify(visits[name]) === kind);
      const [who, keeper, bits] = visits[alike[0]!]!;
      const [common_, own_] = bits.split(' ');
      return {
        owner_0: named(who),
        owner_1: named(keeper),
        owner_2: keeper === 'ada' ? '*' : null,
        common: common_,
        own: own_,
        count: alike.length,
        examples: [idOf(alike[0]!), idOf(alike.at(-1)!)].toSorted(),
      };
    });
  const counted = async (touching: boolean) =>
    run<Record<string, unknown>>(
      own.database,
      classesSql(access, 'visits', [idOf('ada')], common, rest, touching),
    );
  const names = Object.keys(visits);
  const sorted = (all: readonly object[]) => all.map((each) => JSON.stringify(each)).toSorted();
  const all = await counted(false);
  expect(sorted(all.map(({ count, ...each }) => ({ ...each, count: Number(count) })))).toEqual(
    sorted(expectedOf(names).map(({ count, ...each }) => ({ ...each, count }))),
  );
  const touching = await counted(true);
  expect(new Set(touching.map(({ examples }) => (examples as string[])[0]))).toEqual(
    new Set([idOf('v1'), idOf('v4')]),
  );
  // Of no conditions all are alike but for their owners.
  const [nothing] = await run<Record<string, unknown>>(
    own.database,
    classesSql(access, 'yards', [], [], [], false),
  );
  expect([nothing!.common, nothing!.own, Number(nothing!.count)]).toEqual(['', '', 5]);
});

test('what is true of one record, and of none, is told by itself', async () => {
  const rows = await run<{ id: string; common: string; own: string }>(
    own.database,
    recordBitsSql(
      access,
      'visits',
      [idOf('v1'), idOf('v4'), idOf('v3')],
      of('open'),
      of('n = 0', 'code = "v4"'),
    ),
  );
  expect(Object.fromEntries(rows.map(({ id, common, own: rest }) => [id, `${common} ${rest}`]))).toEqual({
    [idOf('v1')]: '1 10',
    [idOf('v4')]: '0 01',
    [idOf('v3')]: '0 00',
  });
  const facts = of('now > "2026-01-01T00:00:00Z"', 'now < "2026-01-01T00:00:00Z"');
  expect(await run(own.database, factsSql(access, facts))).toEqual([{ facts: '10' }]);
  expect(await run(own.database, factsSql(access, []))).toEqual([{ facts: '' }]);
});

test('a record has an owner where one of its paths leads to somebody, and a person is their own', async () => {
  const owned = async (collection: string) =>
    run<{ id: string; is: boolean }>(
      own.database,
      sql`select r.id, ${ownedSql(rulebook.schema, collection, 'r')} as is from ${{ text: `records.${collection}`, values: [] }} as r`,
    );
  const whose = (await owned('visits')).filter(({ is }) => is).map(({ id }) => id);
  expect(whose.toSorted()).toEqual(
    Object.entries(visits)
      .filter(([, [who, keeper]]) => who !== null || keeper !== null)
      .map(([name]) => idOf(name))
      .toSorted(),
  );
  expect((await owned('people')).map(({ is }) => is)).toEqual([true, true]);
  // Nobody is said to own these.
  expect((await owned('yards')).map(({ is }) => is)).toEqual([false, false, false, false, false]);
  expect(ownersSql(rulebook.schema, 'yards', 'r')).toEqual([]);
});
