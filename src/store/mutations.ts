import type { Attempt } from '../core/analysis/attempts.ts';
import { placedAs } from '../core/passage/names.ts';
import { findingsOf } from '../core/analysis/findings.ts';
import { changesOf, type SweepMap } from '../core/analysis/map.ts';
import type { Mutation } from '../core/analysis/mutations.ts';
import { sampleRecords } from '../core/analysis/sampling.ts';
import type { Counted } from '../core/analysis/tally.ts';
import { checkRulebook } from '../core/check/index.ts';
import { Decider } from '../core/evaluate/decider.ts';
import { valueWords } from '../core/explain/words.ts';
import { maysOf } from '../core/ir/conditions.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import { chosenTrials } from '../core/trial/choice.ts';
import { runTrials, tryInvariants } from '../core/trial/run.ts';
import type { Verdict } from '../core/trial/verdict.ts';
import { collectionOf, type Collection } from '../core/types/schema.ts';
import { passing, type Database, type Executor } from './connection.ts';
import { rolledBack, rolledBackAnew } from './roll-back.ts';
import { countCollection, type CollectionCounts } from './sweep/counts.ts';
import { everyone } from './sweep/index.ts';
import { StorePort } from './trials/port.ts';
import { LoadedWorld } from './world.ts';

/** What came of one planted fault. */
export interface Fate {
  readonly mutation: Mutation;
  /** Who found it first; `nobody`: no answer that was looked at is another. */
  readonly foundBy: 'check' | 'trials' | 'invariants' | 'sweep' | 'nobody';
  /** The trial or invariant, the first number that is another, or what the checker says. */
  readonly by: string;
}

export interface MutationOptions {
  /** Ask the sweep, too; without it, only what trials and invariants do not find is told. */
  readonly sweep: boolean;
  readonly progress: (progress: { done: number; total: number; doing: string }) => void;
}

/** Faults that are tried side by side: most of the time each waits for the database. */
const WORKERS = 3;

/**
 * Plants faults, one after the other, and tells who finds each: the checker, the trials, the invariants, or a sweep whose
 * numbers are another. What fails without any fault, `failing`, finds none. Nothing is published, and everything is taken back. Cost: a
 * second or so for each fault.
 */
export async function plantFaults(
  database: Database,
  rulebook: Rulebook,
  mutations: readonly Mutation[],
  options: MutationOptions,
  enter: (on: Executor) => Promise<void> = async () => undefined,
): Promise<{ readonly fates: readonly Fate[]; readonly failing: readonly Verdict[] }> {
  const fates: Fate[] = [];
  let [next, done] = [0, 0];
  const failing = await rolledBack(passing(database), async (on) => {
    await enter(on);
    return failingOf(on, rulebook);
  });
  const work = () =>
    rolledBack(passing(database), async (on) => {
      await enter(on);
      const base = options.sweep ? await Base.make(on, rulebook) : null;
      for (let index = next++; index < mutations.length; index = next++) {
        const mutation = mutations[index]!;
        options.progress({
          done: done++,
          total: mutations.length,
          doing: `${mutation.file}:${mutation.line}`,
        });
        fates[index] = await fateOf(on, rulebook, mutation, base, new Set(failing.keys()));
      }
    });
  const ended = await Promise.allSettled(Array.from({ length: Math.min(WORKERS, mutations.length) }, work));
  const failed = ended.find((each) => each.status === 'rejected');
  if (failed !== undefined) throw failed.reason;
  return { fates, failing: [...failing.values()] };
}

/** What fails by itself: no fault is found by it. */
async function failingOf(on: Executor, rulebook: Rulebook): Promise<Map<string, Verdict>> {
  const failing = new Map<string, Verdict>();
  const collect = async (verdicts: AsyncGenerator<Verdict>) => {
    for await (const [key, verdict] of keyed(verdicts)) if (!verdict.passed) failing.set(key, verdict);
  };
  const choice = chosenTrials(rulebook, null, null);
  await rolledBackAnew(on, (savepoint) =>
    collect(runTrials(rulebook, choice.trials, new StorePort(savepoint, rulebook))),
  );
  await collect(tryInvariants(rulebook, choice, new StorePort(on, rulebook)));
  return failing;
}

