import { afterAll, beforeAll, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import { Dice } from '../../src/core/analysis/dice.ts';
import { searchProof } from '../../src/core/analysis/prove/index.ts';
import { reachedOf } from '../../src/core/analysis/search.ts';
import { violationOf } from '../../src/core/analysis/violations.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { Decider, type World } from '../../src/core/evaluate/decider.ts';
import { counting, differences } from '../decide/counted.ts';
import { NOW } from '../decide/in-hand.ts';
import { Plain } from '../decide/plain.ts';

/**
 * What follows from deletions, of collections that point at each other in any way: some references refuse, some are cleared, some take along. The
 * decider, a plain reading, counting by conditions and proofs must come to the same.
 */
const SEED = Number(process.env.AGREEMENT_SEED ?? 1);
const ROUNDS = Number(process.env.CASCADES_ROUNDS ?? 16);
/** Worlds in which each rulebook is tried. */
const WORLDS = 20;

interface Reference {
  readonly name: string;
  readonly of: string;
  readonly onDelete: string;
}
type Shape = ReadonlyMap<string, readonly Reference[]>;

let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(2);
});
afterAll(() => solver.close());

function shapeOf(dice: Dice): Shape {
  const all = ['yards', 'sheds', 'hives', 'visits'].slice(0, dice.between(2, 3));
  return new Map(
    all.map((name) => [
      name,
      Array.from({ length: dice.between(1, 3) }, (_, index) => ({
        name: `to_${index + 1}`,
        of: dice.pick(all),
        onDelete: dice.pick(['refuse', 'remove', 'remove', 'clear', 'clear']),
      })),
    ]),
  );
}

/** A condition about a record; of a change it may name a side. */
function conditionOf(dice: Dice, shape: Shape, collection: string, change: boolean): string {
  const side = change && dice.percent(50) ? dice.pick(['old.', 'new.']) : '';
  const own = shape.get(collection)!;
  const one = dice.pick(own);
  const next = dice.pick(shape.get(one.of)!);
  const [holder, references] = dice.pick([...shape]);
  const pointing = dice.pick([...references.filter(({ of }) => of === collection), null]);
  const same = (of: string) => own.filter((each) => each.of === of && each !== one);
  const found = dice.pick([
    `${side}${one.name} is present`,
    `${side}${one.name} is missing`,
    `${side}${one.name}.${next.name} is present`,
    `${side}${one.name}.name = "x"`,
    `${side}name = "x"`,
    ...same(one.of).flatMap(({ name }) => [
      `${side}${one.name} = ${side}${name}`,
      `${side}${one.name} is present or ${side}${name} is present`,
      `${side}${one.name} is missing or ${side}${name} is missing or ${side}${one.name} != ${side}${name}`,
    ]),
    ...(next.of === collection
      ? [
          `${side}${one.name}.${next.name} = this`,
          `${side}${one.name}.${next.name} is missing or ${side}${one.name}.${next.name} != this`,
        ]
      : []),
    ...(pointing === null
      ? []
      : [
          `some v in ${holder} has (v.${pointing.name} = this)`,
          `no v in ${holder} has (v.${pointing.name} is present and v.${pointing.name} = this)`,
          `count(v in ${holder} where v.${pointing.name} is present and v.${pointing.name} = this) < 2`,
        ]),
  ]);
  return dice.percent(75)
    ? found
    : `${found} ${dice.pick(['or', 'and'])} ${conditionOf(dice, shape, collection, change)}`;
}

/** What somebody could take for certain of a reference that is followed, or lost. */
function invariantOf(dice: Dice, shape: Shape): string {
  const [collection, references] = dice.pick([...shape]);
  const one = dice.pick(references);
  const isUpdate = one.onDelete === 'clear';
  const back = shape.get(one.of)!.filter(({ of }) => of === collection);
  const beside = references.filter((each) => each !== one && each.onDelete === 'clear');
  const [holder, theirs] = dice.pick([...shape]);
  const pointing = theirs.filter(({ of }) => of === collection);
  const certain = [
    ...back.flatMap(({ name }) => [
      `old.${one.name}.${name} is missing or old.${one.name}.${name} != this`,
      `old.${one.name} is missing or old.${one.name}.${name} is present`,
    ]),
    ...beside.flatMap(({ name, of }) => [
      `old.${one.name} is missing or old.${name} is missing or new.${one.name} is present or new.${name} is present`,
      `${one.name} is present or ${name} is present`,
      ...(of === one.of
        ? [
            `old.${one.name} is missing or old.${name} is missing or old.${one.name} = old.${name} or new.${one.name} is present or new.${name} is present`,
          ]
        : []),
    ]),
    ...pointing.map(({ name }) => `some v in ${holder} has (v.${name} = this)`),
  ].filter((each) => isUpdate || !each.includes('new.'));
  const only =
    certain.length > 0 && dice.percent(80)
      ? dice.pick(certain)
      : conditionOf(dice, shape, collection, isUpdate);
  const about = isUpdate && dice.percent(30) ? ` (${one.name})` : '';
  return `${isUpdate ? 'update' : 'delete'} ${collection}${about} only if ${only}`;
}

