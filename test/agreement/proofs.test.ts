import { afterAll, beforeAll, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import { Dice } from '../../src/core/analysis/dice.ts';
import { compareRight, rightsThatDiffer, type Right } from '../../src/core/analysis/prove/compare.ts';
import { compareWrite, writesThatDiffer } from '../../src/core/analysis/prove/compare-writes.ts';
import { searchProof } from '../../src/core/analysis/prove/index.ts';
import { searchAtRandom } from '../../src/core/analysis/prove/random.ts';
import { placed, type Found } from '../../src/core/analysis/prove/worlds.ts';
import { violationOf } from '../../src/core/analysis/violations.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import { actionsOf } from '../../src/core/analysis/outcomes.ts';
import type { Invariant, Rulebook } from '../../src/core/ir/rulebook.ts';
import { collections, RuleWriter, schemaText } from './generator.ts';
import { slipped } from './slips.ts';
import { outcomeRulebook, outcomeSchema, randomRequest } from './worlds.ts';

/**
 * Proofs of random rulebooks, held against small worlds made at random, in which the closures decide: nothing that is proved, or called
 * the same, is ever contradicted. What is refuted is no part of this: the closures have borne it out already.
 */
const SEED = Number(process.env.AGREEMENT_SEED ?? 1);
const ROUNDS = Number(process.env.PROOFS_ROUNDS ?? 2);
/** Requests that are tried in each world against what is said of writing. */
const REQUESTS = 6;
/** Worlds in which each proof is tried. */
const WORLDS = 50;

let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(1);
});
afterAll(() => solver.close());

function parse(text: string): Rulebook | null {
  const checked = checkRulebook([{ name: 'proofs.gate', text }]);
  return checked.ok ? checked.rulebook : null;
}

const isAllowed = (rulebook: Rulebook, { collection, operation, fields }: Right, found: Found | null) => {
  if (found === null) return false;
  const { record, caller, world } = found;
  const decider = new Decider(rulebook, caller, world);
  if (fields !== null) return decider.shown(collection, record)?.has(fields[0]!) === true;
  if (!decider.isReadable(collection, record)) return false;
  return operation === 'read' || decider.decide({ operation, collection, record, values: new Map() }).allowed;
};

/** Worlds about records of its collection. */
const asInvariant = (right: Right): Invariant => ({
  ...right,
  title: '',
  only: { kind: 'constant', value: true },
  text: '',
  span: { source: '', start: 0, end: 0 },
});

const fieldsOf = ({ schema }: Rulebook, collection: string) =>
  [...schema.get(collection)!.fields.values()]
    .filter(({ system, unique }) => !system && !unique)
    .map(({ name }) => name);

