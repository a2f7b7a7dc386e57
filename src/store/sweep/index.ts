import type { Counted } from '../../core/analysis/tally.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { arrive } from '../callers.ts';
import { roomForSets } from '../../core/sql/counting.ts';
import { sql } from '../../core/sql/fragment.ts';
import { relation } from '../../core/sql/relations.ts';
import { passing, run, type Database, type Executor } from '../connection.ts';
import { holdIdentities, syncIdentities, writingIdentities } from '../publish/index.ts';
import { rolledBack } from '../roll-back.ts';
import { sameIdentities } from '../trials/index.ts';
import { LoadedWorld, TooMuchToLoad } from '../world.ts';
import { compareCounts, compareWithDatabase, reachedByClosures, type Difference } from './compare.ts';
import { countCollection, type CollectionCounts } from './counts.ts';

export interface SweepOptions {
  /** Test identities and `visitor` to be swept; null: all. */
  readonly identities: readonly string[] | null;
  readonly collections: readonly string[] | null;
  /** Collections of at most so many records are compared record by record; of larger ones, records that stand for all. */
  readonly everyRecord: number;
  readonly progress: (progress: { done: number; total: number; doing: string }) => void;
}

export interface DatabaseSweep {
  readonly counted: readonly Counted[];
  /** Identities that may not sign in: nobody reaches anything as them. */
  readonly signedOut: readonly string[];
  readonly counts: readonly CollectionCounts[];
  /** Records without an owner, by collection, where there are any. */
  readonly ownerless: ReadonlyMap<string, number>;
  readonly differences: readonly Difference[];
  /** Cells that closures and database were compared on. */
  readonly cells: number;
  /** What could not be covered, in sentences; empty where all was. */
  readonly left: readonly string[];
}

/**
 * Sweeps a rulebook over the records that there are: what every identity reaches, counted set-wise, and compared with
 * what the closures say. One snapshot, taken back at the end.
 */
export async function sweepDatabase(
  database: Database,
  rulebook: Rulebook,
  inForce: Rulebook,
  options: SweepOptions,
  enter: (on: Executor) => Promise<void> = async () => undefined,
): Promise<DatabaseSweep> {
  const others = !sameIdentities(rulebook, inForce);
  const work = () =>
    rolledBack(
      rulebook === inForce ? database : passing(database),
      async (on) => {
        await run(on, sql`set local statement_timeout = '5min'`);
        await run(on, roomForSets);
        if (others) await holdIdentities(on);
        await enter(on);
        if (others) await syncIdentities(on, rulebook);
        const { counted, signedOut, now } = await everyone(on, rulebook, options.identities);
        const collections = [...rulebook.schema.keys()].filter(
          (name) => options.collections === null || options.collections.includes(name),
        );
        const total = collections.length * (counted.length + 1);
        let done = 0;
        const counts: CollectionCounts[] = [];
        const differences: Difference[] = [];
        const left: string[] = [];
        let cells = 0;
        for (const collection of collections) {
          options.progress({ done: done++, total, doing: `counting ${collection}` });
          const each = await countCollection(on, rulebook, now, collection, counted);
          const all = each.total <= options.everyRecord ? await everyId(on, rulebook, collection) : null;
          counts.push(all === null ? each : withAll(each, all));
          if (each.total === 0) left.push(`${collection} has no records: nothing was asked of any`);
          const world = new LoadedWorld(on, rulebook);
          for (const one of counted) {
            options.progress({ done: done++, total, doing: `${collection} as ${one.name}` });
            const ids = all ?? each.examples.get(one.name)!;
            try {
              const reached = await reachedByClosures(world, rulebook, now, one, collection, ids);
              const compared = await compareWithDatabase(on, rulebook, now, one, collection, reached);
              differences.push(...compared.differences);
              cells += compared.cells;
              if (all !== null) differences.push(...compareCounts(one, collection, each.tallies, reached));
            } catch (error) {
              if (!(error instanceof TooMuchToLoad)) throw error;
              left.push(`${collection} as ${one.name}: the closures were not asked, as ${error.message}`);
            }
          }
        }
        const ownerless = new Map(
          counts.filter((each) => each.ownerless > 0).map((each) => [each.collection, each.ownerless]),
        );
        return { counted, signedOut, counts, ownerless, differences, cells, left };
      },
      { isolationLevel: 'repeatable read' },
    );
  return writingIdentities(database, others, work);
}

/** Records that stand for others first, and then all others. */
function withAll(counts: CollectionCounts, all: readonly string[]): CollectionCounts {
  const examples = [...counts.examples].map(([name, ids]) => [name, [...new Set([...ids, ...all])]] as const);
  return { ...counts, examples: new Map(examples) };
}

/** Whoever is swept, as they are known at this moment. */
export async function everyone(
  on: Executor,
  rulebook: Rulebook,
  chosen: readonly string[] | null,
): Promise<{ readonly counted: Counted[]; readonly signedOut: string[]; readonly now: string }> {
  const counted: Counted[] = [];
  const signedOut: string[] = [];
  for (const name of rulebook.identities.keys()) {
    if (chosen !== null && !chosen.includes(name)) continue;
    const arrival = await arrive(on, rulebook, { kind: 'test identity', name }, { toEvaluate: true });
    if (arrival === null) signedOut.push(name);
    else counted.push({ name, caller: arrival.caller });
  }
  const visitor = (await arrive(on, rulebook, { kind: 'visitor' }, { toEvaluate: true }))!;
  if (chosen === null || chosen.includes('visitor'))
    counted.push({ name: 'visitor', caller: visitor.caller });
  return { counted, signedOut, now: visitor.now };
}

async function everyId(on: Executor, rulebook: Rulebook, collection: string): Promise<string[]> {
  return (
    await run<{ id: string }>(
      on,
      sql`select id from ${relation(rulebook.schema, collection)} as r order by id`,
    )
  ).map((row) => row.id);
}
