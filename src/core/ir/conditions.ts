import type { Scalar, Type, Value } from '../types/types.ts';

/**
 * The small normal form of conditions: the only input of the closures and of the SQL.
 * Typed and resolved, lets written out, so that neither engine has to ask what a name means.
 */

/** A value. `literal` is never missing; a missing one is written `is missing`. */
export type Operand =
  | { readonly kind: 'literal'; readonly value: Scalar; readonly type: Type }
  /** A value that is missing: no rulebook names it, it comes about where a change is thought through. */
  | { readonly kind: 'nothing'; readonly type: Type }
  | { readonly kind: 'now'; readonly type: Type }
  /** The day that it is in the rulebook's time zone. */
  | { readonly kind: 'today'; readonly zone: string; readonly type: Type }
  | PathOperand
  /** `lower` changes A to Z alone; `length` counts code points. */
  | { readonly kind: 'lower' | 'length'; readonly operand: Operand; readonly type: Type }
  /** A date or a timestamp moved in time; missing where it would leave the years 0001 to 9999. */
  | {
      readonly kind: 'shift';
      readonly operand: Operand;
      readonly days: number;
      readonly minutes: number;
      /** Whose days they are; hours are the same everywhere. */
      readonly zone: string;
      readonly type: Type;
    }
  /** How many records satisfy the condition; missing where it is unknown for any. */
  | { readonly kind: 'count'; readonly range: Range; readonly where: Condition; readonly type: Type };

export interface PathOperand {
  readonly kind: 'path';
  readonly root: Root;
  /** At least one; `id` is a step like any other. All but the last are references. */
  readonly steps: readonly Step[];
  readonly type: Type;
}

/**
 * `record`: the record being decided; `me`: the caller's record of people, whose first step may be an attribute, too; `old`, `new`: the record before and after
 * an update; a number: the record that the enclosing `some` or `count` of that depth speaks of, from 1.
 */
export type Root = 'record' | 'me' | 'old' | 'new' | number;

/** A field of a record of `collection`. */
export interface Step {
  readonly collection: string;
  readonly field: string;
}

/** Every record of a collection in turn, as the variable of this depth. */
export interface Range {
  readonly collection: string;
  readonly depth: number;
  /**
   * In SQL: only so many of those that the caller may read, whichever, are looked at. No sentence says so; it bounds what rights ask of
   * each record of a page.
   */
  readonly few?: number;
}

/** A comparison is unknown where any side is missing. */
export type Condition =
  | { readonly kind: 'constant'; readonly value: boolean }
  | {
      readonly kind: 'equal' | 'less' | 'at most' | 'contains' | 'starts with' | 'ends with';
      readonly left: Operand;
      readonly right: Operand;
    }
  /** Is the value in the list? Unknown where either is missing. */
  | { readonly kind: 'member'; readonly operand: Operand; readonly list: Operand }
  /** Is the record on the left the one on the right (or any of a list), or below it? `parent` leads upwards. */
  | { readonly kind: 'within'; readonly left: Operand; readonly right: Operand; readonly parent: Step }
  | {
      readonly kind: 'among';
      readonly operand: Operand;
      readonly values: readonly (Operand & { kind: 'literal' })[];
    }
  | { readonly kind: 'missing'; readonly operand: Operand }
  /** A boolean value that stands as a condition. */
  | { readonly kind: 'holds'; readonly operand: Operand }
  | { readonly kind: 'has role'; readonly role: string }
  /** What the caller's own rules say of the record that the target points at; unknown where it is missing. */
  | {
      readonly kind: 'may';
      readonly operation: 'read' | 'update' | 'delete';
      readonly collection: string;
      readonly target: PathOperand;
      /** For update: the fields that would be supplied. */
      readonly fields: readonly string[];
    }
  /** True if the body is true for a record; else unknown if it is unknown for one; else false. */
  | { readonly kind: 'some'; readonly range: Range; readonly body: Condition }
  /** The condition as it is for somebody else, whose `me` it speaks of; it asks for no role. For shares alone. */
  | {
      readonly kind: 'as';
      readonly caller: SomebodyElse;
      readonly condition: Condition;
      /** Rather than for that one: for any of these who share the record in hand, which only the database knows. */
      readonly sharing?: SharingNow;
    }
  | { readonly kind: 'and' | 'or'; readonly operands: readonly Condition[] }
  | { readonly kind: 'not'; readonly operand: Condition };

/** A caller that a condition brings along: see `core/decide/caller.ts`. */
export interface SomebodyElse {
  readonly person: { readonly id: string; readonly values: Readonly<Record<string, Value>> } | null;
  readonly roles: ReadonlySet<string>;
}

/** Those who may share a record of this collection for this operation with any of these, at the moment of the request. */
export interface SharingNow {
  readonly collection: string;
  readonly operation: string;
  /** As `shareTarget` writes them. */
  readonly targets: readonly string[];
  readonly sharers: readonly SomebodyElse[];
}

export const always: Condition = { kind: 'constant', value: true };

/** The conditions and operands right below one: the one table that all walking goes by. */
export function partsOf(node: Condition | Operand): readonly (Condition | Operand)[] {
  switch (node.kind) {
    case 'constant':
    case 'literal':
    case 'nothing':
    case 'now':
    case 'today':
    case 'path':
    case 'has role':
      return [];
    case 'equal':
    case 'less':
    case 'at most':
    case 'contains':
    case 'starts with':
    case 'ends with':
    case 'within':
      return [node.left, node.right];
    case 'among':
      return [node.operand, ...node.values];
    case 'member':
      return [node.operand, node.list];
    case 'missing':
    case 'holds':
    case 'not':
    case 'lower':
    case 'length':
    case 'shift':
      return [node.operand];
    case 'and':
    case 'or':
      return node.operands;
    case 'may':
      return [node.target];
    case 'some':
      return [node.body];
    case 'as':
      return [node.condition];
    case 'count':
      return [node.where];
  }
}

/** A condition or operand and everything below it, in reading order. Cost: one step for each; no depth overflows. */
export function nodesOf(node: Condition | Operand): (Condition | Operand)[] {
  const found: (Condition | Operand)[] = [];
  const waiting: (Condition | Operand)[] = [node];
  for (let next = waiting.pop(); next !== undefined; next = waiting.pop()) {
    found.push(next);
    const parts = partsOf(next);
    for (let index = parts.length - 1; index >= 0; index--) waiting.push(parts[index]!);
  }
  return found;
}

/** Every path of a condition. */
export function pathsOf(node: Condition | Operand): PathOperand[] {
  return nodesOf(node).filter((each) => each.kind === 'path');
}

/** Every `me may …` of a condition. */
export function maysOf(node: Condition | Operand): (Condition & { kind: 'may' })[] {
  return nodesOf(node).filter((each) => each.kind === 'may');
}

/** The collections whose records a condition looks at beyond the one in hand and the caller's own. */
export function collectionsRead(condition: Condition | Operand): Set<string> {
  const found = new Set<string>();
  for (const node of nodesOf(condition)) {
    if (node.kind === 'path') for (const step of node.steps.slice(1)) found.add(step.collection);
    if (node.kind === 'some' || node.kind === 'count') found.add(node.range.collection);
    if (node.kind === 'may') found.add(node.collection);
    if (node.kind === 'within') found.add(node.parent.collection);
  }
  return found;
}

/** `not` of a condition, without piling one on another. */
export function negate(condition: Condition): Condition {
  if (condition.kind === 'not') return condition.operand;
  if (condition.kind === 'constant') return { kind: 'constant', value: !condition.value };
  return { kind: 'not', operand: condition };
}