function rulebookOf(dice: Dice, shape: Shape): string {
  return [
    ...[...shape].map(
      ([name, references]) =>
        `collection ${name} { name text label  ${references.map(({ name: field, of, onDelete }) => `${field} ref ${of} on delete ${onDelete}`).join('  ')} }`,
    ),
    ...[...shape.keys()].map((name) => {
      const when = (change = false) =>
        dice.percent(60) ? conditionOf(dice, shape, name, change) : 'name = "x"';
      const field = dice.pick(shape.get(name)!).name;
      return `rules ${name} {
        people may read (all)
        ${dice.percent(75) ? `people may delete${dice.percent(40) ? ` when ${when()}` : ''}` : ''}
        ${dice.percent(40) ? `nobody may update${dice.percent(40) ? ` (${field})` : ''} unless ${when(true)}` : ''}
        ${dice.percent(20) ? `nobody may delete unless ${when()}` : ''}
        ${dice.percent(10) ? `nobody may read unless ${when()}` : ''}
      }`;
    }),
  ].join('\n');
}

/** Some records of each, which point at others that are there. */
function worldOf(
  dice: Dice,
  shape: Shape,
): { readonly world: World; readonly records: ReadonlyMap<string, readonly RecordValues[]> } {
  const ids = new Map(
    [...shape.keys()].map((name) => [name, Array.from({ length: dice.between(1, 3) }, () => dice.uuid(1))]),
  );
  const records = new Map<string, readonly RecordValues[]>(
    [...shape].map(([name, references]) => [
      name,
      ids.get(name)!.map((id) => ({
        id,
        name: dice.pick(['x', 'y', null]),
        created_at: NOW,
        updated_at: NOW,
        ...Object.fromEntries(
          references.map((each) => [each.name, dice.percent(25) ? null : dice.pick(ids.get(each.of)!)]),
        ),
      })),
    ]),
  );
  const people = [{ id: 'ada', created_at: NOW, updated_at: NOW, name: null, email: null }];
  const all = (name: string) => (name === 'people' ? people : records.get(name)!);
  return {
    records,
    world: { now: NOW, all, look: (name, id) => all(name).find((each) => each.id === id) ?? null },
  };
}

const ada: Caller = { person: { id: 'ada', values: { id: 'ada' } }, roles: new Set() };

test(
  'what a deletion takes along and clears is the same to all, however collections point at each other',
  { timeout: 3_600_000 },
  async () => {
    const counts = { deleted: 0, refused: 0, open: 0, proved: 0, refuted: 0, 'not decided': 0 };
    for (let round = 0; round < ROUNDS; round++) {
      const dice = new Dice(SEED * 10_000 + round);
      const shape = shapeOf(dice);
      const rules = rulebookOf(dice, shape);
      const invariants = Array.from(
        { length: 5 },
        (_, index) => `invariant "${index}" ${invariantOf(dice, shape)}`,
      );
      const text = `${rules}\n${invariants.join('\n')}`;
      const checked = checkRulebook([{ name: 'cascades.gate', text }]);
      if (!checked.ok) throw new Error(`${JSON.stringify(checked.diagnostics)}\n${text}`);
      const { rulebook } = checked;
      const proofs = [];
      for (const invariant of rulebook.invariants) {
        const { result } = await searchProof(rulebook, invariant, solver.solve);
        counts[result]++;
        proofs.push({ invariant, result });
      }
      for (let each = 0; each < WORLDS; each++) {
        const { world, records } = worldOf(dice, shape);
        const [decider, plain] = [new Decider(rulebook, ada, world), new Plain(rulebook, ada, world)];
        const told = `round ${round}: ${JSON.stringify([...records])}\n${text}`;
        const counted = new Map(
          [...records.keys()].map((name) => [name, counting(rulebook, ada, world, name)]),
        );
        for (const [collection, all] of records)
          for (const record of all) {
            const question = { operation: 'delete', collection, record, values: new Map() };
            const [decision, expected] = [decider.decide(question), plain.decide(question)];
            expect(decision.refusedBy, told).toBe(expected.refusedBy);
            counts[decision.allowed ? 'deleted' : 'refused']++;
            const [tried, found] = [reachedOf(decider, collection, record), counted.get(collection)!(record)];
            expect(differences(tried, found), `${JSON.stringify(record)} ${told}`).toEqual([]);
            counts.open += found.undecided.length;
            if (!decision.allowed) continue;
            // Whatever really goes along, or loses something, was counted as what could, or left open.
            const { removed, cleared } = decision.follows!;
            for (const { name, ids, what } of [
              ...[...removed].map(([name, ids]) => ({ name, ids, what: 'delete' })),
              ...cleared.map(({ collection: name, ids, field }) => ({ name, ids, what: `update ${field}` })),
            ])
              for (const id of ids) {
                const { follows, undecided } = counted.get(name)!(world.look(name, id)!);
                expect(
                  [...follows, ...undecided.map((each) => each.replace('goes along: ', ''))],
                  `${id} ${told}`,
                ).toContain(what);
              }
          }
        for (const { invariant, result } of proofs)
          for (const record of result === 'proved' ? records.get(invariant.collection)! : [])
            expect(violationOf(decider, invariant, record).violation, `${invariant.text} ${told}`).toBe(null);
      }
    }
    console.log(`cascades: ${JSON.stringify(counts)} (seed ${SEED}, ${ROUNDS} rounds)`);
    expect(counts.proved).toBeGreaterThan(ROUNDS / 4);
    expect(counts.refuted).toBeGreaterThan(ROUNDS);
    expect(counts.deleted).toBeGreaterThan(20 * ROUNDS);
  },
);
