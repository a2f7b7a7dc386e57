import type { Rulebook, Trial } from '../../core/ir/rulebook.ts';
import { chosenTrials, type Choice } from '../../core/trial/choice.ts';
import { runTrials, tryInvariants } from '../../core/trial/run.ts';
import type { Verdict } from '../../core/trial/verdict.ts';
import { PEOPLE } from '../../core/types/schema.ts';
import { passing, type Database, type Executor } from '../connection.ts';
import { holdIdentities, syncIdentities, writingIdentities } from '../publish/index.ts';
import { rolledBack, rolledBackAnew } from '../roll-back.ts';
import { StorePort } from './port.ts';

/** Transactions that share the work; most of the time each waits for the database. */
const WORKERS = 4;

/** How long others wait, at most, that write test identities, too: a publication, say. */
const TURN_MILLISECONDS = 500;

interface Job {
  readonly first: boolean;
  readonly run: (port: StorePort) => AsyncGenerator<Verdict>;
}

export interface Trying {
  /** What each transaction begins with. */
  readonly enter?: (on: Executor) => Promise<void>;
  /** Trials that are tried before all others. */
  readonly isFirst?: (trial: Trial) => boolean;
}

/**
 * Runs trials against the live data as their identities, by the functions that serve real requests, in transactions that
 * are always rolled back; each write in a savepoint that is rolled back at once, so that it holds no lock for longer than
 * it takes. The rulebook may be a draft over the collections of the one in force. Verdicts are told in the order in which they are tried,
 * each with the place that it has in the rulebook's order. Throws where the database goes away: what was told until then is no report.
 */
export async function tryOut(
  database: Database,
  rulebook: Rulebook,
  inForce: Rulebook,
  choice: Choice,
  report: (verdict: Verdict, done: number, total: number, place: number) => void,
  { enter = async () => undefined, isFirst = () => false }: Trying = {},
): Promise<void> {
  const inOrder: Job[] = [
    ...choice.trials.map((trial) => ({
      first: isFirst(trial),
      run: (port: StorePort) => runTrials(rulebook, [trial], port),
    })),
    ...choice.identities.map((identity) => ({
      first: false,
      run: (port: StorePort) => tryInvariants(rulebook, { ...choice, identities: [identity] }, port),
    })),
  ];
  const places = [...inOrder.keys()].sort((a, b) => Number(inOrder[b]!.first) - Number(inOrder[a]!.first));
  const jobs = places.map((place) => inOrder[place]!.run);
  // Identities that are in the database as the rulebook says are left alone: writing them would hold up their writers.
  const others = !sameIdentities(rulebook, inForce);
  const found = new Map<number, Verdict[]>();
  let [next, told] = [0, 0];
  const tell = () => {
    for (; found.has(told); told++)
      for (const verdict of found.get(told)!) report(verdict, told, jobs.length, places[told]!);
  };
  const work = () =>
    rolledBack(rulebook === inForce ? database : passing(database), async (transaction) => {
      if (others) await holdIdentities(transaction);
      await enter(transaction);
      if (others) await syncIdentities(transaction, rulebook);
      const ends = others ? performance.now() + TURN_MILLISECONDS : Infinity;
      while (next < jobs.length && performance.now() < ends) {
        const index = next++;
        const verdicts = await rolledBackAnew(transaction, async (savepoint) => {
          const each: Verdict[] = [];
          const port = new StorePort(savepoint, rulebook);
          for await (const verdict of jobs[index]!(port)) each.push(verdict);
          return each;
        });
        found.set(index, verdicts);
        tell();
      }
    });
  // Whoever writes the same identities waits for it: it is done in turns, by one transaction at a time.
  if (others) {
    while (next < jobs.length) await writingIdentities(database, true, work);
    return;
  }
  const ended = await Promise.allSettled(Array.from({ length: Math.min(WORKERS, jobs.length) }, work));
  const failed = ended.find((each) => each.status === 'rejected');
  if (failed !== undefined) throw failed.reason;
}

/** Are the people behind the test identities written the same way by both? */
export function sameIdentities(one: Rulebook, other: Rulebook): boolean {
  return one === other || identitiesText(one) === identitiesText(other);
}

/** What decides how the people behind the test identities are written. */
function identitiesText({ identities, schema }: Rulebook): string {
  const people = [...schema.get(PEOPLE)!.fields.values()];
  const named = [...identities.values()].map((each) => ({ ...each, fields: [...each.fields] }));
  return JSON.stringify([people, named]);
}

/**
 * The invariants that a test identity meets a record against, each in a sentence; nothing where all hold. For refusing
 * a publication, so it runs in the transaction given.
 */
export async function refutedInvariants(on: Executor, rulebook: Rulebook): Promise<string[]> {
  const refuted: string[] = [];
  for await (const verdict of tryInvariants(
    rulebook,
    chosenTrials(rulebook, null, null),
    new StorePort(on, rulebook),
  )) {
    if (verdict.passed) continue;
    const who = verdict.identity ?? 'the visitor';
    refuted.push(`the invariant “${verdict.trial}” does not hold: ${who} ${verdict.failure!.actual}`);
  }
  return refuted;
}

/** What came of trials, and of those that failed what each found, in a sentence. */
export interface TriedTrials {
  readonly passed: number;
  readonly failed: number;
  readonly failures: readonly string[];
}

/** All trials of a rulebook whose tables and identities are there, in the transaction given; what they do is taken back. */
export async function triedTrials(on: Executor, rulebook: Rulebook): Promise<TriedTrials> {
  let passed = 0;
  const failures: string[] = [];
  for (const trial of rulebook.trials)
    await rolledBack(on, async (savepoint) => {
      for await (const verdict of runTrials(rulebook, [trial], new StorePort(savepoint, rulebook))) {
        if (verdict.passed) passed++;
        else
          failures.push(
            `“${verdict.trial}”: ${verdict.identity ?? 'the visitor'} ${verdict.expectation}, and ${verdict.failure!.actual}`,
          );
      }
    });
  return { passed, failed: failures.length, failures };
}
