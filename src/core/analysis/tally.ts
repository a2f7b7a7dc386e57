import type { Caller } from '../decide/caller.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { Numbered, type Bits } from './bits.ts';
import { Outcomes, type Reached } from './outcomes.ts';

/** Somebody whose reach is counted. */
export interface Counted {
  /** As in the rulebook; `visitor` for the visitor. */
  readonly name: string;
  readonly caller: Caller;
}

/** How one collection is counted for many callers: which conditions to ask of every record, and which for whom. */
export interface CountingPlan {
  readonly collection: string;
  /** The same for everybody: asked of all records, once. */
  readonly common: readonly Condition[];
  readonly callers: readonly CallerPlan[];
}

export interface CallerPlan extends Counted {
  /** Those that speak of this caller. A record for which none is true is answered by the common ones alone. */
  readonly own: readonly Condition[];
  /** Those that speak of no record: asked once. */
  readonly facts: readonly Condition[];
  /** What the truth of all these, as texts of 0 and 1, comes to. */
  readonly decide: (bits: Bits) => Reached;
}

/**
 * Makes the plan. Cost: each request that is thought through once for each caller; nothing is asked of any record yet.
 * `unchanged`: does a value sent as it is count as an update?
 */
export function planCounting(
  rulebook: Rulebook,
  now: string,
  collection: string,
  counted: readonly Counted[],
  { unchanged = false } = {},
): CountingPlan {
  const common = new Numbered();
  const callers = counted.map(({ name, caller }): CallerPlan => {
    const outcomes = new Outcomes(rulebook, collection, caller, now, common, { unchanged });
    const { own, facts } = outcomes.asking;
    return {
      name,
      caller,
      own: own.conditions,
      facts: facts.conditions,
      decide: memoized((bits) => outcomes.reached(bits)),
    };
  });
  return { collection, common: common.conditions, callers };
}

function memoized(decide: CallerPlan['decide']): CallerPlan['decide'] {
  const known = new Map<string, Reached>();
  return (bits) => {
    const key = `${bits.common} ${bits.own} ${bits.facts}`;
    let reached = known.get(key);
    if (reached === undefined) known.set(key, (reached = decide(bits)));
    return reached;
  };
}

/** Whose a record is, seen from a caller. `same group`: an owner who holds a role that the caller holds, too. */
export type Relation = 'own' | 'same group' | 'another’s' | 'nobody’s';

/** Records that are alike for everything that is counted. */
export interface Class {
  /** For each path of `owned by`: a person whose reach is counted, by id; `*` for somebody else; null for nobody. */
  readonly owners: readonly (string | null)[];
  readonly common: string;
  readonly own: string;
  readonly count: number;
  /** One or two of the records, by id. */
  readonly examples: readonly string[];
}

/** What one caller reaches of the records of one owner. */
export interface Tally {
  readonly collection: string;
  readonly caller: string;
  /** The name of the owner: one that is counted, `*` for everybody else, null for nobody. */
  readonly owner: string | null;
  readonly relation: Relation;
  /** Records there are of this owner. */
  readonly total: number;
  /** Operation → records on which it is allowed (update: of any field). */
  readonly records: Record<string, number>;
  /** What `Reached.undecided` names → records for which it could not be decided. */
  readonly undecided: Record<string, number>;
  /** `delete`, or `update FIELD` → records to which that happens when the caller deletes others. */
  readonly follows: Record<string, number>;
  /** Operation → field → records. Of read and update. */
  readonly fields: { readonly read: Record<string, number>; readonly update: Record<string, number> };
  /** Operation → the rules that let them. */
  readonly through: Record<string, string[]>;
}

/** Records that are alike for one caller, with what that caller may do with them. */
export interface ReachedClass {
  readonly owners: Class['owners'];
  readonly reached: Reached;
  readonly count: number;
}

/**
 * What a caller reaches, class by class. `all`: every record by the common conditions alone; `touched`: those for which any
 * of the caller's own conditions is true. The latter are in the former, too, so they are taken off there.
 */
export function reachedClasses(
  caller: CallerPlan,
  facts: string,
  all: readonly Class[],
  touched: readonly Class[],
): ReachedClass[] {
  const none = '0'.repeat(caller.own.length);
  const counts = new Map<string, Class & { count: number }>();
  const add = (each: Class, own: string, sign: 1 | -1) => {
    const key = JSON.stringify([each.owners, each.common, own]);
    const known = counts.get(key);
    counts.set(key, { ...each, own, count: (known?.count ?? 0) + sign * each.count });
  };
  for (const each of all) add(each, none, 1);
  for (const each of touched) {
    add(each, none, -1);
    add(each, each.own, 1);
  }
  return [...counts.values()]
    .filter(({ count }) => count > 0)
    .map(({ owners, common, own, count }) => ({
      owners,
      reached: caller.decide({ common, own, facts }),
      count,
    }));
}

/** Adds up classes, by owner. */
export function tallyCaller(
  collection: string,
  caller: Counted,
  classes: readonly ReachedClass[],
  nameOf: ReadonlyMap<string, Counted>,
): Tally[] {
  const tallies = new Map<string, Tally & { total: number }>();
  for (const { owners, reached, count } of classes) {
    const { owner, relation } = whose(owners, caller, nameOf);
    const key = JSON.stringify(owner);
    const tally = tallies.get(key) ?? {
      collection,
      caller: caller.name,
      owner,
      relation,
      total: 0,
      records: {},
      undecided: {},
      follows: {},
      fields: { read: {}, update: {} },
      through: {},
    };
    tallies.set(key, tally);
    tally.total += count;
    addReached(tally, reached, count);
  }
  return [...tallies.values()];
}

function addReached(tally: Tally, reached: Reached, count: number): void {
  const add = (to: Record<string, number>, name: string) => (to[name] = (to[name] ?? 0) + count);
  for (const what of reached.follows) add(tally.follows, what);
  for (const what of reached.undecided) add(tally.undecided, what);
  if (!reached.read) return;
  add(tally.records, 'read');
  if (reached.updatable.length > 0) add(tally.records, 'update');
  if (reached.delete) add(tally.records, 'delete');
  if (reached.share) add(tally.records, 'share');
  for (const action of reached.actions) add(tally.records, action);
  for (const field of reached.shown) add(tally.fields.read, field);
  for (const field of reached.updatable) add(tally.fields.update, field);
  for (const [operation, rules] of reached.through)
    tally.through[operation] = [...new Set([...(tally.through[operation] ?? []), ...rules])].toSorted();
}

/** Whose records they are, as the caller sees it; of several owners the nearest counts. */
export function whose(
  owners: readonly (string | null)[],
  { name, caller }: Counted,
  nameOf: ReadonlyMap<string, Counted>,
): { readonly owner: string | null; readonly relation: Relation } {
  const present = owners.filter((each) => each !== null);
  if (caller.person !== null && present.includes(caller.person.id)) return { owner: name, relation: 'own' };
  const named = present.flatMap((id) => nameOf.get(id) ?? []);
  const peer = named.find((each) => [...each.caller.roles].some((role) => caller.roles.has(role)));
  if (peer !== undefined) return { owner: peer.name, relation: 'same group' };
  if (named[0] !== undefined) return { owner: named[0].name, relation: 'another’s' };
  return present.length > 0 ? { owner: '*', relation: 'another’s' } : { owner: null, relation: 'nobody’s' };
}
