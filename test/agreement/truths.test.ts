import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { leavesOf } from '../../src/core/decide/nodes.ts';
import { sharingsOf } from '../../src/core/decide/shares.ts';
import { fencesAlong } from '../../src/core/decide/steps/delete.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { workOutCaller } from '../../src/core/evaluate/attributes.ts';
import { Access } from '../../src/core/sql/access.ts';
import { arrivalParts } from '../../src/core/sql/arrival.ts';
import { conditionSql, typed } from '../../src/core/sql/conditions.ts';
import { commaList, sql, value, type Fragment } from '../../src/core/sql/fragment.ts';
import { identifier, tableOf } from '../../src/core/sql/identifiers.ts';
import {
  countSql,
  formulations,
  listSql,
  readManySql,
  readSql,
  type ListQuestion,
} from '../../src/core/sql/list.ts';
import {
  deleteSql,
  insertSql,
  referencesSql,
  stoppedSql,
  truthsOf,
  truthsSql,
  updateSql,
} from '../../src/core/sql/writes.ts';
import { collectionOf, type Collection } from '../../src/core/types/schema.ts';
import { JsonDocument, JsonPatch, type Value } from '../../src/core/types/types.ts';
import { rowsOf } from '../../src/store/batch.ts';
import { run } from '../../src/store/connection.ts';
import { fullRecord } from '../../src/store/records/full.ts';
import type { VisibleRecord } from '../../src/store/records/outcome.ts';
import { jsonOfAll, visibleRecord } from '../../src/store/records/rows.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { filterTruths, person, records, ruleTruths, schema, type Stated } from '../decide/truths.ts';
import type { OwnDatabase } from '../support/database.ts';
import { ada, filterOf, idOf, names, ruleOf, rulebook, storedTruths, whole } from './stored-truths.ts';

/** The conditions that are written down by hand for the closures, asked of PostgreSQL. */
let own: OwnDatabase;
beforeAll(async () => {
  own = await storedTruths();
  await run(
    own.database,
    sql`insert into gate.shares (id, collection, record, operations, sharer, audience)
      values (gen_random_uuid(), 'visits', ${value(idOf('v2'))}::uuid, array['read'], ${value(idOf('ben'))}::uuid, 'everybody')`,
  );
});
afterAll(() => own.drop());

test.each([
  ['filters', filterTruths, filterOf],
  ['rules', ruleTruths, ruleOf],
] as const)(
  '%s come out in PostgreSQL as is written down, in every precision and as sets',
  async (_, all, of) => {
    const me = ada('keeper');
    const { fields } = collectionOf(rulebook.schema, 'hives');
    const asked = all.map(([text, given]: Stated): Fragment[] => {
      const { condition, rules } = of(text);
      const access = new Access(rules, me, NOW);
      const around = access.around('r', me.roles);
      const record = whole('hives', { id: 'h', ...given });
      const row = commaList(
        [...fields.values()].map(
          ({ name, type }) => sql`${typed(record[name]!, type)} as ${identifier(name)}`,
        ),
      );
      const one = (each: Fragment) => sql`(select ${each} from (select ${row}) as r)`;
      return [
        one(conditionSql(condition, around, 'exact')),
        one(sql`(${conditionSql(condition, around, 'true')}) is true`),
        one(sql`(${conditionSql(condition, around, 'false')}) is false`),
        one(sql`(${conditionSql(condition, access.withSets().around('r', me.roles), 'true')}) is true`),
        one(
          sql`(${conditionSql(condition, access.withSets('hashed').around('r', me.roles), 'true')}) is true`,
        ),
      ];
    });
    for (const [index, [text, given, truth]] of all.entries()) {
      const columns = asked[index]!.map((each, at) => sql`${each} as ${identifier(`c_${at}`)}`);
      const [row] = await run<Record<string, boolean | null>>(
        own.database,
        sql`select ${commaList(columns)}`,
      );
      expect(row, `${text}, of ${JSON.stringify(given)}`).toEqual({
        c_0: truth,
        c_1: truth === true,
        c_2: truth === false,
        c_3: truth === true,
        c_4: truth === true,
      });
    }
  },
);

const visits = records.visits!.map(({ id }) => id as string);

/** How often a page was found by few rows first, and was not empty. */
let fewFirst = 0;

