import { afterAll, beforeAll, expect, test } from 'vitest';
import type { Caller } from '../../src/core/decide/caller.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import { Access } from '../../src/core/sql/access.ts';
import { EffectKinds, type CommonKind, type OwnKind } from '../../src/core/sql/effect-kinds.ts';
import { effectsSql, type BothSides } from '../../src/core/sql/effects.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import {
  countAlone,
  countTogether,
  sameFor,
  type Counted,
  type Person,
} from '../../src/store/preview/counting.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { records, schema } from '../decide/truths.ts';
import type { OwnDatabase } from '../support/database.ts';
import { ada, bothVisits as both, idOf, storedTruths, whole } from './stored-truths.ts';

/** What a change does for many, counted in one pass, against a pass for each of them. */
let own: OwnDatabase;
beforeAll(async () => {
  own = await storedTruths();
  // Several records of each kind: those that are copied are nobody’s or anybody’s.
  for (let copy = 0; copy < 12; copy++)
    await run(
      own.database,
      sql`insert into records.visits (id, code, hive, open, who, weight, n, created_at, updated_at)
        select md5(code || ${value(copy)}::text)::uuid, code || ${value(` ${copy}`)}, hive, open, case when ${value(copy)}::integer % 3 = 0 then who end, weight, ${value(copy)}::integer % 2, created_at, updated_at from records.visits where position(' ' in code) = 0`,
    );
  await run(
    own.database,
    sql`update records.hives set keeper = ${value(idOf('ben'))}::uuid where id = ${value(idOf('h4'))}::uuid`,
  );
});
afterAll(() => own.drop());

const changes = [
  '',
  'people may read (all)',
  'people may read (all) when open',
  'people may read (all)  nobody may read unless who = me',
  'people may read (all but code) when who is present  keeper may read (code) when open or n > me.age',
  'people may read (all), update (code, n) when who = me  keeper may read (all)',
  'everybody may read (code, open) when open  keeper may read (all), update (all), delete when not open',
  'people may read (all), update (all)  nobody may update (code) unless open  people may delete, share when who = me',
  'people may read (all)  people may update (open) when new.open = old.open  people may delete when n is present',
  'people may read (all) when me may read hive  keeper may update (n) when me may update hive (note)',
  'people may read (all) when hive.keeper = me or who = me and n = 1  lead may update (n) when me.age > 20 and open',
  'people may read (all) when some v in visits has (v.hive = hive and v.who = me)  people may delete when not (open or who = me)',
  'people may read (all) when code = "v1" or who = me and code = "v8"',
  'people may read (all) when some h in hives has (h.keeper = me)  lead may update (code) when me.boss.age > 3 or n = 1',
  'people may read (all) when now > "2026-01-01T00:00:00Z" and me.age > 29  keeper may update (code) when who.boss = me',
];
const rulebooks = changes.map((rules) =>
  parse(
    `${schema} rules visits { ${rules} } rules people { people may read (name) } rules hives { people may read (all) when keeper = me or keeper is missing and code is present  people may update (note) when keeper = me }`,
  ),
);
const person = (name: string, values: object, ...roles: string[]): Caller => ({
  person: { id: idOf(name), values: { ...whole('people', records.people![1]!), id: idOf(name), ...values } },
  roles: new Set(roles),
});
const callers: readonly Caller[] = [
  ada(),
  ada('keeper'),
  person('ben', {}, 'keeper', 'lead'),
  person('cyd', { age: 40 }, 'lead'),
  { person: null, roles: new Set() },
];
const peopleOf = (was: (typeof rulebooks)[number], is: typeof was): Person[] =>
  callers.map((caller, index) => ({
    who: { kind: 'person', name: String(index) },
    was: new Access(was, caller, NOW).withSets('hashed'),
    is: new Access(is, caller, NOW).withSets('hashed'),
  }));
const pairs = rulebooks.flatMap((was, index) =>
  [1, 2, 5].map((by) => [was, rulebooks[(index + by) % rulebooks.length]!] as const),
);

