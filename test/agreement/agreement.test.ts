import { afterAll, beforeAll, expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { prove } from '../../src/core/analysis/prove/index.ts';
import { openSolver } from '../../src/cli/solver.ts';
import { checkFilter, checkRulebook } from '../../src/core/check/index.ts';
import { workOutCaller } from '../../src/core/evaluate/attributes.ts';
import { rolesFor, type Caller, type RecordValues } from '../../src/core/decide/caller.ts';
import { leavesOf } from '../../src/core/decide/nodes.ts';
import { sharingsOf, type Share } from '../../src/core/decide/shares.ts';
import type { Change } from '../../src/core/decide/steps/asking.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import { mayDecider, predicateOf } from '../../src/core/evaluate/may.ts';
import { compilePredicate, type Circumstances } from '../../src/core/evaluate/closures.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import {
  countSql,
  formulations,
  listSql,
  type ListQuestion,
  type OrderKey,
} from '../../src/core/sql/list.ts';
import { daySql, operandSql } from '../../src/core/sql/conditions.ts';
import { commaList, sql, value } from '../../src/core/sql/fragment.ts';
import { identifier } from '../../src/core/sql/identifiers.ts';
import { truthsSql } from '../../src/core/sql/writes.ts';
import { collectionOf, type Schema } from '../../src/core/types/schema.ts';
import type { Scalar, ScalarType, Value } from '../../src/core/types/types.ts';
import { dayOf, shiftTimestamp } from '../../src/core/types/time.ts';
import { compareValues, formatTimestamp, sameValue } from '../../src/core/types/values.ts';
import { copyRecords } from '../../src/store/bulk.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { compareRight, rightsThatDiffer, whyNotComparable } from '../../src/core/analysis/prove/compare.ts';
import { mutationsOf } from '../../src/core/analysis/mutations.ts';
import { placed, plainNames, type CollectionNames, type Names } from '../../src/core/passage/names.ts';
import { run } from '../../src/store/connection.ts';
import { arrive } from '../../src/store/callers.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { compareCounts, compareWithDatabase, reachedByClosures } from '../../src/store/sweep/compare.ts';
import { rolledBack } from '../../src/store/roll-back.ts';
import { countCollection } from '../../src/store/sweep/counts.ts';
import { LoadedWorld } from '../../src/store/world.ts';
import { countVisible, listRecords } from '../../src/store/records/read.ts';
import { fullRecord } from '../../src/store/records/full.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';
import { shrink } from './shrink.ts';
import { RuleWriter, assigned, collections, randomValue, schemaText } from './generator.ts';

/** One meaning, two engines: closures over records in hand against PostgreSQL, cell by cell. */
const SEED = Number(process.env.AGREEMENT_SEED ?? 1);
const ROUNDS = Number(process.env.AGREEMENT_ROUNDS ?? 33);
const RECORDS = 24;
/** Of a hundred pairs of caller and collection: how many have all that they could change compared, some seconds for each. */
const REACHED = Number(process.env.AGREEMENT_REACHED ?? 1);
const NOW = '2026-05-01T12:00:00Z';

let own: OwnDatabase;
/** Every second field, and a whole collection, is kept elsewhere than its name says. */
let names: Names | null = null;
let world: Map<string, Map<string, RecordValues>>;
/** The roles that each person is given by hand. */
const given = new Map<string, string[]>();

function parse(text: string): Rulebook {
  const checked = checkRulebook([{ name: 'agreement.gate', text }]);
  if (!checked.ok)
    throw new Error(
      `the generator wrote what the checker refuses: ${JSON.stringify(checked.diagnostics)}\n${text}`,
    );
  return names === null ? checked.rulebook : placed(checked.rulebook, names);
}

beforeAll(async () => {
  own = await ownDatabase();
  await migrate(own.database);
  const rulebook = parse(schemaText);
  await publish(own.database, rulebook, atTheMachine('test'));
  world = await fillWorld(rulebook.schema);
  names = await movedElsewhere(rulebook);
});

