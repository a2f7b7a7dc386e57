import type { Caller } from '../decide/caller.ts';
import { leavesOf } from '../decide/nodes.ts';
import { permission } from '../decide/permission.ts';
import { compilePredicate } from '../evaluate/closures.ts';
import { nodesOf, type Condition, type Operand, type PathOperand } from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import { rewriteCondition, unknown, type As } from '../ir/rewrite.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import type { Scalar } from '../types/types.ts';

/** What a change would put into a record, by field: values, and paths from the record as it is, from `me`, or from a variable. */
export type Overlay = ReadonlyMap<string, Operand>;

/**
 * A condition of a write as one about the record as it is: on the side asked, `this` and bare names are the record as it is
 * or as it would become, `old` always the one and `new` the other. Holds only where `readsBack` finds nothing that the change
 * touches. `caller`: whose `me` the change speaks of; where somebody else is asked, it is put in as what it is.
 */
export function seenFrom(
  condition: Condition,
  side: 'before' | 'after',
  overlay: Overlay,
  caller: As['caller'] | null = null,
): Condition {
  const forOthers = (): Overlay =>
    caller === null ? overlay : new Map([...overlay].map(([field, each]) => [field, known(each, caller)]));
  return rewriteCondition(condition, {
    as: (part) => ({ ...part, condition: seenFrom(part.condition, side, forOthers()) }),
    path(path) {
      const { root } = path;
      if (root === 'old') return { ...path, root: 'record' };
      if (root === 'new' || (root === 'record' && side === 'after')) return overlaid(path, overlay);
      return path;
    },
    condition: folded,
  });
}

function overlaid(path: PathOperand, overlay: Overlay): Operand {
  const [first, ...rest] = path.steps;
  const value = overlay.get(first!.field);
  if (value === undefined) return { ...path, root: 'record' };
  if (rest.length === 0) return value.kind === 'nothing' ? { kind: 'nothing', type: path.type } : value;
  return value.kind === 'path'
    ? { ...value, steps: [...value.steps, ...rest], type: path.type }
    : { kind: 'nothing', type: path.type };
}

/**
 * The condition with what is known of others put in: where it is asked as somebody else, `me` and single values of theirs are
 * what they are, so that nobody takes them for the caller's. Lists, and what lies behind `me`, stay.
 */
export function withOthersKnown(condition: Condition): Condition {
  return rewriteCondition(condition, {
    as: (part) => ({
      ...part,
      condition: rewriteCondition(part.condition, { path: (path) => known(path, part.caller) }),
    }),
  });
}

/** The value of the caller's own that an operand reads; what reads another, or a list of theirs, stays. */
export function known(operand: Operand, { person }: As['caller']): Operand {
  if (operand.kind !== 'path' || operand.root !== 'me' || operand.steps.length !== 1) return operand;
  const { type } = operand;
  if (type.kind === 'list' || type.kind === 'json') return operand;
  const value = person?.values[operand.steps[0]!.field] ?? null;
  return value === null ? { kind: 'nothing', type } : { kind: 'literal', value: value as Scalar, type };
}

/** What is read through `me` as somebody else, and could be taken for the caller's. */
export function foreignPaths(condition: Condition): Set<Operand> {
  const found = new Set<Operand>();
  for (const node of nodesOf(condition))
    if (node.kind === 'as')
      for (const inner of nodesOf(node.condition))
        if (inner.kind === 'path' && inner.root === 'me') found.add(inner);
  return found;
}

/** A condition about a record, as one about the record of the quantifier of this depth. */
export function movedTo(condition: Condition, depth: number): Condition {
  return rewriteCondition(condition, {
    path: (path) =>
      path.root === 'me'
        ? path
        : { ...path, root: typeof path.root === 'number' ? path.root + depth : depth },
    depth: (each) => each + depth,
  });
}

/** Could it be true of any record, as far as its shape tells? */
export function isHopeless(condition: Condition): boolean {
  switch (condition.kind) {
    case 'constant':
      return !condition.value;
    case 'and':
      return condition.operands.some(isHopeless);
    case 'or':
      return condition.operands.every(isHopeless);
    case 'not':
      return condition.operand === unknown;
    case 'among':
    case 'as':
    case 'at most':
    case 'contains':
    case 'ends with':
    case 'equal':
    case 'has role':
    case 'holds':
    case 'less':
    case 'may':
    case 'member':
    case 'missing':
    case 'some':
    case 'starts with':
    case 'within':
      return condition === unknown;
  }
}

