import { afterAll, beforeAll, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import { Dice } from '../../src/core/analysis/dice.ts';
import { actionsOf } from '../../src/core/analysis/outcomes.ts';
import {
  rightBetween,
  rightsThatDiffer,
  whyRightIsOpen,
  type Right,
} from '../../src/core/analysis/prove/compare.ts';
import {
  whyWriteIsOpen,
  writeBetween,
  writesThatDiffer,
} from '../../src/core/analysis/prove/compare-writes.ts';
import { Encoder } from '../../src/core/analysis/prove/encode.ts';
import { searchAtRandom } from '../../src/core/analysis/prove/random.ts';
import { CannotEncode, not } from '../../src/core/analysis/prove/terms.ts';
import { stampingOf, waysOf, type Way } from '../../src/core/analysis/prove/ways.ts';
import { placed, type Found } from '../../src/core/analysis/prove/worlds.ts';
import { violationBy, violationOf } from '../../src/core/analysis/violations.ts';
import { checkFilter, checkRulebook } from '../../src/core/check/index.ts';
import type { RecordValues } from '../../src/core/decide/caller.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import { nodesOf, type Condition } from '../../src/core/ir/conditions.ts';
import type { Invariant, Rulebook } from '../../src/core/ir/rulebook.ts';
import { IDENTITY, PEOPLE } from '../../src/core/types/schema.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { filterTruths, person, records, ruleTruths, schema, type Stated } from '../decide/truths.ts';
import { collections, RuleWriter, schemaText } from './generator.ts';
import { OneWorld, sizeOf } from './one-world.ts';
import { slipped } from './slips.ts';
import { filterOf, ruleOf } from './stored-truths.ts';
import { outcomeCollections, outcomeRulebook, outcomeSchema, randomRequest } from './worlds.ts';

/** What the solver is told, put into one world at a time, in which there is one answer: the one of the rules. */
let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(10);
});
afterAll(() => solver.close());

/** For each of these whether it can be so, after what is declared. */
async function canBe(text: string, asked: readonly string[]): Promise<string> {
  const each = asked.map((one) => `(push)\n(assert ${one})\n(check-sat)\n(pop)`);
  const told = await solver.solve([text, ...each].join('\n'));
  return told.trim().split('\n').join(' ');
}

/** Whether a condition about the record in hand can be true, not true, false, not false there. */
async function comesOut(
  rulebook: Rulebook,
  condition: Condition,
  found: Found,
  size: number | null,
): Promise<string> {
  const encoder = new Encoder(rulebook, size);
  encoder.declarations.constant('r', encoder.declarations.sort('hives'));
  encoder.declarations.constant('now', 'Int');
  encoder.somebody('');
  const { yes, no } = encoder.condition(condition, {
    frame: [{ term: 'r', collection: 'hives' }],
    pair: 'read hives',
    world: 'before',
    sides: false,
    who: '',
  });
  return canBe(new OneWorld(encoder, found).text(), [yes, not(yes), no, not(no)]);
}

const outOf = (truth: boolean | null): string =>
  [truth === true, truth !== true, truth === false, truth !== false]
    .map((each) => (each ? 'sat' : 'unsat'))
    .join(' ');

/** A world in which a record is below itself, or points at what is not there, is none. */
const isThere = ([, { yard }]: Stated) => yard !== 'a' && yard !== 'nowhere';

test.each([
  ['filters', filterTruths, filterOf],
  ['rules', ruleTruths, ruleOf],
] as const)(
  '%s come out to the solver as is written down, of few records and of any number',
  async (_, all, of) => {
    for (const stated of all) {
      if (!isThere(stated)) continue;
      const [text, given, truth] = stated;
      const { rules: rulebook, condition } = of(text);
      const { fields } = rulebook.schema.get('hives')!;
      const whole: RecordValues = Object.fromEntries(
        [...fields.keys()].map((name) => [
          name,
          ({ id: 'h', created_at: NOW, updated_at: NOW, ...given } as RecordValues)[name] ?? null,
        ]),
      );
      const found = placed(rulebook, {
        asked: { collection: 'hives', id: whole.id as string, now: NOW },
        records: new Map(
          Object.entries(records).map(([name, each]) => [
            name,
            name === 'hives'
              ? [whole, ...each.filter(({ id }) => id !== whole.id)]
              : name === 'yards'
                ? each.filter(({ id }) => id !== 'a' && id !== 'b')
                : each,
          ]),
        ),
        somebody: { me: 'ada', roles: ['keeper'], verified: true, claims: {} },
        mentioned: new Map(),
      })!;
      for (const size of [sizeOf(found), null]) {
        const told = await comesOut(rulebook, condition, found, size);
        const expected = outOf(truth);
        // Of any number it is known whether there is one, and not how many.
        const isOpen = size === null && [...nodesOf(condition)].some(({ kind }) => kind === 'count');
        const about = `${text}, of ${JSON.stringify(given)}, size ${size}`;
        if (!isOpen) expect(told, about).toBe(expected);
        else
          for (const [index, each] of expected.split(' ').entries())
            if (each === 'sat') expect(told.split(' ')[index], about).toBe(each);
      }
    }
  },
);

