import type { Caller } from '../evaluate/caller.ts';
import {
  actionGrants,
  allowsWhole,
  allowsSupplied,
  grantsFor,
  promotesItself,
  recordFences,
  shownFields,
  type Asked,
  type Grants,
  type Holds,
} from '../evaluate/combine.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Action, Rulebook } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import { groundsOf, speaksOfCaller } from './grounds.ts';

/** What a caller may do with a record as it is: by field where there are such, each with the rules that let them. */
export interface Reached {
  readonly read: boolean;
  readonly delete: boolean;
  readonly shown: readonly string[];
  readonly updatable: readonly string[];
  readonly actions: readonly string[];
  /** Operation → the rules that are true for it. */
  readonly through: ReadonlyMap<string, readonly string[]>;
}

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
  /** What the truth of the common conditions and of the own ones, as texts of 0 and 1, comes to. */
  readonly decide: (common: string, own: string) => Reached;
}

/** A condition of a rule or fence, as where its grounds are found. */
type Place = { readonly common: number } | { readonly own: number };

/** Makes the plan. Cost: each rule once for each caller; nothing is asked of any record yet. */
export function planCounting(
  rulebook: Rulebook,
  collection: string,
  counted: readonly Counted[],
): CountingPlan {
  const common = new Numbered();
  const callers = counted.map(({ name, caller }) => planCaller(rulebook, collection, name, caller, common));
  return { collection, common: common.conditions, callers };
}

class Numbered {
  readonly conditions: Condition[] = [];
  readonly #numbers = new Map<string, number>();

  number(condition: Condition): number {
    const key = JSON.stringify(condition);
    const known = this.#numbers.get(key);
    if (known !== undefined) return known;
    this.#numbers.set(key, this.conditions.length);
    return this.conditions.push(condition) - 1;
  }
}

function planCaller(
  rulebook: Rulebook,
  collection: string,
  name: string,
  caller: Caller,
  common: Numbered,
): CallerPlan {
  const own = new Numbered();
  const deciding = new Deciding(rulebook, collection, caller);
  const places = new Map<Grants, ReadonlyMap<Asked, readonly Place[]>>();
  for (const grants of deciding.everyGrants) {
    const grounds = [...grants.rules, ...grants.fences].map((asked): [Asked, Place[]] => [
      asked,
      groundsOf(rulebook, caller, asked.when, grants.roles).map((ground) =>
        speaksOfCaller(ground) ? { own: own.number(ground) } : { common: common.number(ground) },
      ),
    ]);
    places.set(grants, new Map(grounds));
  }
  const isMe = deciding.promoting.length === 0 ? null : own.number(itself);
  const decide = memoized((commonBits, ownBits) =>
    deciding.reached(
      (grants) => (asked) =>
        places
          .get(grants)!
          .get(asked)!
          .some((place) => ('own' in place ? ownBits[place.own] : commonBits[place.common]) === '1'),
      isMe !== null && ownBits[isMe] === '1',
    ),
  );
  return { name, caller, own: own.conditions, decide };
}

/** All that decides what one caller may do with the records of one collection, as they are. */
export class Deciding {
  /** On their own record people may not change what decides about them: these fields. */
  readonly promoting: readonly string[];
  readonly everyGrants: readonly Grants[];
  readonly #fields: readonly string[];
  readonly #suppliable: readonly string[];
  readonly #reading: Grants;
  readonly #updating: Grants;
  readonly #deleting: Grants;
  readonly #actions: readonly { readonly action: Action; readonly own: Grants; readonly updating: Grants }[];

  constructor(rulebook: Rulebook, collection: string, caller: Caller) {
    const fields = [...collectionOf(rulebook.schema, collection).fields.values()];
    this.#fields = fields.map((field) => field.name);
    this.#suppliable = fields.filter((field) => !field.system).map((field) => field.name);
    const me = caller.person?.id ?? null;
    this.promoting = me === null ? [] : promotesItself(rulebook, caller, collection, me, this.#suppliable);
    this.#reading = grantsFor(rulebook, caller, collection, 'read');
    this.#updating = grantsFor(rulebook, caller, collection, 'update');
    this.#deleting = grantsFor(rulebook, caller, collection, 'delete');
    this.#actions = [...rulebook.actions.values()]
      .filter((action) => action.collection === collection)
      .map((action) => ({ action, ...actionGrants(rulebook, caller, action) }));
    this.everyGrants = [
      this.#reading,
      this.#updating,
      this.#deleting,
      ...this.#actions.flatMap(({ own, updating }) => [own, updating]),
    ];
  }

  /** What is allowed on one record. `isMe`: it is the caller’s own entry among people. */
  reached(holding: (grants: Grants) => Holds, isMe: boolean): Reached {
    const holds = holding(this.#reading);
    const shown = shownFields(this.#reading, this.#fields, holds);
    if (shown === null) return nothing;
    const holdsUpdate = holding(this.#updating);
    const barred = isMe ? this.promoting : [];
    const updatable = this.#suppliable.filter(
      (field) =>
        !barred.includes(field) && allowsSupplied(this.#updating, 'update', [field], holdsUpdate).allowed,
    );
    const holdsDelete = holding(this.#deleting);
    const mayDelete = allowsWhole(this.#deleting, 'delete', holdsDelete);
    const actions = this.#actions.filter(({ action, own, updating }) => {
      const chosen = [...action.sets].filter(([, set]) => set.kind === 'parameter').map(([field]) => field);
      const holdsAction = holding(own);
      return (
        !chosen.some((field) => barred.includes(field)) &&
        own.rules.some(holdsAction) &&
        recordFences(own, action.name).every(holdsAction) &&
        updating.fences.every(holding(updating))
      );
    });
    const through = new Map<string, readonly string[]>([
      ['read', trueRules(this.#reading, holds)],
      ...(updatable.length > 0 ? [['update', trueRules(this.#updating, holdsUpdate)] as const] : []),
      ...(mayDelete ? [['delete', trueRules(this.#deleting, holdsDelete)] as const] : []),
      ...actions.map(({ action, own }) => [action.name, trueRules(own, holding(own))] as const),
    ]);
    return {
      read: true,
      delete: mayDelete,
      shown: [...shown],
      updatable,
      actions: actions.map(({ action }) => action.name),
      through,
    };
  }
}

function trueRules({ rules }: Grants, holds: Holds): string[] {
  return rules.filter(holds).map((rule) => rule.id);
}

const itself: Condition = {
  kind: 'equal',
  left: {
    kind: 'path',
    root: 'record',
    steps: [{ collection: PEOPLE, field: 'id' }],
    type: { kind: 'ref', collection: PEOPLE },
  },
  right: {
    kind: 'path',
    root: 'me',
    steps: [{ collection: PEOPLE, field: 'id' }],
    type: { kind: 'ref', collection: PEOPLE },
  },
};

const nothing: Reached = {
  read: false,
  delete: false,
  shown: [],
  updatable: [],
  actions: [],
  through: new Map(),
};

function memoized(decide: CallerPlan['decide']): CallerPlan['decide'] {
  const known = new Map<string, Reached>();
  return (common, own) => {
    const key = `${common} ${own}`;
    let reached = known.get(key);
    if (reached === undefined) known.set(key, (reached = decide(common, own)));
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
    .map(({ owners, common, own, count }) => ({ owners, reached: caller.decide(common, own), count }));
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
  if (!reached.read) return;
  add(tally.records, 'read');
  if (reached.updatable.length > 0) add(tally.records, 'update');
  if (reached.delete) add(tally.records, 'delete');
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