async function movedElsewhere(rulebook: Rulebook): Promise<Names> {
  const plain = plainNames(rulebook);
  const found: Record<string, CollectionNames> = {};
  for (const { name, fields } of rulebook.schema.values()) {
    const moved = [...fields.values()]
      .filter(({ system, name: each }) => !system && each !== 'email' && each !== 'name')
      .filter((_, index) => index % 2 === 0)
      .map((field) => field.name);
    for (const field of moved)
      await run(own.database, {
        text: `alter table records.${name} rename column ${field} to ${field}_9`,
        values: [],
      });
    const columns = moved.map((field) => [field, { id: field, column: `${field}_9` }] as const);
    found[name] = {
      table: name,
      fields: { ...plain.collections[name]!.fields, ...Object.fromEntries(columns) },
    };
  }
  const last = [...rulebook.schema.keys()].findLast((name) => name !== 'people')!;
  await run(own.database, { text: `alter table records.${last} rename to ${last}_9`, values: [] });
  found[last] = { ...found[last]!, table: `${last}_9` };
  return { ...plain, collections: found };
}

afterAll(() => own.drop());

async function fillWorld(schema: Schema): Promise<typeof world> {
  const dice = new Dice(SEED);
  const ids = new Map(
    collections.map((name) => [name as string, Array.from({ length: RECORDS }, (_, i) => dice.uuid(i + 1))]),
  );
  await own.database.transaction(async (transaction) => {
    // The tables point at each other in a circle, so the references wait until all records are there.
    for (const name of collections) {
      for (const field of collectionOf(schema, name).fields.values()) {
        if (field.type.kind !== 'ref' || field.system) continue;
        await run(transaction, {
          text: `alter table records.${name} alter constraint f_${name}__${field.name} deferrable initially deferred`,
          values: [],
        });
      }
    }
    for (const name of collections) {
      const fields = [...collectionOf(schema, name).fields.values()];
      const rows = ids.get(name)!.map((id, index) =>
        fields.map((field): Value => {
          if (field.name === 'id') return id;
          if (field.system) return '2026-01-01T00:00:00Z';
          // Labels and addresses are unique, so they get a number.
          if (field.unique)
            return dice.percent(20)
              ? null
              : `${(randomValue(dice, field.type, ids) as string | null) ?? ''}${index}`;
          return randomValue(dice, field.type, ids);
        }),
      );
      await copyRecords(
        transaction,
        collectionOf(schema, name),
        fields.map((field) => field.name),
        rows,
      );
    }
  });
  for (const person of ids.get('people')!) {
    const roles = assigned.filter(() => dice.percent(40));
    given.set(person, roles);
    for (const role of roles)
      await run(
        own.database,
        sql`insert into gate.role_assignments (person, role) values (${value(person)}::uuid, ${value(role)})`,
      );
  }
  const filled: typeof world = new Map();
  const access = new Access(parse(schemaText), { person: null, roles: new Set() }, NOW);
  for (const name of collections) {
    const records = new Map<string, RecordValues>();
    for (const id of ids.get(name)!) records.set(id, (await fullRecord(own.database, access, name, id))!);
    filled.set(name, records);
  }
  return filled;
}

/** One caller, as each of the engines works out what is known of them. */
interface Both {
  readonly closures: Caller;
  readonly sql: Caller;
}

const visitor: Caller = { person: null, roles: new Set() };

async function callers(seed: number, rulebook: Rulebook, failing: (what: string) => string): Promise<Both[]> {
  const dice = new Dice(seed);
  const found: Both[] = [{ closures: visitor, sql: visitor }];
  for (let count = 0; count < 3; count++) {
    const person = dice.pick([...world.get('people')!.values()]) as RecordValues & { readonly id: string };
    const arrival = await arrive(
      own.database,
      rulebook,
      { kind: 'person', id: person.id },
      { at: NOW, toEvaluate: true },
    );
    // Nobody has verified the addresses of these people.
    const known = { ...person, email: null };
    const closures = workOutCaller(rulebook, known, given.get(person.id)!, {}, { now: NOW, look, all });
    const sql = arrival!.caller;
    expect([...sql.roles].toSorted(), failing(`the roles of ${person.id}`)).toEqual(
      [...closures.roles].toSorted(),
    );
    for (const { name, type } of rulebook.attributes.values()) {
      const [a, b] = [sql.person!.values[name]!, closures.person!.values[name]!];
      expect(sameValue(type, a, b), failing(`me.${name} of ${person.id}: ${JSON.stringify([a, b])}`)).toBe(
        true,
      );
    }
    found.push({ closures, sql });
  }
  return found.map((each) => (dice.percent(50) ? withShares(each, found.slice(1), rulebook, dice) : each));
}

