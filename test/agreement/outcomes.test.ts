import { afterAll, beforeAll, expect, test } from 'vitest';
import { openSolver } from '../../src/cli/solver.ts';
import { Dice } from '../../src/core/analysis/dice.ts';
import { searchProof } from '../../src/core/analysis/prove/index.ts';
import { reachedOf, searchCreate, searchRight } from '../../src/core/analysis/search.ts';
import { planCounting } from '../../src/core/analysis/tally.ts';
import { violationOf } from '../../src/core/analysis/violations.ts';
import { actionsOf, type Reached } from '../../src/core/analysis/outcomes.ts';
import { noRights, rightsOf, type Rights } from '../../src/core/analysis/rights.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import type { Follows, RefusedBy } from '../../src/core/decide/steps/verdict.ts';
import type { Meeting } from '../../src/core/decide/turns.ts';
import { Decider, NEW_ID, type Decision, type Question } from '../../src/core/evaluate/decider.ts';
import { explainWhy } from '../../src/core/explain/why.ts';
import { actionKey, type Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { insertSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import { sameValue } from '../../src/core/types/values.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { arrive } from '../../src/store/callers.ts';
import { run, type Executor } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { createOf, createRecord } from '../../src/store/records/create.ts';
import { deleteOf, deleteRecord } from '../../src/store/records/delete.ts';
import { fullRecord } from '../../src/store/records/full.ts';
import type { Outcome, Refusal } from '../../src/store/records/outcome.ts';
import { readRecord } from '../../src/store/records/read.ts';
import { rightsPlanOf } from '../../src/store/records/rights.ts';
import { writtenAtOnce, type Guess } from '../../src/store/records/single.ts';
import { actOn, actionOf, updateOf, updateRecord } from '../../src/store/records/update.ts';
import { rolledBack } from '../../src/store/roll-back.ts';
import { mayShare } from '../../src/store/shares/change.ts';
import { reachedByBits } from '../../src/store/sweep/bits.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';
import {
  outcomeCollections,
  outcomeRecords,
  outcomeRoles,
  outcomeRulebook,
  outcomeSchema,
  randomQuestion,
  randomRequest,
  withShares,
} from './worlds.ts';

/**
 * Whole outcomes: what the store does in PostgreSQL, what the decider says of records in hand, what why answers, what rights
 * promise, what a sweep counts, and what is proved, for the same random requests.
 */
const SEED = Number(process.env.AGREEMENT_SEED ?? 1);
const STEPS = Number(process.env.AGREEMENT_STEPS ?? 3_000);
const STEPS_A_ROUND = 100;
const NOW = '2026-05-01T12:00:00Z';

let own: OwnDatabase;
const world = new Map<string, Map<string, RecordValues>>();
const given = new Map<string, string[]>();

function parse(text: string): Rulebook {
  const checked = checkRulebook([{ name: 'outcomes.gate', text }]);
  if (!checked.ok)
    throw new Error(`the generator wrote what is refused: ${JSON.stringify(checked.diagnostics)}\n${text}`);
  return checked.rulebook;
}

const rolesText = outcomeRoles.map((role) => `role ${role}`).join('\n');

beforeAll(async () => {
  own = await ownDatabase();
  await migrate(own.database);
  const rulebook = parse(`${outcomeSchema}\n${rolesText}`);
  await publish(own.database, rulebook, atTheMachine('test'));
  const dice = new Dice(SEED);
  const records = outcomeRecords(dice, rulebook.schema, NOW);
  await own.database.transaction(async (on) => {
    await run(on, sql`set constraints all deferred`);
    for (const [name, all] of records)
      for (const values of all.values())
        await run(on, insertSql(collectionOf(rulebook.schema, name), new Map(Object.entries(values))));
    for (const person of records.get('people')!.keys()) {
      given.set(
        person,
        outcomeRoles.filter(() => dice.percent(50)),
      );
      for (const role of given.get(person)!)
        await run(
          on,
          sql`insert into gate.role_assignments (person, role) values (${value(person)}::uuid, ${value(role)})`,
        );
    }
  });
  const access = new Access(rulebook, { person: null, roles: new Set() }, NOW);
  for (const name of outcomeCollections) {
    const stored = new Map<string, RecordValues>();
    for (const id of records.get(name)!.keys())
      stored.set(id, (await fullRecord(own.database, access, name, id))!);
    world.set(name, stored);
  }
});

afterAll(() => own.drop());

/** Callers as they arrive, half of them with what others share with them. */
async function callers(dice: Dice, rulebook: Rulebook): Promise<Caller[]> {
  const people: Caller[] = [];
  for (let count = 0; count < 3; count++) {
    const id = dice.pick([...world.get('people')!.keys()]);
    people.push(
      (await arrive(own.database, rulebook, { kind: 'person', id }, { at: NOW, toEvaluate: true }))!.caller,
    );
  }
  return withShares(dice, rulebook, people, world);
}

const look = (name: string, id: string) => world.get(name)?.get(id) ?? null;
const all = (name: string) => world.get(name)?.values() ?? [];

interface Carried {
  readonly refusal: Refusal | null;
  readonly after: RecordValues | null;
  readonly follows: Follows | null;
}

/** What the store does, taken back. */
async function carryOut(
  on: Executor,
  access: Access,
  { operation, collection, record, values }: Question,
): Promise<Carried> {
  const full = (id: string) => fullRecord(on, access, collection, id);
  const done = async (outcome: Outcome<unknown>, id: string | null): Promise<Carried> =>
    outcome.ok
      ? { refusal: null, after: id === null ? null : await full(id), follows: null }
      : { refusal: outcome.refusal, after: null, follows: null };
  const id = record === null ? '' : (record.id as string);
  if (operation === 'create') {
    const outcome = await createRecord(on, access, collection, values);
    return done(outcome, outcome.ok ? outcome.value.id : null);
  }
  if (operation === 'update') return done(await updateRecord(on, access, collection, id, values), id);
  if (operation === 'delete') {
    const outcome = await deleteRecord(on, access, collection, id);
    return outcome.ok ? { refusal: null, after: null, follows: outcome.value } : done(outcome, null);
  }
  return done(
    await actOn(on, access, access.rulebook.actions.get(actionKey(collection, operation))!, id, values),
    id,
  );
}

/** The same write as one statement; null where it is none, or was not made. */
async function madeAtOnce(
  on: Executor,
  access: Access,
  { operation, collection, record, values }: Question,
): Promise<{ readonly after: RecordValues | null } | null> {
  const { rulebook, caller } = access;
  if (caller.shared !== undefined) return null;
  const id = record === null ? '' : (record.id as string);
  const asked =
    operation === 'create'
      ? createOf(rulebook, collection, values)
      : operation === 'update'
        ? updateOf(rulebook, collection, id, values)
        : operation === 'delete'
          ? deleteOf(rulebook, collection, id)
          : actionOf(rulebook, rulebook.actions.get(actionKey(collection, operation))!, id, values);
  // Here nobody else writes: what would wait for its turn is decided by the same statement.
  const turns = (of: Caller): Meeting => {
    const meeting = asked.meetings(of);
    return meeting.kind === 'group' ? { ...meeting, kind: 'others' } : meeting;
  };
  const write = { ...asked, meetings: turns };
  const told = { right: 0, wrong: 0 };
  const guess = (said: string): Guess => ({
    access,
    said,
    asking: sql`select set_config('gate.said', 'somebody', true) as _said`,
    wasRight: () => void told.right++,
    wasWrong: () => void told.wrong++,
  });
  // For somebody else nothing is written, whatever it is.
  expect(await writtenAtOnce(on, guess('somebody else'), write)).toBe(null);
  const before = operation === 'create' ? null : await fullRecord(on, access, collection, id);
  if (before !== null) expect(before).toEqual(look(collection, id));
  const made = await writtenAtOnce(on, guess('somebody'), write);
  expect(told.right).toBe(made === null ? 0 : 1);
  if (made === null) return null;
  const visible = await readRecord(on, access, collection, write.id);
  expect(made.record?.json(null) ?? null, 'as it is read afterwards').toBe(visible?.json(null) ?? null);
  return { after: operation === 'delete' ? null : await fullRecord(on, access, collection, write.id) };
}

const refusals: Readonly<Record<RefusedBy, Refusal['kind']>> = {
  'not readable': 'not found',
  'changed meanwhile': 'changed meanwhile',
  'not covered': 'fields not covered',
  'own record': 'not allowed',
  'reference not readable': 'reference not found',
  'stamps differ': 'not allowed',
  'stamp undoes': 'not allowed',
  'only shared': 'not allowed',
  'no rule': 'not allowed',
  unclear: 'not allowed',
  'follows fenced': 'still referenced',
  'value required': 'value required',
  circle: 'would close a circle',
  'still referenced': 'still referenced',
};

const counts = {
  steps: 0,
  allowed: 0,
  followed: 0,
  rights: 0,
  kept: 0,
  refused: 0,
  undecided: 0,
  carried: 0,
  once: 0,
  stepwise: 0,
  cells: 0,
  proved: 0,
  refuted: 0,
  'not decided': 0,
};

function sorted({ removed, cleared }: Follows) {
  return {
    removed: [...removed].flatMap(([name, ids]) => ids.map((id) => `${name} ${id}`)).toSorted(),
    cleared: cleared
      .flatMap(({ collection, field, ids }) => ids.map((id) => `${collection} ${field} ${id}`))
      .toSorted(),
  };
}

async function compareStep(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  question: Question,
  told: string,
): Promise<Decision> {
  const access = new Access(rulebook, caller, NOW);
  const decider = new Decider(rulebook, caller, { now: NOW, look, all });
  const decision = decider.decide(question);
  const { operation, collection, record } = question;
  const why = explainWhy(decider, question, { name: 'x', fields: [], showSensitive: true });
  expect(why.allowed, `why: ${told}`).toBe(decision.allowed);
  if (!decision.allowed) expect(why.stages.at(-1)!.answer, `the last stage says no: ${told}`).toBe(false);
  if (operation === 'share') {
    const may = await mayShare(on, access, collection, record!.id as string);
    expect(may.read && may.share, told).toBe(decision.allowed);
    return decision;
  }
  if (operation === 'read') return decision;
  const carried = await rolledBack(on, (inner) => carryOut(inner, access, question));
  const once = await rolledBack(on, (inner) => madeAtOnce(inner, access, question));
  if (once !== null) {
    expect(decision.allowed, `made at once: ${told}`).toBe(true);
    expect(once.after, `made at once: ${told}`).toEqual(
      carried.after === null ? null : { ...carried.after, id: once.after!.id },
    );
    counts.once++;
  } else if (decision.allowed && caller.shared === undefined) counts.stepwise++;
  const expected = decision.refusedBy === null ? null : refusals[decision.refusedBy];
  expect(
    [
      carried.refusal?.kind ?? null,
      carried.refusal !== null && 'fields' in carried.refusal ? carried.refusal.fields : [],
    ],
    told,
  ).toEqual([
    expected,
    expected === null || decision.refusedBy === 'own record' || decision.refusedBy === 'stamps differ'
      ? []
      : 'fields' in (carried.refusal ?? {})
        ? decision.fields
        : [],
  ]);
  if (carried.follows !== null) {
    expect(sorted(carried.follows), told).toEqual(sorted(decision.follows!));
    if (sorted(carried.follows).removed.length + sorted(carried.follows).cleared.length > 0)
      counts.followed++;
  }
  if (carried.after !== null)
    for (const { name, type } of collectionOf(rulebook.schema, collection).fields.values()) {
      if (name === 'id') continue;
      expect(
        sameValue(type, carried.after[name] ?? null, decision.after![name] ?? null),
        `${name}: ${told}`,
      ).toBe(true);
    }
  return decision;
}

/** A no of rights or of a sweep, in either engine, is never contradicted by a request that goes through. */
function compareRights(
  reached: readonly Reached[],
  question: Question,
  decision: Decision,
  told: string,
): void {
  if (!decision.allowed || question.record === null) return;
  for (const each of reached) {
    counts.rights++;
    const may = (what: string, yes: boolean) =>
      expect(yes || each.undecided.includes(what), `${what}: ${told}`).toBe(true);
    switch (question.operation) {
      case 'update':
        for (const name of question.values.keys()) may(`update ${name}`, each.updatable.includes(name));
        break;
      case 'delete':
        may('delete', each.delete);
        break;
      case 'share':
        expect(each.share, told).toBe(true);
        break;
      case 'read':
        expect([...each.shown].toSorted(), told).toEqual([...decision.fields].toSorted());
        break;
      default:
        may(question.operation, each.actions.includes(question.operation));
    }
  }
}

/** Values that are tried against each no. */
const TRIED = 50;

/**
 * What front ends are told: a yes is carried out by the store with the request that comes with it, and a no is refused whatever is
 * sent. Both engines say the same, but for what either could not decide.
 */
async function rightsAreKept(
  on: Executor,
  dice: Dice,
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  record: RecordValues,
  byClosures: Reached,
  told: string,
): Promise<void> {
  const access = new Access(rulebook, caller, NOW);
  const plan = rightsPlanOf(access, collection);
  const rights = (await readRecord(on, access, collection, record.id as string, plan))?.rights ?? noRights;
  const said = rightsOf(byClosures);
  const decider = new Decider(rulebook, caller, { now: NOW, look, all });
  const { fields } = collectionOf(rulebook.schema, collection);
  const questions = [
    ...[...fields.values()]
      .filter(({ system }) => !system)
      .map(({ name }) => ({
        right: { update: name },
        operation: 'update',
        field: name,
        of: ({ update }: Rights) => update.includes(name),
        open: ({ undecided }: Rights) => undecided?.update.includes(name) === true,
      })),
    ...actionsOf(rulebook, collection).map((name) => ({
      right: { action: name },
      operation: name,
      field: null,
      of: ({ actions }: Rights) => actions.includes(name),
      open: ({ undecided }: Rights) => undecided?.actions.includes(name) === true,
    })),
  ];
  for (const { right, operation, field, of, open } of questions) {
    const about = `${operation} ${field ?? ''} of ${record.id as string}: ${told}`;
    if (!open(rights) && !open(said)) expect(of(rights), about).toBe(of(said));
    if (of(rights)) {
      const { request } = searchRight(decider, collection, record, right);
      if (request === null) continue;
      const decision = await compareStep(
        on,
        rulebook,
        caller,
        { operation, collection, record, values: request },
        about,
      );
      expect(decision.allowed, about).toBe(true);
      counts.kept++;
    } else if (!open(rights)) {
      for (let tried = 0; tried < TRIED; tried++) {
        const question = randomRequest(dice, rulebook, world, { operation, collection, record }, field);
        const sent = `${JSON.stringify([...question.values])}, ${about}`;
        expect(decider.decide(question).allowed, sent).toBe(false);
        if (tried < 2) await compareStep(on, rulebook, caller, question, sent);
      }
      counts.refused++;
    }
  }
}

test(
  'the store, the decider, why, rights and both ways of counting agree on whole outcomes',
  { timeout: 7_200_000 },
  async () => {
    for (let round = 0; counts.steps < STEPS; round++) {
      const seed = SEED * 100_000 + round;
      const dice = new Dice(seed);
      const text = `${outcomeSchema}\n${outcomeRulebook(dice)}`;
      const rulebook = parse(text);
      const here = await callers(dice, rulebook);
      await rolledBack(own.database, async (on) => {
        const rights = new Map<string, readonly Reached[]>();
        for (let step = 0; step < STEPS_A_ROUND; step++) {
          const caller = dice.pick(here);
          const question = randomQuestion(
            dice,
            rulebook,
            world,
            new Decider(rulebook, caller, { now: NOW, look, all }),
          );
          const { operation, collection, record } = question;
          const told = `seed ${seed}: ${operation} ${collection} ${JSON.stringify(record?.id)} with ${JSON.stringify([...question.values])} by ${JSON.stringify({ ...caller, roles: [...caller.roles] })}\n${text}`;
          const decision = await compareStep(on, rulebook, caller, question, told);
          counts.steps++;
          if (decision.allowed) counts.allowed++;
          if (record === null) continue;
          const key = `${here.indexOf(caller)} ${collection} ${record.id as string}`;
          // For some of the records everything is worked out that could be done with them, in both engines.
          if (!rights.has(key) && rights.size < 6) {
            const decider = new Decider(rulebook, caller, { now: NOW, look, all });
            const byClosures = reachedOf(decider, collection, record, true);
            const plan = planCounting(rulebook, NOW, collection, [{ name: '', caller }], { unchanged: true });
            const byBits = (
              await reachedByBits(on, rulebook, NOW, plan, plan.callers[0]!, [record.id as string])
            ).get(record.id as string)!;
            compareReached(
              byClosures,
              byBits,
              `seed ${seed}: ${collection} ${record.id as string} by ${JSON.stringify({ ...caller, roles: [...caller.roles] })}\n${text}`,
            );
            rights.set(key, [byClosures, byBits]);
            // With dice of its own, so that the steps of a seed stay what they are.
            const dicing = new Dice(seed * 1_000 + step);
            await rightsAreKept(on, dicing, rulebook, caller, collection, record, byClosures, told);
          }
          compareRights(rights.get(key) ?? [], question, decision, told);
        }
        // What is found to be possible is carried out by the store.
        for (const caller of here) {
          const decider = new Decider(rulebook, caller, { now: NOW, look, all });
          for (const collection of outcomeCollections) {
            const { answer, request } = searchCreate(decider, collection);
            if (answer !== 'yes') continue;
            await compareStep(
              on,
              rulebook,
              caller,
              { operation: 'create', collection, record: null, values: request! },
              `seed ${seed}: create ${collection}\n${text}`,
            );
            counts.carried++;
          }
        }
      });
    }
    console.log(`outcomes: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.allowed / counts.steps).toBeGreaterThan(0.08);
    expect(counts.allowed / counts.steps).toBeLessThan(0.9);
    // Among few there may be none.
    expect(counts.followed).toBeGreaterThan(Math.floor(STEPS / 2_000) - 1);
    expect(counts.rights).toBeGreaterThan(STEPS / 100);
    expect(counts.kept, 'what rights call possible').toBeGreaterThan(STEPS / 100);
    expect(counts.refused, 'what rights rule out').toBeGreaterThan(STEPS / 100);
    expect(counts.undecided / counts.cells).toBeLessThan(0.5);
  },
);

function compareReached(closures: Reached, bits: Reached, told: string): void {
  const words = ({ shown, updatable, actions, follows, read, ...rest }: Reached) =>
    new Set([
      ...(read ? ['read'] : []),
      ...shown.map((name) => `read ${name}`),
      ...updatable.map((name) => `update ${name}`),
      ...actions,
      ...follows.map((what) => `goes along: ${what}`),
      ...(rest.delete ? ['delete'] : []),
      ...(rest.share ? ['share'] : []),
    ]);
  const [one, other] = [words(closures), words(bits)];
  const open = new Set([...closures.undecided, ...bits.undecided]);
  counts.cells += one.size + other.size + open.size;
  counts.undecided += open.size;
  const differing = [...new Set([...one, ...other])].filter(
    (each) => !open.has(each) && one.has(each) !== other.has(each),
  );
  expect(
    differing,
    `closures ${JSON.stringify([...one])}, bits ${JSON.stringify([...other])}: ${told}`,
  ).toEqual([]);
}

const invariants = [
  'update boxes only if owner = me',
  'update boxes (state) only if old.state != "shut"',
  'update boxes (owner) only if new.owner = old.owner',
  'update people (grade) only if old.grade = new.grade',
  'delete notes only if writer = me',
  'delete boxes only if owner = me or me has role w1',
  'read boxes (all) only if owner = me or state != "shut"',
  'share boxes only if owner = me',
  'create boxes only if owner = me',
  'create notes only if writer = me',
  'seal boxes only if old.state != "shut"',
  'update notes (about) only if me is present',
  'update boxes only if twin is present or pair is present',
  'delete boxes only if zone.main is missing or zone.main != this',
  'delete notes only if box.zone.main is missing or box.zone.main != box',
  'update boxes (twin) only if new.pair is present or old.pair is missing',
  'update boxes (twin) only if some n in notes has (n.box = this)',
  'update notes (about) only if about is present or box.twin is present',
];

test(
  'what is proved no step breaks, and what is refuted the store really does',
  { timeout: 7_200_000 },
  async () => {
    const solver = await openSolver(2);
    try {
      for (let round = 0; round < Math.max(4, STEPS / 500); round++) {
        const dice = new Dice(SEED * 100_000 + 50_000 + round);
        const rules = outcomeRulebook(dice);
        for (const invariant of invariants.filter(() => dice.percent(40))) {
          const rulebook = parse(`${outcomeSchema}\n${rules}\ninvariant "i" ${invariant}`);
          const [stated] = rulebook.invariants;
          const proof = await searchProof(rulebook, stated!, solver.solve);
          counts[proof.result]++;
          const told = `${invariant}\n${rules}`;
          if (proof.result === 'proved')
            for (const caller of await callers(dice, rulebook)) {
              const decider = new Decider(rulebook, caller, { now: NOW, look, all });
              const records =
                stated!.operation === 'create' ? [null] : world.get(stated!.collection)!.values();
              for (const record of records)
                expect(violationOf(decider, stated!, record).violation, `proved, and broken: ${told}`).toBe(
                  null,
                );
            }
          if (proof.result === 'refuted') {
            const { found, step } = proof;
            // A required reference with no record to point at: no such world can be put in place.
            if (!isWhole(rulebook, found.records)) continue;
            counts.carried++;
            await rolledBack(own.database, async (on) => {
              await fill(on, rulebook, found.records);
              const access = new Access(rulebook, found.caller, found.world.now);
              const { operation, collection, record } = step.question;
              if (operation === 'read' || operation === 'share') {
                const may = await mayShare(on, access, collection, record!.id as string);
                expect(operation === 'read' ? may.read : may.share, `refuted, and not so: ${told}`).toBe(
                  true,
                );
                return;
              }
              const carried = await carryOut(on, access, step.question);
              expect(carried.refusal, `refuted, and not so: ${told}`).toBe(null);
            });
          }
        }
      }
    } finally {
      solver.close();
    }
    console.log(`proofs of steps: ${JSON.stringify(counts)} (seed ${SEED})`);
    expect(counts.proved).toBeGreaterThan(1);
    expect(counts.refuted).toBeGreaterThan(4);
  },
);

function isWhole(rulebook: Rulebook, records: ReadonlyMap<string, readonly RecordValues[]>): boolean {
  return [...records].every(([name, all]) =>
    all.every((record) =>
      [...collectionOf(rulebook.schema, name).fields.values()].every(
        ({ name: field, required }) => !required || (record[field] ?? null) !== null,
      ),
    ),
  );
}

/** Nothing but these records. */
async function fill(
  on: Executor,
  rulebook: Rulebook,
  records: ReadonlyMap<string, readonly RecordValues[]>,
): Promise<void> {
  await run(on, sql`set constraints all deferred`);
  await run(on, sql`delete from gate.role_assignments`);
  for (const name of outcomeCollections.toReversed())
    await run(on, { text: `delete from records.${name}`, values: [] });
  for (const name of outcomeCollections)
    for (const record of records.get(name) ?? [])
      await run(on, insertSql(collectionOf(rulebook.schema, name), new Map(Object.entries(record))));
}

test('the id of a record that is only thought of is the id of none', () => {
  expect([...world.values()].some((records) => records.has(NEW_ID))).toBe(false);
});