test('what each of many gains and loses comes out as it does for each alone, with records of it', async () => {
  let differing = 0;
  const seen = { gained: 0, lost: 0, named: 0, alone: 0 };
  for (const [was, is] of pairs) {
    const people = peopleOf(was, is);
    const same = sameFor(people, both);
    const others = people.filter((each) => !same.has(each));
    for (const each of same) expect(effectsSql(each.was, each.is, both)).toBe(null);
    for (const each of others) expect(effectsSql(each.was, each.is, both)).not.toBe(null);
    const together = await countTogether(own.database, both, others, Infinity);
    const { found } = await countAlone(own.database, new Map(others.map((each) => [each, [both]])), Infinity);
    for (const { person: each, counted } of found) {
      const about = `${changes[rulebooks.indexOf(was)]} → ${changes[rulebooks.indexOf(is)]}, ${each.who.name}`;
      const theirs = together.get(each);
      if (theirs === undefined) {
        seen.alone++;
        continue;
      }
      differing++;
      const ids = await idsOf(each);
      for (const { operation, field, more, less, ...counts } of counted) {
        const at = theirs.counted.findIndex((one) => one.operation === operation && one.field === field);
        const { operation: _, field: __, more: gains, less: losses, ...told } = theirs.counted[at]!;
        expect(told, `${about}: ${operation} ${field}`).toEqual(counts);
        // The examples may be others, and are of those that are gained and lost.
        const gained = ids({ operation, field });
        expect([gains.length > 0, losses.length > 0], about).toEqual([more.length > 0, less.length > 0]);
        expect(
          gains.every((id) => gained.more.has(id)) && losses.every((id) => gained.less.has(id)),
          about,
        ).toBe(true);
        seen.gained += counts.gained;
        seen.lost += counts.lost;
        seen.named += gains.length + losses.length;
      }
      // Of what is not told alone, as both sides say the same, nothing is gained or lost.
      for (const one of theirs.counted)
        if (!counted.some(({ operation, field }) => operation === one.operation && field === one.field))
          expect([one.gained, one.lost], about).toEqual([0, 0]);
    }
  }
  expect(differing).toBeGreaterThan(100);
  expect(Math.min(seen.gained, seen.lost, seen.named)).toBeGreaterThan(300);
  expect(seen.alone).toBeLessThan(differing / 2);
});

/** What somebody gains and loses of each kind, by id: what `effectsSql` counts, record by record. */
async function idsOf({ was, is }: Person) {
  const { items, statement } = effectsSql(was, is, both)!;
  const { text, values } = statement;
  const records = {
    text: text.slice(text.indexOf('from (select') + 6, text.lastIndexOf(') as each')),
    values,
  };
  const rows = await run<Record<string, string | boolean>>(own.database, records);
  return ({ operation, field }: Pick<Counted, 'operation' | 'field'>) => {
    const place = items.findIndex((each) => each.operation === operation && each.field === field);
    const those = (before: boolean) =>
      new Set(
        rows
          .filter((row) => row[`b_${place}`] === before && row[`a_${place}`] === !before)
          .map((row) => row.id as string),
      );
    return { more: those(false), less: those(true) };
  };
}

test('what is there on one side alone is gained or lost by many as by each', async () => {
  const [was, is] = [rulebooks[6]!, rulebooks[1]!];
  const people = peopleOf(was, is);
  const onOneSide = (side: 'was' | 'is', fields_: BothSides['fields']): BothSides => ({
    ...both,
    [side]: null,
    fields: fields_.map((each) => ({ ...each, [side]: null })),
  });
  const lacking = (name: string, side: 'was' | 'is') =>
    both.fields.map((each) => (each.name === name ? { ...each, [side]: null } : each));
  for (const sides of [
    onOneSide('was', both.fields),
    onOneSide('is', both.fields),
    { ...both, fields: lacking('n', 'was') },
    { ...both, fields: lacking('code', 'is') },
  ]) {
    const together = await countTogether(own.database, sides, people, Infinity);
    const { found } = await countAlone(
      own.database,
      new Map(people.map((each) => [each, [sides]])),
      Infinity,
    );
    expect([together.size, found.length]).toEqual([people.length, people.length]);
    for (const { person: each, counted } of found)
      for (const { more, less, ...counts } of counted) {
        const {
          more: gains,
          less: losses,
          ...told
        } = together
          .get(each)!
          .counted.find(({ operation, field }) => operation === counts.operation && field === counts.field)!;
        expect(told).toEqual(counts);
        expect([gains.length > 0, losses.length > 0]).toEqual([more.length > 0, less.length > 0]);
      }
  }
});