/** What the other people share with a caller: some records of each collection, for some operations. */
function withShares(caller: Both, people: readonly Both[], rulebook: Rulebook, dice: Dice): Both {
  const others = people.filter((each) => each !== caller);
  const shares = others.flatMap((each) =>
    collections.flatMap((collection): Share[] =>
      dice.percent(40)
        ? []
        : [...world.get(collection)!.keys()]
            .filter(() => dice.percent(40))
            .map((record) => ({
              collection,
              record,
              operations: ['read', ...(['update', 'delete'] as const).filter(() => dice.percent(50))],
              sharer: each.sql.person!.id,
            })),
    ),
  );
  const from = (engine: keyof Both) =>
    sharingsOf(rulebook, shares, new Map(others.map((each) => [each.sql.person!.id, each[engine]])));
  const [closures, sql] = [from('closures'), from('sql')];
  if (sql.length === 0) return caller;
  sharedSeen += sql.length;
  return {
    closures: { ...caller.closures, shared: closures },
    sql: { ...caller.sql, shared: sql },
  };
}

/** Shares that were met: there must be many, or nothing was compared of them. */
let sharedSeen = 0;

const look: Circumstances['look'] = (collection, id) => world.get(collection)?.get(id) ?? null;
const all: Circumstances['all'] = (collection) => world.get(collection)?.values() ?? [];

function shownByClosures(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  record: RecordValues,
): Set<string> | null {
  return new Decider(rulebook, caller, { now: NOW, look, all }).shown(collection, record);
}

/** Cells compared, and the ways in which questions were put. */
interface Compared {
  read: number;
  shown: number;
  filtered: number;
  updated: number;
  counted: number;
  readonly forms: Set<string>;
}

const nothing = (): Compared => ({
  read: 0,
  shown: 0,
  filtered: 0,
  updated: 0,
  counted: 0,
  forms: new Set(),
});

