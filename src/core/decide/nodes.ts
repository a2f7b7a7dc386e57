import type { Condition } from '../ir/conditions.ts';
import type { Audience, Fence, Operation, Rule } from '../ir/rulebook.ts';

/**
 * What decides an operation, as one formula. It knows neither records nor closures nor SQL: everything that decides,
 * counts, explains or proves is an interpreter of it, by a table over its kinds, so that a new kind does not compile
 * until each of them knows it.
 *
 * Parts are frozen and shared: that two formulas hold the same part is told by its identity. Nothing negates, so a
 * formula that is true stays true when any part of it becomes true.
 */
export type Node =
  | All
  | Any
  /** Does the sentence speak of the caller, with the roles that count for the pair? */
  | { readonly kind: 'speaks'; readonly audience: Audience; readonly pair: Pair }
  /** Does the caller hold one of the roles, for the pair? */
  | { readonly kind: 'exempts'; readonly roles: ReadonlySet<string>; readonly pair: Pair }
  | TrueOf
  /**
   * May the record, as it is, be read at all? A reference to another formula, never a copy of it: chains are long. `themself`: without
   * what others share with them.
   */
  | {
      readonly kind: 'permitted';
      readonly pair: Pair & { readonly operation: 'read' };
      readonly side: 'before';
      readonly by: 'caller' | 'themself';
    }
  /** Does the reference that this field (or parameter) is given point at a record that the caller may read? */
  | { readonly kind: 'reference readable'; readonly field: string }
  /** It is not the caller's own entry among people. */
  | { readonly kind: 'not own record' }
  /** Somebody who may shares the record for this with the caller. */
  | { readonly kind: 'shared'; readonly operation: Shareable };

/** Every part must hold; none at all holds. */
export interface All {
  readonly kind: 'all';
  readonly parts: readonly Node[];
  readonly reason: Reason;
}

/** One part must hold; none at all does not: closed by default. */
export interface Any {
  readonly kind: 'any';
  readonly parts: readonly Node[];
  readonly reason: Reason;
}

/** The condition of a sentence is exactly true, on the sides that count. Unknown is no. */
export interface TrueOf {
  readonly kind: 'true of';
  readonly sentence: Rule | Fence;
  readonly when: Condition;
  readonly sides: Sides;
  /** What `me has role` in it asks for. */
  readonly pair: Pair;
}

/** An operation on a collection. */
export interface Pair {
  readonly operation: Operation;
  readonly collection: string;
}

/** The record as it is, and as it would become. */
export type Side = 'before' | 'after';
export type Sides = Side | 'both';

/** What a part of the formula is there for. */
export type Reason = 'the whole' | 'granted' | 'fences' | 'a rule' | 'a fence' | 'a field';

/** What may be shared: an operation on a record that is there, without parameters. */
export const shareable = ['read', 'update', 'delete'] as const;
export type Shareable = (typeof shareable)[number];

/** One answer for each kind of node. */
export type NodeTable<T> = { readonly [K in Node['kind']]: (node: Node & { readonly kind: K }) => T };

/** Looks the kind up in the table. */
export function interpret<T>(node: Node, table: NodeTable<T>): T {
  return (table[node.kind] as (node: Node) => T)(node);
}

export function all(parts: readonly Node[], reason: Reason): Node {
  if (parts.length === 1) return parts[0]!;
  return Object.freeze({ kind: 'all', parts: Object.freeze(parts), reason });
}

export function any(parts: readonly Node[], reason: Reason): Node {
  if (parts.length === 1) return parts[0]!;
  return Object.freeze({ kind: 'any', parts: Object.freeze(parts), reason });
}

/** What holds for everybody, and what for nobody. */
export const holdsAlways: Node = Object.freeze({ kind: 'all', parts: [], reason: 'the whole' });
export const holdsNever: Node = Object.freeze({ kind: 'any', parts: [], reason: 'the whole' });

/** What an interpreter that decides must know of the parts that a known caller's formula is left with. */
export interface Truths {
  readonly trueOf: (leaf: TrueOf) => boolean;
  readonly permitted: (node: Node & { kind: 'permitted' }) => boolean;
  readonly referenceReadable: (field: string) => boolean;
  readonly isOwnRecord: () => boolean;
}

/** Does the formula of a known caller hold? Parts are asked in their order, and no more of them than are needed. */
export function holds(node: Node, truths: Truths): boolean {
  const table: NodeTable<boolean> = {
    all: ({ parts }) => parts.every((part) => interpret(part, table)),
    any: ({ parts }) => parts.some((part) => interpret(part, table)),
    'true of': truths.trueOf,
    permitted: truths.permitted,
    'reference readable': ({ field }) => truths.referenceReadable(field),
    'not own record': () => !truths.isOwnRecord(),
    // Of a known caller these are settled; closed on failure where one is not.
    speaks: () => false,
    exempts: () => false,
    shared: () => false,
  };
  return interpret(node, table);
}

/** The same where only conditions are left to ask: all other parts were asked in a step of their own, and hold. */
export function holdsBy(node: Node, trueOf: (leaf: TrueOf) => boolean): boolean {
  return holds(node, {
    trueOf,
    permitted: () => true,
    referenceReadable: () => true,
    isOwnRecord: () => false,
  });
}

/** The conditions that a formula asks for, each once, in their order. */
export function leavesOf(nodes: Iterable<Node>): TrueOf[] {
  const found = new Set<TrueOf>();
  const inner = ({ parts }: All | Any) => parts.forEach((part) => interpret(part, table));
  const nothing = () => undefined;
  const table: NodeTable<void> = {
    all: inner,
    any: inner,
    'true of': (leaf) => void found.add(leaf),
    permitted: nothing,
    'reference readable': nothing,
    'not own record': nothing,
    speaks: nothing,
    exempts: nothing,
    shared: nothing,
  };
  for (const node of nodes) interpret(node, table);
  return [...found];
}

/**
 * Could it hold for any record at all? What could not is refused by name, whatever the record: a known caller whom no
 * sentence speaks of, or a fence without `unless`. The caller's own entry among people is asked about apart.
 */
export function couldHold(node: Node): boolean {
  return holdsBy(node, ({ when }) => !(when.kind === 'constant' && !when.value));
}