const claimed = `${schema} claim tenant text from "tenant"  claim size integer from "size"  claim groups list of text from "groups"  claim sizes list of integer from "sizes"`;

test.each<[string, Readonly<Record<string, unknown>>, boolean | null]>([
  ['note = me.tenant', { tenant: 'a' }, true],
  ['note = me.tenant', { tenant: 'b' }, false],
  ['note = me.tenant', {}, null],
  ['note = me.tenant', { tenant: 5 }, null],
  ['me.tenant is missing', {}, true],
  ['me.tenant is missing', { tenant: '' }, false],
  ['size < me.size', { size: 4 }, true],
  ['size < me.size', { size: '4' }, null],
  ['note in me.groups', { groups: ['b', 'a'] }, true],
  ['note in me.groups', { groups: ['b'] }, false],
  ['note in me.groups', { groups: 'a' }, null],
  ['note in me.groups', {}, null],
  ['"b" in me.groups', { groups: [] }, false],
  ['me.groups is present', { groups: [] }, true],
  ['weight in me.sizes', { sizes: [2, 3] }, true],
  ['weight in me.sizes', { sizes: [2] }, false],
])('what a token says comes out to the solver as it is: “%s” by %j is %j', async (when, claims, truth) => {
  const rulebook = parse(`${claimed} rules hives { people may read (all) when ${when} }`);
  const hive = { id: 'h', note: 'a', size: 3, weight: '3.0', created_at: NOW, updated_at: NOW };
  const found = placed(rulebook, {
    asked: { collection: 'hives', id: 'h', now: NOW },
    records: new Map(
      Object.entries({ ...records, hives: [hive], yards: [], visits: [], people: [person('ada')] }),
    ),
    somebody: { me: 'ada', roles: [], verified: true, claims },
    mentioned: new Map(),
  })!;
  const { when: condition } = rulebook.rules[0]!;
  for (const size of [1, null]) {
    const told = await comesOut(rulebook, condition, found, size);
    expect(told, `size ${size}`).toBe(outOf(truth));
  }
});

const SEED = Number(process.env.AGREEMENT_SEED ?? 1);
/** Rulebooks of each kind. */
const ROUNDS = Number(process.env.ONE_WORLD_ROUNDS ?? 5);
/** Worlds about each collection of one. */
const WORLDS = 3;
/** Requests that are thought of until one is carried out. */
const REQUESTS = 6;

const never: Condition = { kind: 'constant', value: false };

function invariantOf(right: Right, only: Condition = never): Invariant {
  return { ...right, title: '', only, text: '', span: { source: '', start: 0, end: 0 } };
}

/** A random rulebook: of every type and kind of condition, or of every kind of step. */
function someRulebook(dice: Dice, wide: boolean) {
  const writer = new RuleWriter(dice, parse(schemaText).schema);
  const text = wide ? `${schemaText}\n${writer.rulebook()}` : `${outcomeSchema}\n${outcomeRulebook(dice)}`;
  const rulebook = parse(text);
  /** What an invariant asks of a collection. */
  const onlyOf = (collection: string): Condition => {
    if (!wide || dice.percent(40)) return never;
    const checked = checkFilter(writer.filter(collection), collection, rulebook);
    return checked.ok ? checked.condition : never;
  };
  return { text, rulebook, all: wide ? collections : outcomeCollections, onlyOf };
}