/** Compares all answers that one rulebook gives to four callers; throws where two differ. */
async function compare(text: string, seed: number, cells: Compared): Promise<void> {
  const rulebook = parse(text);
  const { schema } = rulebook;
  const { forms } = cells;
  const failing = (what: string) => `seed ${seed}: ${what}`;
  for (const [index, { closures: caller, sql: known }] of (
    await callers(seed, rulebook, failing)
  ).entries()) {
    const access = new Access(rulebook, known, NOW);
    for (const [place, collection] of collections.entries()) {
      // Apart from what was asked before, so that a smaller rulebook meets the same questions.
      const dice = new Dice(seed * 100 + index * 10 + place);
      const writer = new RuleWriter(dice, schema);
      const fields = [...collectionOf(schema, collection).fields.keys()];
      const order = [{ field: 'id', descending: false }];
      const expected = new Map(
        [...world.get(collection)!].map(([id, record]) => [
          id,
          shownByClosures(rulebook, caller, collection, record),
        ]),
      );

      const listed = await listRecords(own.database, access, {
        collection,
        filter: null,
        order,
        after: null,
        limit: 1_000,
      });
      const ways = { collection, filter: null, order, after: null, limit: 1_000 };
      for (const name of await everyWay(access, ways, failing)) forms.add(name);
      const found = new Map(listed.records.map((record) => [record.id, record]));
      for (const [id, record] of world.get(collection)!) {
        const wanted = expected.get(id)!;
        const got = found.get(id);
        expect(got !== undefined, failing(`${collection} ${id} readable for ${JSON.stringify(caller)}`)).toBe(
          wanted !== null,
        );
        for (const field of fields) {
          cells.read++;
          if (wanted === null) continue;
          if (wanted.has(field)) cells.shown++;
          if (
            got!.shown.has(field) !== wanted.has(field) ||
            (wanted.has(field) && JSON.stringify(got!.shown.get(field)) !== JSON.stringify(record[field]))
          ) {
            expect.fail(
              failing(
                `${collection}.${field} of ${id}: closures show ${wanted.has(field)}, SQL shows ${got!.shown.has(field)}`,
              ),
            );
          }
        }
      }

      // A filter sees what the caller sees: the same question over a world of masked records.
      const where = writer.filter(collection);
      const checked = checkFilter(where, collection, rulebook);
      if (!checked.ok)
        throw new Error(failing(`the filter is refused: ${where} ${JSON.stringify(checked.diagnostics)}`));
      const masked = (name: string, record: RecordValues): RecordValues | null => {
        const shown = shownByClosures(rulebook, caller, name, record);
        return shown === null
          ? null
          : Object.fromEntries(Object.entries(record).filter(([field]) => shown.has(field)));
      };
      const maskedLook: Circumstances['look'] = (name, id) => {
        const record = world.get(name)?.get(id);
        return record === undefined ? null : masked(name, record);
      };
      const may = mayDecider(rulebook);
      const predicate = compilePredicate(checked.condition);
      const passing = [...world.get(collection)!].filter(([, record]) => {
        const seen = masked(collection, record);
        return (
          seen !== null &&
          predicate(seen, { caller, roles: new Set(), now: NOW, look: maskedLook, all, may }) === true
        );
      });
      const sorting = sortingOf(schema, collection, dice);
      const inOrder = passing
        .map(([, record]) => masked(collection, record)!)
        .toSorted((one, other) => compareBy(schema, collection, sorting, one, other))
        .map((record) => record.id as string);
      const ids = await pages(access, collection, checked.condition, sorting);
      if (dice.percent(40)) {
        const last = inOrder.length === 0 ? undefined : dice.pick(inOrder);
        const seen = last === undefined ? null : masked(collection, world.get(collection)!.get(last)!);
        const from = seen === null ? null : sorting.map(({ field }) => seen[field] ?? null);
        const question = { ...ways, filter: checked.condition, order: sorting, limit: 7 };
        await everyWay(access, { ...question, after: dice.percent(50) ? from : null }, failing);
      }
      cells.filtered += world.get(collection)!.size;
      expect(
        ids,
        failing(`filter ${where} in the order ${JSON.stringify(sorting)} for ${JSON.stringify(caller)}`),
      ).toEqual(inOrder);
      expect(await countVisible(own.database, access, { collection, filter: checked.condition })).toBe(
        passing.length,
      );

      cells.updated += await compareUpdates(rulebook, access, caller, collection, dice, failing);
      if (dice.percent(REACHED)) cells.counted += await compareReach(rulebook, known, collection, failing);
    }
  }
}

test(
  'closures and PostgreSQL agree on every cell that is read, filtered and updated',
  { timeout: 14_400_000 },
  async () => {
    const cells = nothing();
    for (let round = 0; round < ROUNDS; round++) {
      const seed = SEED * 100_000 + round;
      const text = schemaText + new RuleWriter(new Dice(seed), parse(schemaText).schema).rulebook();
      try {
        await compare(text, seed, cells);
      } catch (error) {
        if (process.env.AGREEMENT_SHRINK === 'no') throw error;
        const small = await shrink(text.slice(schemaText.length), async (each) => {
          const whole = schemaText + each;
          if (!checkRulebook([{ name: 'shrunk.gate', text: whole }]).ok) return false;
          return compare(whole, seed, nothing()).then(
            () => false,
            () => true,
          );
        });
        const said = await compare(schemaText + small, seed, nothing()).catch((last: unknown) => last);
        throw new Error(`${(said as Error).message}\nThe smallest rulebook that still fails:\n\n${small}`, {
          cause: error,
        });
      }
    }
    const { forms, ...counted } = cells;
    console.log(
      `agreement: ${JSON.stringify(counted)} cells compared, none disagree (seed ${SEED}, ${ROUNDS} rounds)`,
    );
    expect(sharedSeen, 'shares').toBeGreaterThan(ROUNDS * 5);
    // Every way of putting a question was really taken, but for that of truths.test.ts: here somebody owns something always.
    expect([...forms]).toEqual(
      expect.arrayContaining(['branches', 'branches of sets', 'gathered', 'rows', 'sets']),
    );
    expect(cells.read + cells.filtered + cells.updated).toBeGreaterThan(ROUNDS * 3_500);
    // Both answers must occur often, or the comparison would prove nothing.
    expect(cells.shown / cells.read).toBeGreaterThan(0.1);
    expect(cells.shown / cells.read).toBeLessThan(0.9);
  },
);