/** Under one quantifier more: what speaks of records of quantifiers speaks of them one deeper. */
export function deeper(condition: Condition): Condition {
  return rewriteCondition(condition, {
    path: (path) => (typeof path.root === 'number' ? { ...path, root: path.root + 1 } : path),
    depth: (depth) => depth + 1,
  });
}

/**
 * The fields of records of a collection that a condition reads other than from the record in hand: a path that comes back, a
 * quantifier over it, a tree, what `me may` asks. On the side after a change these see the change, which no condition about
 * the record as it is can say.
 */
export function readsBack(
  rulebook: Rulebook,
  condition: Condition,
  collection: string,
  asked: Set<string> = new Set(),
): Set<string> {
  const found = new Set<string>();
  const add = (of: string, field: string) => {
    if (of === collection) found.add(field);
  };
  for (const node of nodesOf(condition)) {
    if (node.kind === 'path') {
      const beyond = typeof node.root === 'number' ? node.steps : node.steps.slice(1);
      for (const step of beyond) add(step.collection, step.field);
    } else if (node.kind === 'within') {
      add(node.parent.collection, node.parent.field);
    } else if (node.kind === 'may') {
      const key = `${node.operation} ${node.collection} ${node.fields.join(' ')}`;
      if (asked.has(key)) continue;
      asked.add(key);
      for (const operation of new Set(['read', node.operation])) {
        const { record, field } = permission(rulebook, operation, node.collection);
        const wanted = [
          record,
          ...(operation === node.operation ? node.fields.map((each) => field(each).whole) : []),
        ];
        for (const { when } of leavesOf(wanted)) {
          for (const part of nodesOf(when))
            if (part.kind === 'path' && part.root !== 'me')
              add(part.steps[0]!.collection, part.steps[0]!.field);
          for (const each of readsBack(rulebook, when, collection, asked)) found.add(each);
        }
      }
    }
  }
  return found;
}

/** Does it speak of the record in hand? Otherwise it has one answer for all records. */
export function speaksOfRecord(condition: Condition | Operand): boolean {
  return [...nodesOf(condition)].some(
    (node) => node.kind === 'path' && (node.root === 'record' || node.root === 'old' || node.root === 'new'),
  );
}

/**
 * The condition with every part answered that what is known of the caller and the clock answers alone. An unknown part stays
 * what it is, unknown. `now` null: of these nothing is known, and what only literals say is answered.
 */
export function answered(condition: Condition, caller: Caller, now: string | null): Condition {
  const moment = now ?? '';
  const circumstances = {
    caller,
    roles: none,
    now: moment,
    look: () => null,
    all: () => [],
    may: () => false,
  };
  return rewriteCondition(condition, {
    as(part) {
      const inner = answered(part.condition, part.caller, now);
      return inner.kind === 'constant' || inner === unknown ? inner : { ...part, condition: inner };
    },
    condition(part) {
      if (part.kind === 'constant' || part === unknown) return part;
      if (part.kind === 'and' || part.kind === 'or' || part.kind === 'not') return folded(part);
      if (!isAtHand(part, now !== null)) return part;
      const truth = compilePredicate(part)({}, circumstances);
      return truth === null ? unknown : { kind: 'constant', value: truth };
    },
  });
}

const none: ReadonlySet<string> = new Set();

/** Of literals alone, and where these are `known` of the clock and the caller's own values. */
function isAtHand(condition: Condition, known: boolean): boolean {
  return [...nodesOf(condition)].every((node) => {
    switch (node.kind) {
      case 'some':
      case 'count':
      case 'may':
      case 'within':
      case 'has role':
      case 'as':
        return false;
      case 'path':
        return known && node.root === 'me' && node.steps.length === 1;
      case 'now':
      case 'today':
        return known;
      case 'constant':
      case 'equal':
      case 'less':
      case 'at most':
      case 'contains':
      case 'starts with':
      case 'ends with':
      case 'member':
      case 'among':
      case 'missing':
      case 'holds':
      case 'and':
      case 'or':
      case 'not':
      case 'literal':
      case 'nothing':
      case 'lower':
      case 'length':
      case 'shift':
        return true;
    }
  });
}
