import { conditionOf, settled, settledFor, yes } from '../decide/condition.ts';
import type { Caller } from '../decide/caller.ts';
import type { Node } from '../decide/nodes.ts';
import { permissionOf } from '../decide/permission.ts';
import { always, negate, nodesOf, type Condition, type PathOperand } from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import { rewriteCondition, unknown } from '../ir/rewrite.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { seenFrom } from './sides.ts';

/**
 * Conditions taken apart for counting over many callers at once: what is the same for all callers is asked of every record
 * once, and only what speaks of the caller is asked for each, of the few records that it finds.
 *
 * A condition is true exactly where one of its grounds is. That holds for truth alone: where the condition is false and
 * where it is unknown is not told apart, as rules and fences do not either.
 */
export type Ground = Condition;

/** Grounds that one condition is taken apart into at most; past that it stays in larger pieces. */
const MOST_GROUNDS = 16;

/**
 * The grounds of a condition about the record as it is, for one caller, whose roles have been put in. A record that `me may
 * read` asks about is asked its own rules, as far as that is possible.
 */
export function groundsOf(rulebook: Rulebook, caller: Caller, condition: Condition): Ground[] {
  return distributed(pushedDown(condition, (may) => writtenOut(may, rulebook, caller))).filter(
    (ground) => ground !== unknown && !(ground.kind === 'constant' && !ground.value),
  );
}

/** The grounds of a condition for nobody in particular. `me may …` stays as it is, and so do `old` and `new`. */
export function plainGroundsOf(condition: Condition, roles: ReadonlySet<string>): Ground[] {
  return distributed(pushedDown(settled(condition, roles), (may) => may)).filter(
    (ground) => !(ground.kind === 'constant' && !ground.value),
  );
}

/** The condition with `not` at its leaves alone: it is true exactly where `and` and `or` make it so of leaves that are true. */
export function byLeaves(condition: Condition): Condition {
  return pushedDown(condition, (may) => may);
}

type May = Condition & { kind: 'may' };

/** Does it come out differently for another caller? */
export function speaksOfCaller(condition: Condition): boolean {
  return [...nodesOf(condition)].some(
    (node) => node.kind === 'may' || (node.kind === 'path' && node.root === 'me'),
  );
}

/** `not` brought down to the leaves, which Kleene's logic allows, and `me may read` replaced by the rules it asks. */
function pushedDown(condition: Condition, read: (may: May) => Condition): Condition {
  const inner = (each: Condition) => pushedDown(each, read);
  switch (condition.kind) {
    case 'and':
    case 'or':
      return folded({ kind: condition.kind, operands: condition.operands.map(inner) });
    case 'not': {
      const { operand } = condition;
      // The opposite of unknown is unknown, and neither is ever true.
      if (operand === unknown) return { kind: 'constant', value: false };
      if (operand.kind === 'not') return inner(operand.operand);
      if (operand.kind !== 'and' && operand.kind !== 'or') return condition;
      const kind = operand.kind === 'and' ? 'or' : 'and';
      return folded({ kind, operands: operand.operands.map((each) => inner(negate(each))) });
    }
    case 'may': {
      if (condition.operation !== 'read' || condition.target.root !== 'record') return condition;
      const written = read(condition);
      return written === condition ? condition : inner(written);
    }
    case 'among':
    case 'as':
    case 'at most':
    case 'constant':
    case 'contains':
    case 'ends with':
    case 'equal':
    case 'has role':
    case 'holds':
    case 'less':
    case 'member':
    case 'missing':
    case 'some':
    case 'starts with':
    case 'within':
      return condition === unknown ? { kind: 'constant', value: false } : condition;
  }
}

/** What makes the record at the end of the path readable, asked of the record that the path begins from. */
function writtenOut({ collection, target }: May, rulebook: Rulebook, caller: Caller): Condition {
  return behind(rulebook, caller, 'read', collection, target);
}

/** A known caller's formula as a condition about the record as it is. */
export function plainCondition(rulebook: Rulebook, caller: Caller, node: Node): Condition {
  return conditionOf(node, caller, {
    trueOf: (leaf) => seenFrom(settledFor(rulebook, caller, leaf), 'before', new Map()),
    permitted: ({ operation, collection }) =>
      plainCondition(rulebook, caller, permissionOf(rulebook, caller, operation, collection).record),
    referenceReadable: () => yes,
  });
}

/** The formula of an operation on the record at the end of a path, as a condition about the record that the path begins from. */
export function behind(
  rulebook: Rulebook,
  caller: Caller,
  operation: string,
  collection: string,
  target: PathOperand,
): Condition {
  const moved = (condition: Condition) =>
    rewriteCondition(condition, {
      path: (path): PathOperand =>
        path.root === 'record' || path.root === 'old' || path.root === 'new'
          ? { ...path, root: target.root, steps: [...target.steps, ...path.steps] }
          : path,
      condition: folded,
    });
  const formula = (of: string): Condition =>
    conditionOf(permissionOf(rulebook, caller, of, collection).record, caller, {
      trueOf: (leaf) => moved(settledFor(rulebook, caller, leaf)),
      permitted: (pair) => formula(pair.operation),
      referenceReadable: () => yes,
    });
  const isThere = negate({ kind: 'missing', operand: target });
  return folded({ kind: 'and', operands: [isThere, formula(operation)] });
}

/** `and` over `or` multiplied out, as long as that does not make too many. */
function distributed(condition: Condition): Condition[] {
  if (condition.kind === 'or') {
    const all = condition.operands.flatMap(distributed);
    return all.length <= MOST_GROUNDS ? all : [condition];
  }
  if (condition.kind !== 'and') return [condition];
  let products: Condition[][] = [[]];
  for (const part of condition.operands) {
    const choices = distributed(part);
    if (products.length * choices.length > MOST_GROUNDS) return [condition];
    products = products.flatMap((before) => choices.map((choice) => [...before, choice]));
  }
  return products.map((parts) =>
    parts.reduce((before, part) => folded({ kind: 'and', operands: [before, part] }), always),
  );
}
