import { collectionsRead, type Condition, type Operand } from '../ir/conditions.ts';
import { conditionSql, type Surroundings } from './conditions.ts';
import { allOf, anyOf, keyOf, sql, type Fragment } from './fragment.ts';

/**
 * A condition as grounds, one of which must hold, and each of those as parts, all of which must. Rules say the same again and again, and
 * PostgreSQL does not see that one ground is implied by another, nor that a row which was found by a condition meets it. Null counts as no.
 */
export type Grounds = readonly Ground[];
export type Ground = readonly Part[];

/** By its text and values: what is the same in both is the same. */
export interface Part {
  readonly asked: Fragment;
  readonly key: string;
  /** Where one of several is worth to be worked out once for a row: it looks at the row alone, and takes longer than to look it up. */
  readonly isWorthIt: boolean;
}

/** Grounds that are compared with each other at most. */
const MOST_COMPARED = 100;

export const asksNothing: Grounds = [[]];
export const never: Grounds = [];

export function only(asked: Fragment, isWorthIt = false): Grounds {
  return [[{ asked, key: keyOf(asked), isWorthIt }]];
}

/** The grounds of a condition of a rule. */
export function groundsOf(condition: Condition, around: Surroundings): Grounds {
  const isSet = (around.asSet?.(condition, around) ?? null) !== null;
  if (!isSet) {
    const of = (each: readonly Condition[]) => each.map((part) => groundsOf(part, around));
    if (condition.kind === 'or') return either(of(condition.operands));
    if (condition.kind === 'and') return both(of(condition.operands));
    if (condition.kind === 'constant') return condition.value ? asksNothing : never;
    if (condition.kind === 'has role') return around.hasRole(condition.role) ? asksNothing : never;
  }
  const isWorthIt = !isQuick(condition) && collectionsRead(condition).size === 0;
  return only(conditionSql(condition, around), isWorthIt);
}

/** A comparison of what is at hand takes no longer than to look up what came of it. */
function isQuick(condition: Condition): boolean {
  const isAtHand = ({ kind }: Operand) => kind !== 'lower' && kind !== 'length' && kind !== 'shift';
  const { kind } = condition;
  if (kind === 'equal' || kind === 'less' || kind === 'at most')
    return isAtHand(condition.left) && isAtHand(condition.right);
  if (kind === 'among' || kind === 'missing' || kind === 'holds') return isAtHand(condition.operand);
  return kind === 'not' && isQuick(condition.operand);
}

/** One of them must hold. What follows from another ground is left out: where A is enough, A and B is, too. */
export function either(all: readonly Grounds[]): Grounds {
  const grounds = all.flat();
  if (grounds.length > MOST_COMPARED) return grounds;
  const keys = grounds.map(keysOf);
  const follows = (at: number) =>
    keys.some((other, from) => {
      const own = keys[at]!;
      // Of those that say the same the first stays.
      const isFirst = other.size < own.size || (other.size === own.size && from < at);
      return isFirst && [...other].every((key) => own.has(key));
    });
  return grounds.filter((_, at) => !follows(at));
}

/** All of them must hold. A choice among several is a part by itself: nothing is multiplied out. */
export function both(all: readonly Grounds[]): Grounds {
  const parts = new Map<string, Part>();
  for (const grounds of all) {
    if (grounds.length === 0) return never;
    const [ground] =
      grounds.length === 1 ? grounds : isTrue(grounds) ? asksNothing : only(groundsSql(grounds));
    for (const part of ground!) parts.set(part.key, part);
  }
  return [[...parts.values()]];
}

/** What is left to ask where parts are known to hold, by their keys. */
export function beyond(grounds: Grounds, known: ReadonlySet<string>): Grounds {
  return either([grounds.map((ground) => ground.filter(({ key }) => !known.has(key)))]);
}

/** The keys of the parts that hold whichever ground does. */
export function inEach(grounds: Grounds): ReadonlySet<string> {
  const [first = new Set<string>(), ...others] = grounds.map(keysOf);
  return new Set([...first].filter((key) => others.every((other) => other.has(key))));
}

/** Does one of them ask nothing? */
export function isTrue(grounds: Grounds): boolean {
  return grounds.some((ground) => ground.length === 0);
}

export function groundsSql(grounds: Grounds): Fragment {
  if (isTrue(grounds)) return sql`true`;
  const [first] = grounds;
  if (grounds.length === 1 && first!.length === 1) return first![0]!.asked;
  return anyOf(grounds.map((ground) => allOf(ground.map(({ asked }) => asked))));
}

function keysOf(ground: Ground): ReadonlySet<string> {
  return new Set(ground.map(({ key }) => key));
}