/** Every formulation of a question finds the very same records in the same order. Answers their names. */
async function everyWay(
  access: Access,
  question: ListQuestion,
  failing: (what: string) => string,
): Promise<string[]> {
  const all = formulations(access, question);
  const answers: string[] = [];
  // Here no set holds many rows: as if one were many, too; and as if nothing were at risk.
  const many = all.flatMap(({ form, otherwise }) =>
    otherwise === undefined
      ? []
      : [
          { form, statement: listSql(access, question, form, 0) },
          { form: otherwise, statement: listSql(access, question, otherwise) },
        ],
  );
  for (const { form, statement } of [...all, ...many]) {
    // Whole rows, as they would be answered.
    answers.push(JSON.stringify(await run(own.database, statement)));
    const told = `${form} of ${question.collection} for ${JSON.stringify(access.caller)}: ${statement.text}`;
    expect(answers.at(-1), failing(told)).toBe(answers[0]);
  }
  const counts = countSql(access, question);
  const counted = await Promise.all(
    counts.map(async ({ statement }) => (await run<{ count: number }>(own.database, statement))[0]!.count),
  );
  expect(
    new Set(counted).size,
    failing(`counting ${question.collection}: ${counts[1]?.statement.text}`),
  ).toBe(1);
  return all.map((each) => each.form);
}

/** Up to two keys, and the id. */
function sortingOf(schema: Schema, collection: string, dice: Dice): OrderKey[] {
  const { fields } = collectionOf(schema, collection);
  const able = [...fields.keys()].filter((name) => name !== 'id' && hasOrder(schema, collection, name));
  const keys = [able.splice(dice.between(0, able.length - 1), 1)[0]!, dice.pick(able)];
  return [...keys.slice(dice.between(0, 2)), 'id'].map((field) => ({ field, descending: dice.percent(50) }));
}

/** By what the caller sees; what is missing, or withheld, comes last either way. */
function compareBy(
  schema: Schema,
  collection: string,
  order: readonly OrderKey[],
  one: RecordValues,
  other: RecordValues,
): number {
  for (const { field, descending } of order) {
    const { kind } = collectionOf(schema, collection).fields.get(field)!.type;
    const [a, b] = [one[field] ?? null, other[field] ?? null];
    if (a === null && b === null) continue;
    if (a === null || b === null) return a === null ? 1 : -1;
    const found = compareValues(kind as ScalarType['kind'], a as Scalar, b as Scalar);
    if (found !== 0) return descending ? -found : found;
  }
  return 0;
}

function hasOrder(schema: Schema, collection: string, field: string): boolean {
  const { kind } = collectionOf(schema, collection).fields.get(field)!.type;
  return kind !== 'json' && kind !== 'list';
}

/** All ids in the order asked for, fetched page by page, so that page keys are tried on every kind of value. */
async function pages(
  access: Access,
  collection: string,
  filter: Parameters<typeof countVisible>[2]['filter'],
  order: readonly OrderKey[],
): Promise<string[]> {
  const ids: string[] = [];
  let after: Value[] | null = null;
  for (;;) {
    const page = await listRecords(own.database, access, { collection, filter, order, after, limit: 5 });
    ids.push(...page.records.map((record) => record.id));
    if (!page.more) return ids;
    after = order.map((key) => page.records.at(-1)!.shown.get(key.field) ?? null);
  }
}