/** Some worlds about records of a collection, with somebody who asks. */
function worldsOf(dice: Dice, rulebook: Rulebook, collection: string, many = WORLDS): Found[] {
  const all: Found[] = [];
  const seed = dice.between(1, 1_000_000);
  const right = { operation: 'read', collection, fields: null };
  searchAtRandom(rulebook, invariantOf(right), 4 + many, (found) => all.push(found) < 0, seed);
  return Array.from({ length: many }, () => withIdentities(dice, rulebook, dice.pick(all)));
}

/** Now and then some of the others are test identities, and whoever asks is of the application, or one of them. */
function withIdentities(dice: Dice, rulebook: Rulebook, found: Found): Found {
  if (dice.percent(60)) return found;
  const { somebody, records } = found;
  const people = records
    .get(PEOPLE)!
    .map((each) => (each.id !== somebody.me && dice.percent(50) ? { ...each, [IDENTITY]: 'one' } : each));
  return placed(rulebook, {
    ...found,
    records: new Map([...records, [PEOPLE, people]]),
    somebody: { ...somebody, ofTheApplication: dice.percent(70) },
  })!;
}

function aRequest(dice: Dice, rulebook: Rulebook, found: Found, { operation, collection }: Right): Found {
  const all = new Map(
    [...found.records].map(([name, some]) => [name, new Map(some.map((each) => [each.id as string, each]))]),
  );
  const record = operation === 'create' ? null : found.record;
  const suppliable = [...rulebook.schema.get(collection)!.fields.values()].filter(
    ({ system, unique }) => !system && !unique,
  );
  const field = operation === 'update' ? dice.pick(suppliable).name : null;
  const { values } = randomRequest(dice, rulebook, all, { operation, collection, record }, field);
  return { ...found, sent: { operation, values } };
}

interface Counts {
  /** It can be, and both say so. */
  can: number;
  /** It cannot be, and both say so. */
  cannot: number;
  /** It cannot be, and the solver leaves it open. */
  open: number;
  /** The solver could not be asked. */
  'not asked': number;
}
const noneYet = (): Counts => ({ can: 0, cannot: 0, open: 0, 'not asked': 0 });

/** What the solver says of one world, of so many records and of any number, is what is so; it may leave open what is not. */
async function agrees(
  asks: readonly Way['ask'][],
  found: Found,
  isSo: boolean,
  counts: Counts,
  { isExact, told }: { isExact: boolean; told: string },
): Promise<void> {
  for (const size of [sizeOf(found, 1), null]) {
    const answers: string[] = [];
    for (const ask of asks) {
      try {
        const { encoder, request } = ask(size);
        // What no rule covers is in no request that the solver thinks of.
        const sent = [...(found.sent?.values.keys() ?? [])];
        if (request !== null && sent.some((name) => !request.values.some((each) => each.name === name)))
          continue;
        answers.push(await solver.solve(`${new OneWorld(encoder, found, request).text()}\n(check-sat)`));
      } catch (error) {
        if (!(error instanceof CannotEncode)) throw error;
        answers.push('unknown');
      }
    }
    const can = answers.some((each) => each.trim() === 'sat');
    if (!can && answers.some((each) => each.trim() === 'unknown')) counts['not asked']++;
    else {
      counts[can === isSo ? (can ? 'can' : 'cannot') : 'open']++;
      if (isSo || (isExact && size !== null))
        expect(can, `${told}\nof ${size} records: ${answers.join()}`).toBe(isSo);
    }
  }
}

/** What is not among the rights that could differ is the same in every world. */
function nobodyElse(dice: Dice, one: Rulebook, other: Rulebook, text: string): void {
  const named = new Set(
    [...rightsThatDiffer(one, other), ...writesThatDiffer(one, other)].flatMap(
      ({ collection, operation, fields }) =>
        (fields ?? ['']).map((field) => `${operation} ${collection} ${field}`),
    ),
  );
  for (const { name: collection, fields } of one.schema.values()) {
    const rights: Right[] = [
      ...['read', 'delete', 'share', 'create', 'update', ...actionsOf(one, collection)].map((operation) => ({
        collection,
        operation,
        fields: null,
      })),
      ...[...fields.keys()].slice(1).map((field) => ({ collection, operation: 'read', fields: [field] })),
    ];
    const worlds = worldsOf(dice, one, collection, 4);
    for (const right of rights) {
      if (named.has(`${right.operation} ${collection} ${right.fields?.[0] ?? ''}`)) continue;
      const isWrite = !['read', 'delete', 'share'].includes(right.operation);
      const { isAllowed } = (isWrite ? writeBetween : rightBetween)(one, other, right);
      for (const world of worlds) {
        const found = isWrite ? aRequest(dice, one, world, right) : world;
        expect(isAllowed(one, found), toldOf(right, found, text)).toBe(
          isAllowed(other, placed(other, found)!),
        );
      }
    }
  }
}