/** Verdicts by what they are about, which no fault moves: where it stands in the text, one may. */
async function* keyed(verdicts: AsyncGenerator<Verdict>): AsyncGenerator<[string, Verdict]> {
  const seen = new Map<string, number>();
  for await (const verdict of verdicts) {
    const about = JSON.stringify([verdict.trial, verdict.identity, verdict.expectation]);
    const times = (seen.get(about) ?? 0) + 1;
    seen.set(about, times);
    yield [`${about} ${times}`, verdict];
  }
}

async function fateOf(
  on: Executor,
  without: Rulebook,
  mutation: Mutation,
  base: Base | null,
  failing: ReadonlySet<string>,
): Promise<Fate> {
  const checked = checkRulebook(mutation.sources);
  if (!checked.ok) {
    const [first] = checked.diagnostics;
    return { mutation, foundBy: 'check', by: `${first!.code}: ${first!.message}` };
  }
  const rulebook = placedAs(checked.rulebook, without);
  const choice = chosenTrials(rulebook, null, null);
  const trial = await rolledBackAnew(on, (savepoint) =>
    firstFailing(runTrials(rulebook, choice.trials, new StorePort(savepoint, rulebook)), failing),
  );
  if (trial !== null) return { mutation, foundBy: 'trials', by: trial.trial };
  const invariant = await firstFailing(tryInvariants(rulebook, choice, new StorePort(on, rulebook)), failing);
  if (invariant !== null) return { mutation, foundBy: 'invariants', by: invariant.trial };
  const change = (await base?.change(on, rulebook, mutation.collection)) ?? null;
  return change === null
    ? { mutation, foundBy: 'nobody', by: '' }
    : { mutation, foundBy: 'sweep', by: change };
}

/** The first that fails, and did not without the fault. */
async function firstFailing(
  verdicts: AsyncGenerator<Verdict>,
  failing: ReadonlySet<string>,
): Promise<Verdict | null> {
  for await (const [key, verdict] of keyed(verdicts))
    if (!verdict.passed && !failing.has(key)) return verdict;
  return null;
}

/** An attempt that is thought through with each fault, and how it came out without. */
interface Tried {
  readonly attempt: Attempt;
  readonly collection: string;
  readonly answer: string;
}

/** Everything that a sweep of the rulebook without faults finds, to hold others against. */
class Base {
  readonly #rulebook: Rulebook;
  readonly #counted: readonly Counted[];
  readonly #now: string;
  readonly #counts: ReadonlyMap<string, CollectionCounts>;
  readonly #tried: ReadonlyMap<string, readonly Tried[]>;
  /** The records, which faults leave as they are. */
  readonly #world: LoadedWorld;

  private constructor(
    rulebook: Rulebook,
    counted: readonly Counted[],
    now: string,
    counts: ReadonlyMap<string, CollectionCounts>,
    tried: ReadonlyMap<string, readonly Tried[]>,
    world: LoadedWorld,
  ) {
    this.#rulebook = rulebook;
    this.#counted = counted;
    this.#now = now;
    this.#counts = counts;
    this.#tried = tried;
    this.#world = world;
  }

  static async make(on: Executor, rulebook: Rulebook): Promise<Base> {
    const { counted, now } = await everyone(on, rulebook, null);
    const nameOf = new Map(
      counted.flatMap((each) =>
        each.caller.person === null ? [] : [[each.caller.person.id, each] as const],
      ),
    );
    const world = new LoadedWorld(on, rulebook);
    const counts = new Map<string, CollectionCounts>();
    const tried = new Map<string, Tried[]>();
    for (const name of rulebook.schema.keys()) {
      const each = await countCollection(on, rulebook, now, name, counted);
      counts.set(name, each);
      const collection = collectionOf(rulebook.schema, name);
      for (const one of counted) {
        const ids = each.examples.get(one.name)!;
        await world.fetch(name, ids);
        const found = await world.run(now, (loaded) => {
          const decider = new Decider(rulebook, one.caller, loaded);
          const { attempts } = sampleRecords(decider, one, nameOf, collection, ids, 1);
          return [...attempts, ...withoutValues(attempts, collection)].map((attempt) => ({
            attempt,
            collection: name,
            answer: answerTo(decider, name, attempt),
          }));
        });
        tried.set(one.name, [...(tried.get(one.name) ?? []), ...found]);
      }
    }
    return new Base(rulebook, counted, now, counts, tried, world);
  }