/** What a sweep counts and compares: all that is allowed on every record, set-wise, singly and by the closures. */
async function compareReach(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  failing: (what: string) => string,
): Promise<number> {
  const counted = { name: 'x', caller };
  // A sweep has as long, for rulebooks of which very many conditions are to be asked.
  const { tallies, total } = await rolledBack(own.database, async (on) => {
    await run(on, { text: "set local statement_timeout = '5min'", values: [] });
    return countCollection(on, rulebook, NOW, collection, [counted]);
  });
  expect(total).toBe(RECORDS);
  const ids = [...world.get(collection)!.keys()];
  const loaded = new LoadedWorld(own.database, rulebook);
  const reached = await reachedByClosures(loaded, rulebook, NOW, counted, collection, ids);
  const { differences, cells } = await compareWithDatabase(
    own.database,
    rulebook,
    NOW,
    counted,
    collection,
    reached,
  );
  expect([...differences, ...compareCounts(counted, collection, tallies, reached)], failing('reach')).toEqual(
    [],
  );
  return cells;
}

/** Both sides of an update: each rule on the record as it is, and as it would be. */
async function compareUpdates(
  rulebook: Rulebook,
  access: Access,
  caller: Caller,
  collection: string,
  dice: Dice,
  failing: (what: string) => string,
): Promise<number> {
  const decider = new Decider(rulebook, caller, { now: NOW, look, all });
  const { grounds, barriers } = decider.permission('update', collection);
  const asked = leavesOf([...grounds, ...barriers].map(({ node }) => node));
  // What is shared comes from each engine’s own sharers: their conditions are compared by what they show.
  const ours = asked.filter(
    ({ sentence }) =>
      rulebook.rules.includes(sentence as never) || rulebook.fences.includes(sentence as never),
  );
  if (ours.length === 0) return 0;
  const ids = new Map([...world].map(([name, records]) => [name, [...records.keys()]]));
  let compared = 0;
  for (let attempt = 0; attempt < 8; attempt++) {
    const [id, before] = dice.pick([...world.get(collection)!]);
    const changes = new Map<string, Value>();
    for (const field of collectionOf(rulebook.schema, collection).fields.values()) {
      // The record itself among the values: then a path comes back to what is being changed.
      if (!field.system && dice.percent(30))
        changes.set(
          field.name,
          field.type.kind === 'ref' && field.type.collection === collection && dice.percent(30)
            ? id
            : randomValue(dice, field.type, ids),
        );
    }
    const change: Change<Value> = { kind: 'changed', values: changes };
    const flags = truthsSql(access, ours, collection, id, change);
    const [row] = await run<Record<string, boolean>>(own.database, flags.statement);
    for (const [index, leaf] of ours.entries())
      for (const { side, of, circumstances } of decider.sides(leaf, before, change)) {
        const told = `${side}: ${leaf.sentence.text} on ${id} with ${JSON.stringify([...changes])} for ${JSON.stringify(caller)}`;
        expect(row![`${side}_${index}`] === true, failing(told)).toBe(
          predicateOf(leaf.when)(of, circumstances) === true,
        );
        compared++;
      }
  }
  return compared;
}