const toldOf = (right: object, { somebody, record, sent, records: all }: Found, text: string) =>
  `${JSON.stringify(right)} ${JSON.stringify([...(sent?.values ?? [])])}\nby ${JSON.stringify(somebody)}\nof ${JSON.stringify(record)}\namong ${JSON.stringify([...all])}\n${text}`;

/** What the solver is not told exactly: what others share, and how long a day is in a time zone. */
function isToldAll({ somebody }: Found, text: string): boolean {
  return (somebody.shares ?? []).length === 0 && !text.includes('time zone ');
}

test(
  'whether an invariant is broken by reading, deleting, sharing is in one world to the solver as it is',
  { timeout: 3_600_000 },
  async () => {
    const counts = noneYet();
    for (let round = 0; round < ROUNDS; round++) {
      const dice = new Dice(SEED * 10_000 + round);
      const { text, rulebook, all, onlyOf } = someRulebook(dice, round % 2 === 0);
      for (const collection of all)
        for (const found of worldsOf(dice, rulebook, collection)) {
          const operation = dice.pick(['read', 'read', 'read', 'delete', 'share']);
          const some = dice.pick([...rulebook.schema.get(collection)!.fields.keys()]);
          const fields = operation === 'read' && dice.percent(60) ? [some] : null;
          const invariant = invariantOf({ operation, collection, fields }, onlyOf(collection));
          const decider = new Decider(rulebook, found.caller, found.world);
          const { violation } = violationOf(decider, invariant, found.record);
          const asks = waysOf(rulebook, invariant).map(({ ask }) => ask);
          // What may stop what goes along with a deletion it is told in part.
          const isExact = operation !== 'delete' && isToldAll(found, text);
          await agrees(asks, found, violation !== null, counts, {
            isExact,
            told: toldOf(invariant, found, text),
          });
        }
    }
    console.log(`rights in one world: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.can).toBeGreaterThan(ROUNDS);
    expect(counts.cannot).toBeGreaterThan(2 * ROUNDS);
  },
);

test(
  'what a deletion takes along, and what it clears, the solver thinks of in every world in which it does',
  { timeout: 3_600_000 },
  async () => {
    const counts = noneYet();
    for (let round = 0; round < 4 * ROUNDS; round++) {
      const dice = new Dice(SEED * 10_000 + 9_000 + round);
      const { text, rulebook } = someRulebook(dice, false);
      for (const collection of ['boxes', 'notes', 'zones'])
        for (const found of worldsOf(dice, rulebook, collection)) {
          const { record, world } = found;
          for (const { name, type } of rulebook.schema.get(collection)!.fields.values()) {
            if (type.kind !== 'ref' || (record[name] ?? null) === null) continue;
            const target = world.look(type.collection, record[name] as string)!;
            const asked = {
              operation: 'delete',
              collection: type.collection,
              record: target,
              values: new Map(),
            };
            const { allowed, follows } = new Decider(rulebook, found.caller, world).decide(asked);
            if (!allowed) continue;
            const goes = follows!.removed.get(collection)?.includes(record.id as string) === true;
            const loses = follows!.cleared.some(
              (each) =>
                each.collection === collection &&
                each.field === name &&
                each.ids.includes(record.id as string),
            );
            if (!goes && !loses) continue;
            const invariant = invariantOf({
              operation: goes ? 'delete' : 'update',
              collection,
              fields: null,
            });
            // What goes along may do so by another of its references.
            const asks = waysOf(rulebook, invariant).filter(({ name: way }) =>
              goes ? way.startsWith('delete along') : way === `clear ${name}`,
            );
            await agrees(
              asks.map(({ ask }) => ask),
              found,
              true,
              counts,
              { isExact: false, told: toldOf({ name, target }, found, text) },
            );
          }
        }
    }
    console.log(`deletions in one world: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.can).toBeGreaterThan(ROUNDS);
  },
);