  /** What nobody accepted of one collection, in sentences. */
  static #unaccepted(rulebook: Rulebook, counted: readonly Counted[], counts: CollectionCounts): string[] {
    const ownerless = new Map(counts.ownerless > 0 ? [[counts.collection, counts.ownerless]] : []);
    return findingsOf(rulebook, counted, counts.tallies, ownerless, []).map(({ text }) => text);
  }

  /** The first answer that is another with the fault, in a sentence; null where none is. */
  async change(on: Executor, faulty: Rulebook, faultIn: string | null): Promise<string | null> {
    const { counted } = await everyone(on, faulty, null);
    const touched = faultIn === null ? [...faulty.schema.keys()] : dependents(faulty, faultIn);
    for (const name of touched) {
      const before = this.#counts.get(name)!;
      const after = await countCollection(on, faulty, this.#now, name, counted);
      const map = (counts: CollectionCounts): SweepMap => ({ reach: counts.tallies, creates: [] });
      const [change] = changesOf(map(before), map(after));
      if (change !== undefined) return change.text;
      const known = new Set(Base.#unaccepted(this.#rulebook, this.#counted, before));
      const finding = Base.#unaccepted(faulty, counted, after).find((text) => !known.has(text));
      if (finding !== undefined) return `not accepted: ${finding}`;
    }
    for (const { name, caller } of counted) {
      const change = await this.#world.run(this.#now, (loaded) => {
        const decider = new Decider(faulty, caller, loaded);
        return this.#tried
          .get(name)!
          .find(
            ({ attempt, collection, answer }) =>
              touched.includes(collection) && answerTo(decider, collection, attempt) !== answer,
          );
      });
      if (change !== undefined) {
        const { operation, values, record } = change.attempt;
        const label = collectionOf(faulty.schema, change.collection).label;
        const named =
          record === null || label === null ? '' : ` ${valueWords(record[label] ?? record.id ?? null)}`;
        const fields = [...values.keys()].join(', ');
        return `${name}: another answer to ${operation} ${change.collection}${named}${fields === '' ? '' : ` (${fields})`}`;
      }
    }
    return null;
  }
}

/** The same attempts without what a record must have: only there it shows whether it must. */
function withoutValues(attempts: readonly Attempt[], { fields }: Collection): Attempt[] {
  const required = [...fields.values()].filter((field) => field.required && !field.system);
  return attempts.flatMap((attempt) => {
    const { kind, values } = attempt;
    if (kind !== 'create' && kind !== 'change' && kind !== 'unchanged') return [];
    return required
      .filter(({ name }) => values.has(name))
      .map(({ name }): Attempt => {
        const left = new Map(values);
        if (kind === 'create') left.delete(name);
        else left.set(name, null);
        return { ...attempt, values: left };
      });
  });
}

/** What comes of an attempt: also the record that it would leave behind, for the stamps in it. */
function answerTo(decider: Decider, collection: string, { operation, record, values }: Attempt): string {
  const { allowed, after } = decider.decide({ operation, collection, record, values });
  return JSON.stringify([allowed, allowed ? after : null]);
}

/** The collections whose answers the rules of one have a part in: itself, and all that ask `me may` of it. */
function dependents(rulebook: Rulebook, collection: string): string[] {
  const found = new Set([collection]);
  for (const name of found) {
    for (const { when, collection: asking } of [...rulebook.rules, ...rulebook.fences])
      if (maysOf(when).some((may) => may.collection === name)) found.add(asking);
  }
  // References that are supplied must be readable.
  for (const { name, fields } of rulebook.schema.values())
    for (const { type } of fields.values())
      if (type.kind === 'ref' && type.collection === collection) found.add(name);
  return [...found];
}