test('what is proved holds for random identities and records, too', { timeout: 3_600_000 }, async () => {
  const solver = await openSolver(1);
  const counts = { proved: 0, refuted: 0, 'not decided': 0, asked: 0 };
  try {
    for (let round = 0; round < Math.max(4, ROUNDS / 20); round++) {
      const seed = SEED * 100_000 + round;
      const whole = schemaText + new RuleWriter(new Dice(seed), parse(schemaText).schema).rulebook();
      // What can be shared is never proved: of every second rulebook nothing can.
      const text = round % 2 === 0 ? whole : whole.replaceAll(/^.*may share.*$/gm, '');
      for (const invariant of invariantsFor(parse(text))) {
        const rulebook = parse(`${text}\n${invariant}`);
        const proof = await prove(rulebook, rulebook.invariants[0]!, solver.solve);
        counts[proof.result]++;
        if (proof.result !== 'proved') continue;
        for (const { closures: caller } of await callers(seed, rulebook, (what) => what)) {
          for (const record of world.get(rulebook.invariants[0]!.collection)!.values()) {
            const { collection, only } = rulebook.invariants[0]!;
            if (shownByClosures(rulebook, caller, collection, record) === null) continue;
            counts.asked++;
            const roles = rolesFor(rulebook, caller, 'read', collection);
            const may = mayDecider(rulebook);
            const truth = compilePredicate(only)(record, { caller, roles, now: NOW, look, all, may });
            expect(truth, `seed ${seed}: proved, and yet not so: ${invariant}`).toBe(true);
          }
        }
      }
    }
  } finally {
    solver.close();
  }
  console.log(`proofs: ${JSON.stringify(counts)} (seed ${SEED})`);
  expect(counts.proved).toBeGreaterThan(2);
  expect(counts.refuted).toBeGreaterThan(2);
  expect(counts.asked).toBeGreaterThan(10);
});

