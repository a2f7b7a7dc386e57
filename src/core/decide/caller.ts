import { pairKey, type Audience, type Operation, type Rulebook } from '../ir/rulebook.ts';
import type { Value } from '../types/types.ts';
import type { Shareable } from './nodes.ts';
import { remembered } from './remembered.ts';

/** The values of one record by field; a field that is not there counts as missing. */
export type RecordValues = Readonly<Record<string, Value>>;

/** Who asks: a person with the roles held at this moment, or a visitor (`person` is null). */
export interface Caller {
  /**
   * The values are what conditions read through `me`: the person's fields (`email` only where it is verified) and all
   * attributes.
   */
  readonly person: { readonly id: string; readonly values: RecordValues } | null;
  /**
   * Given by hand or by their own condition; what these include is asked for with `rolesFor`. Always empty for a
   * visitor. Roles that the rulebook does not know count for nothing.
   */
  readonly roles: ReadonlySet<string>;
  /** No test identity, but somebody of the application, or a visitor: test identities are not there for them. */
  readonly ofTheApplication?: boolean;
  /** What others share with them: see `shares.ts`. */
  readonly shared?: readonly Sharing[];
}

/**
 * What settles which sentences speak of a caller, and so all that may be kept for others of the same: everything but their own values,
 * and but what is shared with them, which is theirs alone.
 */
export function standingOf(caller: Caller): string {
  return remembered(standings, caller, () => {
    const { person, roles, ofTheApplication } = caller;
    const who = ofTheApplication === true ? 'of the application' : 'anybody';
    return person === null ? who : [who, 'person', ...[...roles].toSorted()].join(' ');
  });
}

const standings = new WeakMap<Caller, string>();

/** Do the same sentences speak of both? What is shared with somebody is theirs alone. */
export function hasSameStanding(one: Caller, other: Caller): boolean {
  if (one.shared !== undefined || other.shared !== undefined) return false;
  return one.roles === other.roles
    ? one.ofTheApplication === other.ofTheApplication && (one.person === null) === (other.person === null)
    : standingOf(one) === standingOf(other);
}

/** Records of one collection that one person shares with the caller for one operation at this moment. */
export interface Sharing {
  readonly collection: string;
  readonly operation: Shareable;
  /** Whoever shares them, without what others share with them: nothing can be passed on that was itself shared. */
  readonly sharer: Caller;
  /** Their ids; null: they are too many to be named. */
  readonly records: readonly string[] | null;
  /** The database is asked of them, where that is shorter than naming them, or where they are not named: only SQL can. */
  readonly inDatabase?: boolean;
}

/** The caller without what others share with them: what they have by themselves. */
export function byThemself({ shared: _, ...alone }: Caller): Caller {
  return alone;
}

/** How somebody is called in sentences: by address, where they have one that is verified, and otherwise by id. */
export function callerName({ person }: Pick<Caller, 'person'>): string {
  if (person === null) return 'the visitor';
  const { email } = person.values;
  return typeof email === 'string' ? email : person.id;
}

/** The roles that count for one operation on one collection: those held, and what they bring along for it. */
export function rolesFor(
  rulebook: Pick<Rulebook, 'roles'>,
  caller: Caller,
  operation: Operation,
  collection: string,
): ReadonlySet<string> {
  // Asked for each sentence, and the same as long as the caller is.
  let known = counting.get(caller.roles);
  if (known?.of !== rulebook.roles)
    counting.set(caller.roles, (known = { of: rulebook.roles, pairs: new Map() }));
  const pair = pairKey(operation, collection);
  return remembered(known.pairs, pair, () => rolesCounting(rulebook, caller, pair));
}

const counting = new WeakMap<
  ReadonlySet<string>,
  { readonly of: Rulebook['roles']; readonly pairs: Map<string, ReadonlySet<string>> }
>();

function rolesCounting(rulebook: Pick<Rulebook, 'roles'>, caller: Caller, pair: string): Set<string> {
  const held = new Set<string>();
  for (const name of caller.roles) {
    for (const [role, pairs] of rulebook.roles.get(name)?.includes ?? []) {
      if (pairs === 'all' || pairs.has(pair)) held.add(role);
    }
  }
  return held;
}

/** The roles that a caller holds for everything, in order of their names: those held, and what they bring along whole. */
export function rolesHeld(rulebook: Pick<Rulebook, 'roles'>, caller: Caller): string[] {
  const held = new Set<string>();
  for (const name of caller.roles) {
    for (const [role, pairs] of rulebook.roles.get(name)?.includes ?? []) if (pairs === 'all') held.add(role);
  }
  return [...held].toSorted();
}

/** Does a rule for this audience speak of the caller, who holds these roles? Rules for visitors are not for people. */
export function speaksOf(audience: Audience, caller: Caller, roles: ReadonlySet<string>): boolean {
  if (audience.everybody) return true;
  if (caller.person === null) return audience.visitors;
  if (audience.people) return true;
  for (const role of roles) if (audience.roles.has(role)) return true;
  return false;
}