test(
  'what is proved of rules with every type and kind of condition is so in all small worlds',
  { timeout: 3_600_000 },
  async () => {
    const counts = { proved: 0, refuted: 0, 'not decided': 0 };
    for (let round = 0; round < ROUNDS; round++) {
      const dice = new Dice(SEED * 10_000 + round);
      const writer = new RuleWriter(dice, parse(schemaText)!.schema);
      const rules = writer.rulebook();
      for (const collection of collections) {
        const block = rules.split('\nrules ').find((each) => each.startsWith(`${collection} {`))!;
        const whens = [...block.matchAll(/ when (.*)$/gm)]
          .map(([, when]) => `(${when})`)
          .filter((when) => !/\b(old|new)\b/.test(when));
        if (whens.length === 0) continue;
        // What the rules say, and that with a slip in it or something more asked: of these some are true.
        const said = whens.join(' or ');
        const beside = writer.filter(collection);
        for (const only of new Set([said, `${said} or ${beside}`, `(${said}) and ${beside}`])) {
          const operation = dice.pick(['read', 'read', 'delete', 'share']);
          const rulebook = parse(
            `${schemaText}\n${rules}\ninvariant "i" ${operation} ${collection} only if ${only}`,
          );
          const invariant = rulebook?.invariants[0];
          if (!rulebook || invariant === undefined) continue;
          const { result } = await searchProof(rulebook, invariant, solver.solve);
          counts[result]++;
          if (result !== 'proved') continue;
          const found = searchAtRandom(
            rulebook,
            invariant,
            WORLDS,
            ({ caller, world, record }) =>
              violationOf(new Decider(rulebook, caller, world), invariant, record).violation !== null,
          );
          expect(found, `proved, and not so: ${operation} ${collection} only if ${only}\n${rules}`).toBe(
            null,
          );
        }
      }
    }
    console.log(`proofs of every type: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.proved).toBeGreaterThan(ROUNDS);
    expect(counts.refuted).toBeGreaterThan(ROUNDS);
  },
);

test(
  'of two rulebooks nobody has what is called the same, or nobody’s, under one of them alone',
  { timeout: 3_600_000 },
  async () => {
    const none = { nobody: 0, somebody: 0, 'not decided': 0 };
    const counts = { ...none, writes: { ...none }, same: 0, carried: 0 };
    for (let round = 0; round < 6 * ROUNDS; round++) {
      // Several slips in each: it is only looked at again.
      const text = outcomeRulebook(new Dice(SEED * 10_000 + 5_000 + Math.floor(round / 2)));
      const dice = new Dice(SEED * 10_000 + 7_000 + round);
      const before = parse(`${outcomeSchema}\n${text}`)!;
      const changed = slipped(dice, text);
      const after = parse(`${outcomeSchema}\n${changed}`);
      if (after === null) continue;
      const differing = rightsThatDiffer(before, after);
      const nobodyHas = (right: Right, one: Rulebook, other: Rulebook) => {
        const found = searchAtRandom(
          one,
          asInvariant(right),
          WORLDS,
          (each) => isAllowed(one, right, each) && !isAllowed(other, right, placed(other, each)),
        );
        expect(found, `${JSON.stringify(right)}\n${outcomeSchema}\n${text}\n\nand\n\n${changed}`).toBe(null);
      };
      const nobodyWrites = (right: Right, one: Rulebook, other: Rulebook) => {
        const { operation, collection } = right;
        let request: ReadonlyMap<string, unknown> = new Map();
        const found = searchAtRandom(one, asInvariant(right), WORLDS / 4, (each) => {
          const records = new Map(
            [...each.records].map(([name, all]) => [
              name,
              new Map(all.map((its) => [its.id as string, its])),
            ]),
          );
          const again = placed(other, each);
          for (let tried = 0; tried < REQUESTS; tried++) {
            const record = operation === 'create' ? null : each.record;
            const about = { operation, collection, record };
            const field = operation === 'update' ? dice.pick(fieldsOf(one, collection)) : null;
            const random = randomRequest(dice, one, records, about, field).values;
            // A note needs its box.
            const box =
              operation === 'create' && collection === 'notes' ? [...records.get('boxes')!.keys()][0]! : null;
            const values = new Map([...random, ...(box === null ? [] : [['box', box] as const])]);
            const isDone = (rulebook: Rulebook, at: Found | null) =>
              at !== null && new Decider(rulebook, at.caller, at.world).decide({ ...about, values }).allowed;
            if (!isDone(one, each)) continue;
            counts.carried++;
            request = values;
            if (!isDone(other, again)) return true;
          }
          return false;
        });
        const told = `${JSON.stringify(right)} with ${JSON.stringify([...request])}`;
        expect(found, `${told}\n${outcomeSchema}\n${text}\n\nand\n\n${changed}`).toBe(null);
      };
      const writes = writesThatDiffer(before, after);
      // One of them: each may take some seconds.
      for (const right of writes.length === 0 ? [] : [dice.pick(writes)]) {
        const { more, less } = await compareWrite(before, after, right, solver.solve);
        counts.writes[more.result]++;
        counts.writes[less.result]++;
        if (more.result === 'nobody') nobodyWrites(right, after, before);
        if (less.result === 'nobody') nobodyWrites(right, before, after);
      }
      for (const collection of after.schema.keys())
        for (const operation of ['create', 'update', ...actionsOf(after, collection)]) {
          const right = { collection, operation, fields: null };
          if (writes.some((each) => each.collection === collection && each.operation === operation)) continue;
          if (dice.percent(90)) continue;
          counts.same++;
          nobodyWrites(right, after, before);
          nobodyWrites(right, before, after);
        }
      for (const right of differing) {
        const { more, less } = await compareRight(before, after, right, solver.solve);
        counts[more.result]++;
        counts[less.result]++;
        if (more.result === 'nobody') nobodyHas(right, after, before);
        if (less.result === 'nobody') nobodyHas(right, before, after);
      }
      for (const { name: collection, fields } of after.schema.values())
        for (const [operation, field] of [
          ['read', null],
          ['delete', null],
          ['share', null],
          ['read', dice.pick([...fields.keys()].slice(1))],
        ] as const) {
          const right: Right = { collection, operation, fields: field === null ? null : [field] };
          const isNamed = differing.some(
            (each) =>
              each.collection === collection &&
              each.operation === operation &&
              (field === null ? each.fields === null : each.fields?.includes(field)),
          );
          if (isNamed || dice.percent(80)) continue;
          counts.same++;
          nobodyHas(right, after, before);
          nobodyHas(right, before, after);
        }
    }
    console.log(`two rulebooks: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.nobody).toBeGreaterThan(ROUNDS);
    expect(counts.writes.nobody).toBeGreaterThan(ROUNDS);
    expect(counts.carried).toBeGreaterThan(5 * ROUNDS);
    expect(counts.same).toBeGreaterThan(ROUNDS);
  },
);