test(
  'where nobody is proved to gain or lose something, nobody does among random identities and records',
  { timeout: 3_600_000 },
  async () => {
    const solver = await openSolver(1);
    const counts = { nobody: 0, somebody: 0, 'not decided': 0, asked: 0 };
    try {
      for (let round = 0; round < Math.max(6, ROUNDS / 20); round++) {
        const seed = SEED * 100_000 + round;
        const whole = schemaText + new RuleWriter(new Dice(seed), parse(schemaText).schema).rulebook();
        // Of what others share it is never decided.
        const text = whole.replaceAll(/^.*may share.*$/gm, '');
        const before = parse(text);
        const dice = new Dice(seed);
        const faults = mutationsOf(before.sources, before.schema, [...before.roles.keys()]).filter(
          ({ sources }) => checkRulebook(sources).ok,
        );
        for (const fault of Array.from({ length: 2 }, () => dice.pick(faults))) {
          const after = parse(fault.sources[0]!.text);
          if (whyNotComparable(before, after) !== null) continue;
          const people = await callers(seed, after, (what) => what);
          const listed = new Set(
            rightsThatDiffer(before, after).flatMap(({ collection, operation, fields }) =>
              operation === 'read' ? (fields ?? ['']).map((field) => `${collection} ${field}`) : [],
            ),
          );
          // What is not even listed is the same for everybody.
          for (const { closures: caller } of people)
            for (const [collection, records] of world)
              for (const record of records.values()) {
                const [was, is] = [before, after].map((each) =>
                  shownByClosures(each, caller, collection, record),
                );
                if (!listed.has(`${collection} `)) expect(was === null, `seed ${seed}`).toBe(is === null);
                for (const field of collectionOf(after.schema, collection).fields.keys())
                  if (!listed.has(`${collection} ${field}`) && field !== 'id')
                    expect(was?.has(field) === true, `seed ${seed}: ${field}`).toBe(is?.has(field) === true);
              }
          for (const right of rightsThatDiffer(before, after)
            .filter(({ operation }) => operation === 'read')
            .slice(0, 3)) {
            const compared = await compareRight(before, after, right, solver.solve);
            for (const way of ['more', 'less'] as const) {
              counts[compared[way].result]++;
              if (compared[way].result !== 'nobody') continue;
              const [allowing, refusing] = way === 'more' ? [after, before] : [before, after];
              for (const { closures: caller } of people)
                for (const record of world.get(right.collection)!.values()) {
                  const of = (rulebook: Rulebook) => {
                    const shown = shownByClosures(rulebook, caller, right.collection, record);
                    return (
                      shown !== null &&
                      (right.fields === null || right.fields.every((field) => shown.has(field)))
                    );
                  };
                  counts.asked++;
                  expect(
                    of(allowing) && !of(refusing),
                    `seed ${seed}: ${fault.file}:${fault.line} ${fault.kind}, ${JSON.stringify(right)} ${way}`,
                  ).toBe(false);
                }
            }
          }
        }
      }
    } finally {
      solver.close();
    }
    console.log(`comparisons: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.nobody).toBeGreaterThan(3);
    expect(counts.somebody).toBeGreaterThan(0);
  },
);

/** Of each collection: that one of the conditions of its read rules holds, and the same with one of them left out. */
function invariantsFor(rulebook: Rulebook): string[] {
  return collections.flatMap((collection) => {
    const reading = rulebook.rules.filter(
      (rule) => rule.collection === collection && rule.operations.has('read'),
    );
    const conditions = reading.map((rule) =>
      rule.text.includes(' when ') ? rule.text.slice(rule.text.indexOf(' when ') + 6) : 'code',
    );
    if (conditions.length === 0 || conditions.includes('code')) return [];
    const wants = [conditions, conditions.slice(1)].filter((each) => each.length > 0);
    return wants
      .map((each) => `invariant "i" read ${collection} only if ${each.map((one) => `(${one})`).join(' or ')}`)
      .filter((invariant) => checkRulebook([{ name: 'a', text: rulebook.sources[0]!.text + invariant }]).ok);
  });
}

test('a failing rulebook is shrunk to the sentence that matters', async () => {
  const schema = parse(schemaText).schema;
  const asks = (each: string) => {
    const checked = checkRulebook([{ name: 'x.gate', text: schemaText + each }]);
    return (
      checked.ok &&
      checked.rulebook.rules.some((rule) => /not .*within/.test(rule.text) && rule.operations.has('delete'))
    );
  };
  const whole = new RuleWriter(new Dice(1), schema).rulebook();
  const failing = `${whole}\nrules teams { r1 may read, update, delete when name is present and not (this within me.team or color = "red") }`;
  expect(asks(failing)).toBe(true);
  expect(await shrink(failing, async (each) => asks(each))).toBe(`accept teams feeds teams
  because "a test"
role r3
role r1
rules teams { r1 may read, update, delete when (not (this within me.team)) }
`);
});

test('calendar days are moved alike where clocks change', async () => {
  const dice = new Dice(SEED);
  const rulebook = parse(schemaText);
  const around = new Access(rulebook, visitor, NOW).around('r', new Set());
  const timestamp = { kind: 'timestamp' } as const;
  // The days on which the clocks of these zones change.
  const changes = [Date.UTC(2026, 2, 8, 7), Date.UTC(2026, 10, 1, 6)];
  for (let batch = 0; batch < 40; batch++) {
    const asked = Array.from({ length: 50 }, () => {
      const moment = dice.percent(60)
        ? dice.pick(changes) + dice.between(-4_320, 4_320) * 60_000
        : dice.between(-62_135_596_800, 253_402_300_799) * 1000;
      return {
        at: formatTimestamp(new Date(moment).toISOString().slice(0, 19), dice.pick(['', '5', '000001'])),
        days: dice.pick([1, -1, 2, -2, 30, 365, -400_000]),
        zone: dice.pick(['EST5EDT', 'CST6CDT', 'PST8PDT', 'Etc/GMT-14', 'Etc/GMT+12']),
      };
    });
    const columns = asked.flatMap(({ at, days, zone }, index) => {
      const operand = { kind: 'literal', value: at, type: timestamp } as const;
      const shift = { kind: 'shift', operand, days, minutes: 0, zone, type: timestamp } as const;
      return [
        sql`${operandSql(shift, around)} as ${identifier(`moved_${index}`)}`,
        sql`${daySql(operandSql(operand, around), zone)} as ${identifier(`day_${index}`)}`,
      ];
    });
    const [row] = await run<Record<string, string | null>>(own.database, sql`select ${commaList(columns)}`);
    for (const [index, { at, days, zone }] of asked.entries()) {
      const told = `${at} + ${days} days in ${zone}`;
      expect(shiftTimestamp(at, days, 0, zone), told).toBe(row![`moved_${index}`]);
      // A day outside the years that there are is no day of ours; PostgreSQL writes it with BC or five digits.
      const day = row![`day_${index}`]!;
      expect(dayOf(at, zone), told).toBe(/^\d{4}-\d\d-\d\d$/.test(day) ? day : null);
    }
  }
});
