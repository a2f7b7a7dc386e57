import type { Condition } from '../../core/ir/conditions.ts';
import {
  planCounting,
  reachedClasses,
  tallyCaller,
  type CallerPlan,
  type Class,
  type Counted,
  type ReachedClass,
  type Tally,
} from '../../core/analysis/tally.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { classesSql, factsSql } from '../../core/sql/counting.ts';
import { run, type Executor } from '../connection.ts';

/** How one collection is reached by everybody who is counted. */
export interface CollectionCounts {
  readonly collection: string;
  readonly total: number;
  /** Records without an owner; all of them where the rulebook names no owner. */
  readonly ownerless: number;
  readonly tallies: readonly Tally[];
  /** By caller. */
  readonly classes: ReadonlyMap<string, readonly ReachedClass[]>;
  /** For each caller: records that stand for all others that are alike for them. */
  readonly examples: ReadonlyMap<string, readonly string[]>;
}

/** Examples that one caller’s answers are compared on, past those that only their own conditions find. */
const MOST_EXAMPLES = 40;

/**
 * Counts what each caller reaches of a collection. Cost: one pass over the collection for what is the same for all, and
 * for each caller the records that their own conditions find.
 */
export async function countCollection(
  on: Executor,
  rulebook: Rulebook,
  now: string,
  collection: string,
  counted: readonly Counted[],
): Promise<CollectionCounts> {
  const plan = planCounting(rulebook, now, collection, counted);
  const people = counted.flatMap(({ caller }) => caller.person?.id ?? []);
  const nameOf = new Map(
    counted.flatMap((each) => (each.caller.person === null ? [] : [[each.caller.person.id, each] as const])),
  );
  const classify = async (each: Counted, own: readonly Condition[], touching: boolean): Promise<Class[]> => {
    const access = new Access(rulebook, each.caller, now);
    const rows = await run<ClassRow>(on, classesSql(access, collection, people, plan.common, own, touching));
    return rows.map(readClass);
  };
  const visitor: Counted = { name: 'visitor', caller: { person: null, roles: new Set() } };
  const all = await classify(visitor, [], false);
  const tallies: Tally[] = [];
  const examples = new Map<string, readonly string[]>();
  const classes = new Map<string, readonly ReachedClass[]>();
  for (const caller of plan.callers) {
    const touched = caller.own.length === 0 ? [] : await classify(caller, caller.own, true);
    const reached = reachedClasses(caller, await factsOf(on, rulebook, now, caller), all, touched);
    classes.set(caller.name, reached);
    tallies.push(...tallyCaller(collection, caller, reached, nameOf));
    const chosen = [
      ...touched.flatMap((each) => each.examples),
      ...spread(all.flatMap((each) => each.examples)),
    ];
    examples.set(caller.name, [...new Set(chosen)]);
  }
  const count = (some: readonly Class[]) => some.reduce((sum, each) => sum + each.count, 0);
  return {
    collection,
    total: count(all),
    ownerless: count(all.filter((each) => each.owners.every((owner) => owner === null))),
    tallies,
    classes,
    examples,
  };
}

/** What is true of no record in particular, for this caller. */
export async function factsOf(
  on: Executor,
  rulebook: Rulebook,
  now: string,
  { caller, facts }: CallerPlan,
): Promise<string> {
  if (facts.length === 0) return '';
  const [row] = await run<{ facts: string }>(on, factsSql(new Access(rulebook, caller, now), facts));
  return row!.facts;
}

/** Some of many, from everywhere among them. */
function spread(ids: readonly string[]): readonly string[] {
  const step = Math.max(1, Math.ceil(ids.length / MOST_EXAMPLES));
  return ids.filter((_, index) => index % step === 0);
}

type ClassRow = { common: string; own: string; count: number; examples: string[] } & Record<
  `owner_${number}`,
  string | null
>;

function readClass(row: ClassRow): Class {
  const owners: (string | null)[] = [];
  for (let index = 0; `owner_${index}` in row; index++) owners.push(row[`owner_${index}`] ?? null);
  return { owners, common: row.common, own: row.own, count: row.count, examples: [...new Set(row.examples)] };
}