/** What somebody sees of the visits, by every way of asking; the ways must agree. */
async function sightOf(rules: string, roles: readonly string[], filter: string | null = null) {
  const { rulebook: asked, access } = accessFor(rules, roles);
  const checked = filter === null ? null : checkFilter(filter, 'visits', asked);
  if (checked !== null && !checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
  const question: ListQuestion = {
    collection: 'visits',
    filter: checked === null ? null : checked.condition,
    order: [{ field: 'id', descending: false }],
    after: null,
    limit: 100,
  };
  const reading = access.selectList('visits', 'r');
  const named = (rows: readonly Record<string, unknown>[]) =>
    rows.map((row) => {
      const { id, shown } = visibleRecord(row, reading);
      const name = [...names].find(([, of]) => of === id)![0];
      return `${name}${shown.has('code') ? '' : '*'}`;
    });
  const found: Record<string, string[]> = {};
  for (const { form, statement } of formulations(access, question)) {
    found[form] = named(await run(own.database, statement));
    if (form !== 'few first') continue;
    // As if what is there were many, too.
    found['many first'] = named(await run(own.database, listSql(access, question, form, 0)));
    if (found[form].length > 0) fewFirst++;
  }
  const [told] = Object.values(found);
  for (const { form, statement } of countSql(access, question)) {
    const [row] = await run<{ count: number }>(own.database, statement);
    expect(row!.count, `count by ${form}: ${statement.text}`).toBe(told!.length);
  }
  if (filter === null) {
    const singly: Record<string, unknown>[] = [];
    for (const id of visits)
      singly.push(...(await run(own.database, readSql(access, 'visits', idOf(id), false).statement)));
    found.singly = named(singly);
    const ids = visits.map(idOf);
    found.together = named(await run(own.database, readManySql(access, 'visits', ids).statement)).toSorted();
    const pointed = ids.map((id) => ({ collection: 'visits', id }));
    const [flags] = await run<Record<string, boolean>>(own.database, referencesSql(access, pointed));
    found.pointed = visits.filter((_, index) => flags![`found_${index}`]);
    expect(found.pointed).toEqual(told!.map((each) => each.replace('*', '')));
    delete found.pointed;
  }
  for (const [way, each] of Object.entries(found)) expect(each, `${way}: ${rules}`).toEqual(told);
  return told!.join(' ');
}

function accessFor(rules: string, roles: readonly string[]) {
  const people =
    'rules people { people may read (all), update (age) } accept people feeds visits because "a test"';
  const asked = parse(`${schema} ${people} rules visits { ${rules} }`);
  // Ben is a keeper, and shares one visit with whoever is called “guest”.
  const ben: Caller = {
    person: { id: idOf('ben'), values: whole('people', records.people![1]!) },
    roles: new Set(['keeper']),
  };
  const caller: Caller = roles.includes('visitor')
    ? { person: null, roles: new Set() }
    : roles[0]?.startsWith('guest')
      ? { ...ada(), shared: sharedBy(asked, ben, roles[0]) }
      : ada(...roles);
  return { rulebook: asked, access: new Access(asked, caller, NOW) };
}

/** What reaches a guest: said outright, or asked of the database, by name or of too much to be named. */
function sharedBy(asked: Rulebook, ben: Caller, guest: string) {
  const record = guest === 'guest of much' ? null : idOf('v2');
  const share = { collection: 'visits', record, operations: ['read'], sharer: idOf('ben') } as const;
  return sharingsOf(asked, [share], new Map([[idOf('ben'), ben]]), guest !== 'guest');
}

test.each([
  ['people may read (all)', [], 'v1 v2 v3 v4 v5 v6 v7 v8'],
  ['people may read (all)  nobody may read unless open', [], 'v1 v5'],
  ['people may read (all)  nobody may read unless open  nobody may read unless who = me', [], 'v1'],
  [
    'people may read (all) when open or who = me  nobody but keeper may read unless who = me',
    ['keeper'],
    'v1 v5 v8',
  ],
  [
    'people may read (all) when open or who = me  nobody but keeper may read unless who = me',
    ['lead'],
    'v1 v8',
  ],
  ['keeper may read (all) when not open  people may read (all) when who = me', ['keeper'], 'v1 v2 v4 v7 v8'],
  ['keeper may read (all) when not open  people may read (all) when who = me', [], 'v1 v8'],
  // Grounds that are put as sets of ids, with what else is asked beside them.
  ['people may read (all) when who.boss.name is missing and who = me and open', [], 'v1'],
  ['people may read (all) when (who.age = 30 and not open) or (who.boss = me)', [], 'v8'],
  [
    'people may read (all) when (who.age = 30 and not open) or n = 0  nobody may read unless who = me',
    [],
    'v1 v8',
  ],
  ['people may read (all) when who.age = 30 or who.age < 3  nobody may read unless not open', [], 'v8'],
  // Single fields.
  ['people may read (all)  nobody may read (code) unless who = me', [], 'v1 v2* v3* v4* v5* v6* v7* v8'],
  ['people may read (all but code)  people may read (code) when open', [], 'v1 v2* v3* v4* v5 v6* v7* v8*'],
  ['people may read (all but code)  keeper may read (code)', [], 'v1* v2* v3* v4* v5* v6* v7* v8*'],
  ['people may read (id) when open  people may read (code) when who = me', [], 'v1 v5* v8'],
  ['keeper may read (all)', [], ''],
  // What a role of the caller’s makes known, one way or the other.
  ['people may read (all) when me has role lead', [], ''],
  ['people may read (all) when me has role lead', ['lead'], 'v1 v2 v3 v4 v5 v6 v7 v8'],
  ['people may read (all) when me has role lead or who = me', [], 'v1 v8'],
  // Shared is the one record, with what its sharer sees of it, past the guest’s own fences.
  ['keeper may read (all)  keeper may share', ['guest'], 'v2'],
  ['keeper may read (all but code)  keeper may share', ['guest'], 'v2*'],
  ['keeper may read (all)  keeper may share when open', ['guest'], ''],
  ['keeper may read (all)  keeper may share  nobody may read unless open', ['guest'], ''],
  // Whoever may not share it shares nothing.
  ['keeper may read (all)  lead may share', ['guest'], ''],
  ['keeper may read (all)  people may share when who = me', ['guest'], ''],
  ['keeper may read (all) when n is missing  keeper may share when me.age is missing', ['guest'], 'v2'],
  ['keeper may read (all) when created_at = me.created_at  keeper may share', ['guest'], 'v2'],
  ['keeper may read (all)  keeper may share  people may read (all) when who = me', ['guest'], 'v1 v2 v8'],
  // Nobody may change on their own entry what is closed there, and a visitor has none.
  ['people may read (all) when me may update who (age) and me.age > 1', [], 'v7'],
  ['everybody may read (all) when who.boss is missing and me may read who', ['visitor'], ''],
  ['everybody may read (all) when open', ['visitor'], 'v1 v5'],
  ['people may read (all)', ['visitor'], ''],
  ['people may read (all)  nobody may read', [], ''],
])(
  '“%s” shows those with %j “%s”, by list, by count, by id and by reference',
  async (rules, roles, expected) => {
    expect(await sightOf(rules, roles)).toBe(expected);
    // What is shared is found in the database, too, where it is too much to be named.
    if (roles.includes('guest'))
      for (const guest of ['guest by name', 'guest of much'])
        expect(await sightOf(rules, [guest])).toBe(expected);
  },
);

test('what is shared is walked along from page to page, either way', async () => {
  const { access } = accessFor('keeper may read (all)  keeper may share', ['guest of much']);
  const back = new Error('taken back');
  const shared = own.database.transaction(async (on) => {
    for (const name of ['v5', 'v7'])
      await run(
        on,
        sql`insert into gate.shares (id, collection, record, operations, sharer, audience)
          values (gen_random_uuid(), 'visits', ${value(idOf(name))}::uuid, array['read'], ${value(idOf('ben'))}::uuid, 'everybody')`,
      );
    for (const [descending, after, expected] of [
      [false, null, 'v2 v5 v7'],
      [false, 'v2', 'v5 v7'],
      [false, 'v7', ''],
      [true, null, 'v7 v5 v2'],
      [true, 'v7', 'v5 v2'],
    ] as const) {
      const question: ListQuestion = {
        collection: 'visits',
        filter: null,
        order: [{ field: 'id', descending }],
        after: after === null ? null : [idOf(after)],
        limit: 100,
      };
      const forms = formulations(access, question);
      expect(forms.map(({ form }) => form)).toEqual(['shared']);
      const rows = await run<Record<string, unknown>>(on, forms[0]!.statement);
      const reading = access.selectList('visits', 'r');
      const found = rows.map((row) => [...names].find(([, of]) => of === visibleRecord(row, reading).id)![0]);
      expect(found.join(' '), `${descending} ${after}`).toBe(expected);
    }
    throw back;
  });
  await expect(shared).rejects.toBe(back);
});

test.each([
  ['people may read (all)  nobody may read (code) unless who = me', 'code starts with "v"', 'v1 v8'],
  [
    'people may read (all)  nobody may read (code) unless who = me',
    'code is missing',
    'v2* v3* v4* v5* v6* v7*',
  ],
  ['people may read (all)  nobody may read unless open', 'code starts with "v"', 'v1 v5'],
  ['people may read (all)', 'who.age = 30', 'v1 v8'],
  ['people may read (all)  nobody may read (who) unless open', 'who.age = 30', 'v1'],
  ['people may read (id, who, code)', 'open', ''],
])('“%s”: a filter “%s” finds “%s”', async (rules, filter, expected) => {
  expect(await sightOf(rules, [], filter)).toBe(expected);
});

test('a filter goes through readable records alone, and sees of them what the caller sees', async () => {
  const rules = (people: string) =>
    parse(`${schema} rules people { ${people} }
    rules visits { everybody may read (all) when who is missing or who.boss is missing or open }`);
  const narrow = rules('people may read (all) when this = me  everybody may read (id)');
  const look = async (caller: Caller, filter: string, asked = narrow) => {
    const checked = checkFilter(filter, 'visits', asked);
    if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    const access = new Access(asked, caller, NOW);
    const statement = sql`select r.code from records.visits as r where ${access.filter(checked.condition, 'r')} order by r.id`;
    return (await run<{ code: string }>(own.database, statement)).map(({ code }) => code).join(' ');
  };
  const visitor: Caller = { person: null, roles: new Set() };
  // Ben’s age, and whom he works for, are not ada’s to see; her own are.
  expect([await look(ada(), 'who.age = 30'), await look(visitor, 'who.age = 30')]).toEqual(['v1 v8', '']);
  expect(await look(visitor, 'who is missing')).toBe('v2 v3 v4 v5 v6');
  const open = rules('people may read (all)');
  const fenced = rules('people may read (all)  nobody may read unless this = me');
  expect(await look(ada(), 'who.created_at <= "2026-05-01T12:00:00Z"', open)).toBe('v1 v7 v8');
  expect(await look(ada(), 'who.created_at <= "2026-05-01T12:00:00Z"', fenced)).toBe('v1 v8');
});

test('a filter goes up a tree through readable records alone', async () => {
  const hive = whole('hives', { id: 'hx', yard: 'shed', keeper: 'cyd', created_at: NOW, updated_at: NOW });
  const keeper = whole('people', person('cyd', { yard: 'top' }));
  const back = new Error('taken back');
  await own.database
    .transaction(async (on) => {
      const put = (collection: string, record: RecordValues) =>
        run(on, insertSql(collectionOf(rulebook.schema, collection), new Map(Object.entries(record))));
      await put('people', keeper);
      await put('hives', hive);
      const found = async (when: string, filter: string) => {
        const asked = parse(
          `${schema} rules people { people may read (all) } rules hives { people may read (all) } rules yards { ${when} }`,
        );
        const checked = checkFilter(filter, 'hives', asked);
        if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
        const access = new Access(asked, ada(), NOW);
        const counts: number[] = [];
        for (const each of [access, access.withSets(), access.withSets('hashed')]) {
          const statement = sql`select r.id from records.hives as r where ${each.filter(checked.condition, 'r')}`;
          counts.push((await run(on, statement)).length);
        }
        expect(counts).toEqual(counts.map(() => counts[0]));
        return counts[0];
      };
      const [within, outside] = ['yard within keeper.yard', 'not (yard within keeper.yard)'];
      const both = async (when: string) => [await found(when, within), await found(when, outside)];
      expect(await both('people may read (all)')).toEqual([1, 0]);
      // As the caller sees the tree, it ends at a record that is not shown, or whose parent is not.
      expect(await both('people may read (all) when name != "shed"')).toEqual([0, 1]);
      expect(await both('people may read (all) when name != "east"')).toEqual([0, 1]);
      expect(await both('people may read (id, name)  people may read (all) when name = "top"')).toEqual([
        0, 1,
      ]);
      throw back;
    })
    .catch((error: unknown) => {
      if (error !== back) throw error;
    });
});

test('what a filter speaks of many times is asked once for a row, with the same answer', async () => {
  const rules = 'people may read (all but code)  people may read (code) when open or who.boss = me';
  const many = (...texts: string[]) => texts.join(' or ');
  const ors = Array.from({ length: 90 }, (_, n) => `code = "x${n}"`);
  expect(await sightOf(rules, [], many(...ors, 'code = "v1"', 'code = "v7"'))).toBe('v1');
  expect(await sightOf(rules, [], 'who.age = 30 and not (who.age = 31) and who.age is present')).toBe(
    'v1 v8*',
  );
  expect(await sightOf(rules, [], many('code is missing', 'code = "v5"'))).toBe('v2* v3* v4* v5 v6* v7* v8*');
  const { access, rulebook: asked } = accessFor(rules, []);
  const checked = checkFilter(many(...ors), 'visits', asked);
  if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
  const { text } = access.filter(checked.condition, 'r');
  expect(text.split('"boss"').length - 1).toBeLessThan(4);
});

test.each<[string, 'deleted' | 'cleared', number]>([
  ['nobody may delete unless open', 'deleted', 6],
  ['nobody may read unless open', 'deleted', 6],
  ['nobody may update unless open', 'deleted', 0],
  ['nobody may update unless open', 'cleared', 6],
  ['nobody may update (who) unless old.open', 'cleared', 6],
  ['nobody may update (n) unless open', 'cleared', 0],
  ['nobody may delete unless open', 'cleared', 0],
  ['nobody may update unless new.who is present', 'cleared', 7],
  ['nobody may update unless old.who is present', 'cleared', 5],
  // What hides a record is asked of it as it is.
  ['nobody may read unless who is present', 'cleared', 5],
  ['nobody may read unless some w in visits has (w.code = "v7")', 'cleared', 0],
  // What is asked of the time after sees all that the deletion comes to: what goes along, and what others lose.
  ['nobody may update unless some w in visits has (w.who = me)', 'cleared', 8],
  ['nobody may update unless some w in visits has (w.who is present)', 'cleared', 8],
  ['nobody may update unless some w in visits has (w.code = "v7")', 'cleared', 8],
  ['nobody may update unless some w in visits has (w.code = "v6")', 'cleared', 0],
  ['nobody may update unless no w in visits has (w.code = "v7")', 'cleared', 8],
  ['nobody may update unless some p in people has (p.age = 30)', 'cleared', 8],
  ['nobody may update unless some h in hives has (h.keeper = me)', 'cleared', 8],
  ['nobody may update unless some y in yards has (y.name = "top")', 'cleared', 0],
  ['nobody may update unless new.updated_at > old.updated_at', 'cleared', 6],
  [
    'nobody may update unless count(w in visits where w.updated_at > "2030-01-01T00:00:00Z") < 3',
    'cleared',
    0,
  ],
  [
    'nobody may update unless count(w in visits where w.updated_at > "2030-01-01T00:00:00Z") < 2',
    'cleared',
    8,
  ],
])('“%s” stops, of eight visits that are %s with another record, %i', async (fence, how, expected) => {
  const { access: now } = accessFor(`people may read (all)  ${fence}`, ['keeper']);
  const access = new Access(now.rulebook, now.caller, '2031-01-01T00:00:00.000000Z');
  const field = how === 'cleared' ? 'who' : null;
  const leaves = leavesOf(fencesAlong(access.rulebook, access.caller, 'visits', field));
  const lost = { collection: 'visits', field: 'who', ids: ['v1', 'v8'].map(idOf), targets: [idOf('ada')] };
  const gone = new Map([
    ['people', [idOf('ada')]],
    ['visits', [idOf('v7')]],
  ]);
  const kept = { collection: 'hives', field: 'keeper', ids: [], targets: [idOf('ada')] };
  const after = field === null ? null : { removed: gone, cleared: [lost, kept] };
  const statement = stoppedSql(access, leaves, 'visits', visits.map(idOf), after);
  const [row] = await run<{ count: number }>(own.database, statement);
  expect(row!.count).toBe(expected);
});

test('what is worked out of a caller is the same in PostgreSQL as by the closures, and as is written down', async () => {
  const asked = parse(`${schema}
    attribute home text = me.yard.name
    attribute over text = me.yard.up.name
    attribute boss_age integer = me.boss.age
    attribute seen integer = count(v in visits where v.who is present and v.who = me)
    attribute codes list of text = every v.code for v in visits where v.who is present
    attribute kinds list of one of ("log", "box") = every h.kind for h in hives where h.size is present
    attribute weights list of decimal = every v.weight for v in visits where v.code != "-"
    attribute open_ones list of boolean = every v.open for v in visits where v.code != "-"
    attribute below list of ref yards = every y for y in yards where y within me.yard
    attribute since timestamp = me.created_at + 1 days
    claim tenant text from "tenant"
    claim level integer from "level"
    claim groups list of text from "groups"
    role elder when me.age > 20
    role office when me.email ends with ".example"
    role busy when me.seen > 1 and me.tenant = "oak"
    role known when me.codes contains "v7"
    role later when today > "2026-04-30" and now < "2026-05-02T00:00:00Z"
    role first includes elder`);
  const all = Object.fromEntries(
    Object.keys(records).map((name) => [name, records[name]!.map((each) => whole(name, each))]),
  );
  const world = {
    now: NOW,
    look: (name: string, id: string) => all[name]!.find((each) => each.id === id) ?? null,
    all: (name: string) => all[name]!,
  };
  const columns = (parts: ReturnType<typeof arrivalParts>) =>
    commaList([
      ...parts.attributes.map((each) => sql`${each.value} as ${identifier(each.name)}`),
      ...parts.roles.map(({ role, holds }) => sql`(${holds}) is true as ${identifier(`r_${role}`)}`),
    ]);
  const found: unknown[] = [];
  for (const [name, email, claims] of [
    ['ada', 'ada@hollowoak.example', { tenant: 'oak', level: 3, groups: ['b', 'a'] }],
    ['ada', null, { tenant: 7, level: 'x', groups: 'a' }],
    ['ben', 'ben@elsewhere', {}],
  ] as const) {
    const person = { ...all.people!.find(({ id }) => id === idOf(name))!, id: idOf(name), email };
    const caller = workOutCaller(asked, person, [], claims, world);
    const parts = arrivalParts(
      asked,
      'p',
      sql`${value(email)}::text`,
      sql`${value(NOW)}::timestamptz`,
      claims,
    );
    // Texts are in the same order whatever the database takes for one.
    const written = parts.joins.map(({ text }) => text).join(' ');
    expect(written.split('each collate "C"').length - 1).toBe(2);
    const joins = parts.joins.reduce((before, each) => sql`${before} ${each}`, sql``);
    const [row] = await run<Record<string, Value>>(
      own.database,
      sql`select ${columns(parts)} from records.people as p ${joins} where p.id = ${value(idOf(name))}::uuid`,
    );
    const attributes = [...asked.attributes.keys()];
    expect(Object.fromEntries(attributes.map((each) => [each, row![each]]))).toEqual(
      Object.fromEntries(attributes.map((each) => [each, caller.person!.values[each]])),
    );
    expect(parts.roles.map(({ role }) => role)).toEqual(['elder', 'office', 'busy', 'known', 'later']);
    expect(parts.roles.filter(({ role }) => row![`r_${role}`]).map(({ role }) => role)).toEqual([
      ...caller.roles,
    ]);
    const { home, over, boss_age, seen, codes, weights, open_ones, below, since, tenant, level, groups } =
      row!;
    const short = (below as string[]).map((id) => [...names].find(([, each]) => each === id)![0]).toSorted();
    found.push([
      home,
      over,
      boss_age,
      seen,
      codes,
      weights,
      open_ones,
      short,
      since,
      tenant,
      level,
      groups,
      [...caller.roles],
    ]);
  }
  const same = [['v1', 'v7', 'v8'], ['1.00'], [false, true]];
  expect(found).toEqual([
    [
      'east',
      'top',
      null,
      2,
      ...same,
      ['east', 'shed'],
      '2026-05-02T12:00:00Z',
      'oak',
      3,
      ['b', 'a'],
      ['elder', 'office', 'busy', 'known', 'later'],
    ],
    [
      'east',
      'top',
      null,
      2,
      ...same,
      ['east', 'shed'],
      '2026-05-02T12:00:00Z',
      null,
      null,
      null,
      ['elder', 'known', 'later'],
    ],
    [null, null, null, 1, ...same, [], '2026-05-02T12:00:00Z', null, null, null, ['known', 'later']],
  ]);
});

test('an address that is changed is verified no more, and one that is sent as it is stays so', async () => {
  const people = collectionOf(rulebook.schema, 'people');
  const id = idOf('ben');
  const set = async (email: string | null) => {
    await run(own.database, updateSql(people, id, new Map<string, Value>([['email', email]])));
    const found = await run<{ verified: boolean }>(
      own.database,
      sql`select _email_verified as verified from records.people where id = ${value(id)}::uuid`,
    );
    return found[0]!.verified;
  };
  const verify = () =>
    run(own.database, sql`update records.people set _email_verified = true where id = ${value(id)}::uuid`);
  await set('ben@hollowoak.example');
  await verify();
  expect(await set('ben@hollowoak.example')).toBe(true);
  expect(await set('cleo@hollowoak.example')).toBe(false);
  await verify();
  await run(own.database, updateSql(people, id, new Map<string, Value>([['age', 3]])));
  const kept = await run<{ verified: boolean }>(
    own.database,
    sql`select _email_verified as verified from records.people where id = ${value(id)}::uuid`,
  );
  expect(kept[0]!.verified).toBe(true);
  expect(await set(null)).toBe(false);
});

test('a record is put in with every field as it was given, and of one that is not there no condition is true', async () => {
  const of = collectionOf(rulebook.schema, 'visits');
  const given = {
    id: 'v9',
    code: 'v9',
    hive: 'h',
    open: true,
    who: 'ben',
    weight: '2.50',
    n: 0,
    created_at: NOW,
    updated_at: NOW,
  };
  const record = whole('visits', given);
  const { access } = accessFor('people may read (all)  people may update (all) when open', []);
  const grounds = access.permission('update', 'visits').grounds.map(({ leaf }) => leaf);
  const truths = async () => {
    const flags = truthsSql(access, grounds, 'visits', idOf('v9'), { kind: 'none' });
    const [row] = await run<Record<string, boolean | null>>(own.database, flags.statement);
    return truthsOf(flags, row).size;
  };
  expect(await truths()).toBe(0);
  await run(own.database, insertSql(of, new Map(Object.entries(record))));
  expect(await fullRecord(own.database, access, 'visits', idOf('v9'))).toEqual(record);
  expect(await truths()).toBe(1);
  await run(own.database, deleteSql(of, [idOf('v9')]));
  expect(await fullRecord(own.database, access, 'visits', idOf('v9'))).toBe(null);
});

test.each<[string, Record<string, Value>, boolean]>([
  ['old.name = "a" and new.name = "z"', { name: 'z' }, true],
  ['old.name = "z"', { name: 'z' }, false],
  ['new.name = "a"', { name: 'z' }, false],
  // The way leads over another record back to the one that is changed: each side sees it as it is there.
  ['new.up.up.name = "z"', { name: 'z' }, true],
  ['new.up.up.name = "a"', { name: 'z' }, false],
  ['old.up.up.name = "a"', { name: 'z' }, true],
  ['old.up.up.name = "z"', { name: 'z' }, false],
  // Without a side it is asked on both.
  ['up.up.name = "z"', { name: 'z' }, false],
  ['up.up.name = "a"', { name: 'z' }, false],
  ['up.name = "b"', { name: 'z' }, true],
  ['new.up.name = "top" and old.up.name = "b"', { up: 'top' }, true],
  ['some y in yards has (y.name = "z")', { name: 'z' }, false],
  ['no y in yards has (y.name = "a")', { name: 'z' }, false],
  ['no y in yards has (y.name = "q")', { name: 'z' }, true],
  ['count(y in yards) = 5', { name: 'z' }, true],
])('“%s” is, of yard a that becomes %j, %j', async (when, change, expected) => {
  const asked = parse(
    `${schema} accept yards feeds led because "a test" rules yards { people may read (all)  people may update (all) when ${when} }`,
  );
  const access = new Access(asked, ada(), NOW);
  const grounds = access.permission('update', 'yards').grounds.map(({ leaf }) => leaf);
  const values = new Map(
    Object.entries(change).map(([name, to]) => [name, name === 'up' ? idOf(to as string) : to]),
  );
  const flags = truthsSql(access, grounds, 'yards', idOf('a'), { kind: 'changed', values });
  const [row] = await run<Record<string, boolean | null>>(own.database, flags.statement);
  expect(truthsOf(flags, row).size).toBe(expected ? 1 : 0);
});

test.each<[string, string, Record<string, Value>, boolean]>([
  ['visits', 'who = me', { code: 'v9', who: 'ada' }, true],
  ['visits', 'who = me', { code: 'v9', who: 'ben' }, false],
  ['visits', 'n is missing and open', { open: true }, true],
  // The collection is as it would be with the new record in it.
  ['visits', 'count(v in visits) = 9', {}, true],
  ['visits', 'some v in visits has (v.code = "v9")', { code: 'v9' }, true],
  ['visits', 'some v in visits has (v.code = "v9")', { code: 'v8' }, false],
  ['visits', 'no v in visits has (v.id != this and v.code = code)', { code: 'v8' }, false],
  ['visits', 'who.yard.name = "east"', { who: 'ada' }, true],
  ['people', 'age > 3 and boss = me', { age: 4, boss: 'ada' }, true],
  ['people', 'count(p in people) = 3', { age: 4 }, true],
])('of %s, “%s” is, for a new record with %j, %j', async (collection, when, given, expected) => {
  const asked = parse(
    `${schema} accept people feeds people because "a test" accept people feeds visits because "a test" rules ${collection} { people may create (all) when ${when} }`,
  );
  const access = new Access(asked, ada(), NOW);
  const grounds = access.permission('create', collection).grounds.map(({ leaf }) => leaf);
  const values = new Map(
    Object.entries(whole(collection, { created_at: NOW, updated_at: NOW, ...given, id: 'new' })),
  );
  const flags = truthsSql(access, grounds, collection, null, { kind: 'created', values });
  const [row] = await run<Record<string, boolean | null>>(own.database, flags.statement);
  expect(truthsOf(flags, row).size).toBe(expected ? 1 : 0);
});

test('a time of change never goes back, and what is merged goes into what is there', async () => {
  const [hives, visits_] = ['hives', 'visits'].map((name) => collectionOf(rulebook.schema, name)) as [
    Collection,
    Collection,
  ];
  const back = new Error('taken back');
  await own.database
    .transaction(async (on) => {
      const changed = async (of: Collection, id: string, changes: Record<string, Value>, field: string) => {
        await run(on, updateSql(of, id, new Map(Object.entries(changes))));
        const [row] = await run<{ found: unknown }>(
          on,
          sql`select ${identifier(field)} as found from ${tableOf(of)} where id = ${value(id)}::uuid`,
        );
        return row!.found;
      };
      expect(await changed(visits_, idOf('v1'), { updated_at: '2020-01-01T00:00:00Z' }, 'updated_at')).toBe(
        NOW,
      );
      const later = '2030-01-01T00:00:00Z';
      expect(await changed(visits_, idOf('v1'), { updated_at: later }, 'updated_at')).toBe(later);
      expect(await changed(visits_, idOf('v1'), { created_at: '2020-01-01T00:00:00Z' }, 'created_at')).toBe(
        '2020-01-01T00:00:00Z',
      );
      const more = async (of: JsonDocument) =>
        JSON.stringify(await changed(hives, idOf('h'), { more: of }, 'more'));
      expect(await more(new JsonDocument({ a: 1, b: { c: 2, d: 3 } }))).toBe('{"a":1,"b":{"c":2,"d":3}}');
      expect(await more(new JsonPatch({ a: null, b: { c: 4 } }))).toBe('{"b":{"c":4,"d":3}}');
      expect(await more(new JsonDocument({ b: null }))).toBe('{"b":null}');
      throw back;
    })
    .catch((error: unknown) => {
      if (error !== back) throw error;
    });
});

test('days are those of the clocks of the rulebook’s zone, hours are the same everywhere', async () => {
  const zoned = parse(`time zone "Europe/Athens" ${schema}`);
  const access = new Access(zoned, ada(), NOW);
  const [march, october] = ['2026-03-28T10:00:00Z', '2026-10-24T10:00:00Z'];
  for (const [text, seen, truth] of [
    ['seen + 1 days = "2026-03-29T09:00:00Z"', march, true],
    ['seen + 24 hours = "2026-03-29T10:00:00Z"', march, true],
    ['seen + 1 days = "2026-10-25T11:00:00Z"', october, true],
    ['seen - 1 weeks = "2026-10-17T10:00:00Z"', october, true],
    ['seen + 1 days = "1969-12-31T10:00:00Z"', '1969-12-30T10:00:00Z', true],
    ['due + 1 days = "2026-03-29"', march, true],
  ] as const) {
    const checked = checkFilter(text, 'hives', zoned);
    if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    const row = sql`${typed(seen, { kind: 'timestamp' })} as seen, ${typed('2026-03-28', { kind: 'date' })} as due`;
    const asked = sql`select (select ${conditionSql(checked.condition, access.around('r', new Set()), 'exact')} from (select ${row}) as r) as found`;
    expect((await run<{ found: boolean }>(own.database, asked))[0]!.found, text).toBe(truth);
  }
});

test('a record as JSON is what JSON.stringify makes of its values, of every type, and has what masks leave of it', async () => {
  const access = new Access(
    parse(
      `${schema} rules hives { people may read (all) when note is missing or note != "-"  nobody may read (kind, size) unless size > 5 }`,
    ),
    ada(),
    NOW,
  );
  const reading = access.selectList('hives', 'r');
  const back = new Error('taken back');
  const given = {
    note: null,
    weight: '2.50',
    sold: false,
    kind: 'log',
    due: '2026-05-01',
    seen: '2026-05-01T12:00:00.25Z',
    keeper: 'ada',
    created_at: NOW,
    updated_at: NOW,
  };
  const control = Array.from({ length: 33 }, (_, code) => String.fromCharCode(code))
    .join('')
    .slice(1);
  const cases = [
    [9, 'a "b" \\ \n\u0001\u007f\u2028 ß 🐝', ['a "b"', 'c\\d', '']],
    [123456, control.repeat(9), []],
    [7, 'x'.repeat(200_000), null],
    // Each of them takes six bytes.
    [8, '\u0001'.repeat(100_000), ['ß']],
    [-7, 'low', null],
    [null, 'none', null],
  ] as const;
  await own.database
    .transaction(async (on) => {
      const told: [VisibleRecord, string][] = [];
      for (const [index, [size, code, tags]] of cases.entries()) {
        const record = whole('hives', { ...given, id: `hj${index}`, code, size, tags });
        await run(on, insertSql(collectionOf(rulebook.schema, 'hives'), new Map(Object.entries(record))));
        const statement = sql`select ${commaList(reading.columns)} from records.hives as r${reading.joined} where r.id = ${value(record.id as string)}::uuid`;
        const [row] = await rowsOf(on, statement, false);
        const visible = visibleRecord(row!, reading);
        const withheld =
          (size ?? 0) > 5 ? [] : reading.fields.filter((name) => ['kind', 'size'].includes(name));
        const fields = ['id', ...reading.fields.filter((name) => name !== 'id' && !withheld.includes(name))];
        const seen = Object.fromEntries(fields.map((name) => [name, record[name] ?? null]));
        const json = JSON.stringify({ ...seen, _withheld: withheld });
        expect(visible.json(null), code.slice(0, 9)).toBe(json);
        expect(visible.json(new Set(['size', 'due']))).toBe(
          JSON.stringify({
            id: seen.id,
            ...(withheld.length === 0 ? { size } : {}),
            due: given.due,
            _withheld: withheld.filter((name) => name === 'size'),
          }),
        );
        expect([visible.id, Object.fromEntries(visible.shown), visible.withheld]).toEqual([
          record.id,
          seen,
          withheld,
        ]);
        told.push([visible, json]);
      }
      expect(
        jsonOfAll(
          told.map(([each]) => each),
          null,
        ),
      ).toBe(`[${told.map(([, json]) => json).join(',')}]`);
      expect(jsonOfAll([], null)).toBe('[]');
      // One that cannot be told leaves nothing behind for whoever asks next.
      await run(on, sql`update records.hives set seen = '10000-01-01 00:00:00+00' where code = 'low'`);
      const statement = sql`select ${commaList(reading.columns)} from records.hives as r${reading.joined} where r.code = 'low'`;
      const [row] = await rowsOf(on, statement, false);
      const [[first, json]] = told as [[VisibleRecord, string]];
      const late = visibleRecord(row!, reading);
      expect(() => late.json(null)).toThrow(RangeError);
      expect(first.json(null)).toBe(json);
      expect(() => jsonOfAll([first, late], null)).toThrow(RangeError);
      expect([first.json(null), jsonOfAll([first], null)]).toEqual([json, `[${json}]`]);
      throw back;
    })
    .catch((error: unknown) => {
      if (error !== back) throw error;
    });
});

test('pages follow each other without a gap or a double, by any keys, missing ones last', async () => {
  const ways = [
    ['n'],
    ['-n'],
    ['weight', '-n'],
    ['-weight', 'n', '-code'],
    ['open', '-code'],
    ['-open', 'n'],
    ['code'],
    ['-code'],
    ['who', '-open'],
    ['-created_at', 'code'],
  ];
  for (const rules of [
    'people may read (all)',
    'people may read (all)  nobody may read (n, weight, code) unless who = me',
  ])
    for (const way of ways)
      for (const last of [true, false]) {
        const { access } = accessFor(rules, []);
        const order = [...way, last ? 'id' : '-id'].map((key) => ({
          field: key.replace('-', ''),
          descending: key.startsWith('-'),
        }));
        const page = async (after: readonly Value[] | null, limit: number) => {
          const question = { collection: 'visits', filter: null, order, after, limit };
          const keys = commaList(
            order.map(
              ({ field }, index) =>
                sql`${access.masked('visits', field, 'r')} as ${identifier(`k_${index}`)}`,
            ),
          );
          const rows = await run<{ id: string }>(own.database, listSql(access, question, 'rows'));
          const ids = rows.map((row) => visibleRecord(row, access.selectList('visits', 'r')).id as string);
          const at = ids.at(-1);
          const [row] =
            at === undefined
              ? []
              : await run<Record<string, Value>>(
                  own.database,
                  sql`select ${keys} from records.visits as r where id = ${value(at)}::uuid`,
                );
          return { ids, last: order.map((_, index) => row?.[`k_${index}`] ?? null) };
        };
        const whole_ = (await page(null, 100)).ids;
        expect(whole_).toHaveLength(8);
        for (const size of [1, 3]) {
          const found: string[] = [];
          for (let after: readonly Value[] | null = null; ;) {
            const { ids, last: next } = await page(after, size);
            if (ids.length === 0) break;
            found.push(...ids);
            after = next;
          }
          expect(found, `${rules}, by ${way.join(', ')}`).toEqual(whole_);
        }
      }
});

test('pages were found by few rows first often enough to tell', () => {
  expect(fewFirst).toBeGreaterThan(2);
});