test('more kinds of records than can be told apart are told to be more, and few people are counted alone', async () => {
  const [was, is] = [rulebooks[6]!, rulebooks[11]!];
  const people = peopleOf(was, is);
  const kinds = new EffectKinds(both);
  for (const each of people) kinds.add(each);
  const all = await run<CommonKind>(own.database, kinds.all(100));
  expect(all.length).toBeGreaterThan(2);
  expect(await run(own.database, kinds.all(1))).toHaveLength(2);
  expect(all.reduce((sum, { n }) => sum + n, 0)).toBe(104);
  // A visitor has no conditions of their own; whoever has some finds what they are true of, and nobody else’s.
  expect([kinds.own(4, 'hashed'), kinds.others(4, [])]).toEqual([null, null]);
  const found = await run<OwnKind>(own.database, kinds.own(0, 'hashed')!);
  const searched = await run<OwnKind>(own.database, kinds.own(0, 'searched')!);
  expect(new Set(searched.map((each) => JSON.stringify(each)))).toEqual(
    new Set(found.map((each) => JSON.stringify(each))),
  );
  const count = found.reduce((sum, { n }) => sum + n, 0);
  expect([count > 0, count < 104]).toEqual([true, true]);
  expect(await countTogether(own.database, both, people.slice(0, 3), Infinity)).toEqual(new Map());
});

test('people are counted as long as there is time, and identities in any case', async () => {
  const [was, is] = [rulebooks[6]!, rulebooks[11]!];
  const people = peopleOf(was, is).map((each, index): Person =>
    index < 2 ? { ...each, who: { kind: 'identity', name: String(index) } } : each,
  );
  const [identities, others] = [people.slice(0, 2), people.slice(2)];
  const together = await countTogether(own.database, both, people, 0);
  expect([...together.keys()]).toEqual(identities);
  const { found, unfinished } = await countAlone(
    own.database,
    new Map(people.map((each) => [each, [both]])),
    0,
  );
  expect(found.map(({ person: each }) => each)).toEqual(identities);
  expect([...unfinished]).toEqual(others);
  // Whoever has nothing left to be counted is not unfinished.
  const none = await countAlone(own.database, new Map(people.map((each) => [each, []])), 0);
  expect([none.found, none.unfinished.size]).toEqual([[], 0]);
});

test('whoever is shared something is counted alone, and everybody where there are too many kinds', async () => {
  // In both of them some may share.
  const [was, is] = [
    rulebooks[7]!,
    parse(`${schema} rules visits { people may read (all)  people may share when open }`),
  ];
  const share = {
    collection: 'visits',
    record: idOf('v2'),
    operations: ['read'],
    sharer: idOf('ben'),
  } as const;
  const ben = new Map([[idOf('ben'), callers[2]!]]);
  const [guest, ...others] = peopleOf(was, is);
  const sharedBy = ({ rulebook, caller }: Access) =>
    new Access(rulebook, { ...caller, shared: sharingsOf(rulebook, [share], ben) }, NOW).withSets('hashed');
  const people = [{ ...guest!, was: sharedBy(guest!.was), is: sharedBy(guest!.is) }, ...others];
  const together = await countTogether(own.database, both, people, Infinity);
  expect([...together.keys()]).toEqual(others);
  expect((await countTogether(own.database, both, others, Infinity, 1)).size).toBe(0);
});