test('whether it is broken by a request to make, change or act is, too', { timeout: 3_600_000 }, async () => {
  const counts = noneYet();
  for (let round = 0; round < ROUNDS; round++) {
    const dice = new Dice(SEED * 10_000 + 3_000 + round);
    const { text, rulebook, all, onlyOf } = someRulebook(dice, round % 3 === 0);
    for (const collection of all)
      for (const found of worldsOf(dice, rulebook, collection)) {
        const operation = dice.pick(['update', 'update', 'create', ...actionsOf(rulebook, collection)]);
        const some = dice.pick([...rulebook.schema.get(collection)!.fields.keys()]);
        const right = { operation, collection, fields: dice.percent(25) ? [some] : null };
        const invariant = invariantOf(right, onlyOf(collection));
        const decider = new Decider(rulebook, found.caller, found.world);
        const record = operation === 'create' ? null : found.record;
        let [sent, isBroken] = [found, false];
        for (let tried = 0; tried < REQUESTS && !isBroken; tried++) {
          sent = aRequest(dice, rulebook, found, right);
          isBroken = violationBy(decider, invariant, record, sent.sent!) !== null;
        }
        const asks = waysOf(rulebook, invariant).filter(({ name }) => name.split(' ')[0] === operation);
        // What is filled in with what is there already counts as touched.
        // So is, for the solver, what two rules would make differently, and which is refused. And it may think of a rule that fills in something
        // as one that does not, where it would have to.
        const fillsIn =
          operation !== 'create' && stampingOf(decider.permission(operation, collection)).length > 0;
        const isExact = right.fields === null && asks.length === 1 && !fillsIn && isToldAll(sent, text);
        await agrees(
          asks.map(({ ask }) => ask),
          sent,
          isBroken,
          counts,
          { isExact, told: toldOf(invariant, sent, text) },
        );
      }
  }
  console.log(`steps in one world: ${JSON.stringify(counts)} (seed ${SEED})`);
  expect(counts.can).toBeGreaterThan(ROUNDS);
  expect(counts.cannot).toBeGreaterThan(2 * ROUNDS);
});

test(
  'what one of two rulebooks alone allows is told by the solver of any world in which it does',
  { timeout: 3_600_000 },
  async () => {
    const counts = noneYet();
    for (let round = 0; round < 3 * ROUNDS; round++) {
      const dice = new Dice(SEED * 10_000 + 6_000 + round);
      const { text, rulebook: one } = someRulebook(dice, false);
      const changed = slipped(dice, slipped(dice, text));
      const parsed = checkRulebook([{ name: 'a.gate', text: changed }]);
      if (!parsed.ok) continue;
      const [allowing, refusing] = dice.percent(50) ? [one, parsed.rulebook] : [parsed.rulebook, one];
      const rights = rightsThatDiffer(allowing, refusing).filter(
        (right) => whyRightIsOpen(allowing, refusing, right) === null,
      );
      const writes = writesThatDiffer(allowing, refusing).filter(
        (right) => whyWriteIsOpen(allowing, refusing, right) === null,
      );
      nobodyElse(dice, allowing, refusing, `${text}\n\nand\n\n${changed}`);
      for (const right of [...rights, ...writes]) {
        const isWrite = writes.includes(right);
        const { asks, isAllowed } = (isWrite ? writeBetween : rightBetween)(allowing, refusing, right);
        const isSoIn = (each: Found) =>
          isAllowed(allowing, each) && !isAllowed(refusing, placed(refusing, each)!);
        const tried = worldsOf(dice, allowing, right.collection, 60).map((found) =>
          isWrite ? aRequest(dice, allowing, found, right) : found,
        );
        // One in which it is so, and now and then one in which it is not.
        const [is, isNot] = [
          tried.find(isSoIn),
          dice.percent(15) ? tried.find((each) => !isSoIn(each)) : undefined,
        ];
        for (const found of [is, isNot]) {
          if (found === undefined) continue;
          const told = `${toldOf(right, found, text)}\n\nand\n\n${changed}`;
          // Of what may stop a deletion it is told in part.
          const isExact = right.operation !== 'delete' && isToldAll(found, text);
          await agrees(asks, found, isSoIn(found), counts, { isExact, told });
        }
      }
    }
    console.log(`two rulebooks in one world: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.can).toBeGreaterThan(ROUNDS);
    expect(counts.cannot).toBeGreaterThan(2 * ROUNDS);
  },
);
