import type { Caller } from '../evaluate/caller.ts';
import { grantsFor, recordFences } from '../evaluate/combine.ts';
import { always, negate, nodesOf, type Condition, type PathOperand } from '../ir/conditions.ts';
import { rewriteCondition } from '../ir/rewrite.ts';
import type { Rulebook } from '../ir/rulebook.ts';

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
 * The grounds of a condition for one caller, with the record as it is on both sides. `roles` are those that count for
 * the operation. A record that `me may read` asks about is asked its own rules, as far as that is possible.
 */
export function groundsOf(
  rulebook: Rulebook,
  caller: Caller,
  condition: Condition,
  roles: ReadonlySet<string>,
): Ground[] {
  return takenApart(condition, roles, (may) => writtenOut(may, rulebook, caller));
}

/** The same without asking whose rules `me may` asks for: it stays as it is. */
export function plainGroundsOf(condition: Condition, roles: ReadonlySet<string>): Ground[] {
  return takenApart(condition, roles, (may) => may);
}

type May = Condition & { readonly kind: 'may' };

function takenApart(
  condition: Condition,
  roles: ReadonlySet<string>,
  read: (may: May) => Condition,
): Ground[] {
  const resolved = rewriteCondition(condition, {
    path: (path) => (path.root === 'old' || path.root === 'new' ? { ...path, root: 'record' } : path),
    condition: (part) =>
      part.kind === 'has role' ? { kind: 'constant', value: roles.has(part.role) } : folded(part),
  });
  return distributed(pushedDown(resolved, read)).filter(
    (ground) => !(ground.kind === 'constant' && !ground.value),
  );
}

/** Does it come out differently for another caller? */
export function speaksOfCaller(condition: Condition): boolean {
  return [...nodesOf(condition)].some(
    (node) => node.kind === 'may' || (node.kind === 'path' && node.root === 'me'),
  );
}

/** Constants taken out of `and`, `or` and `not`. */
function folded(condition: Condition): Condition {
  switch (condition.kind) {
    case 'and':
    case 'or': {
      const decisive = condition.kind === 'or';
      const parts = condition.operands.filter((part) => part.kind !== 'constant' || part.value === decisive);
      const settled = parts.find((part) => part.kind === 'constant');
      if (settled !== undefined) return settled;
      const [only] = parts;
      if (parts.length === 0) return { kind: 'constant', value: !decisive };
      return parts.length === 1 ? only! : { ...condition, operands: parts };
    }
    case 'not':
      return condition.operand.kind === 'constant' ? negate(condition.operand) : condition;
    default:
      return condition;
  }
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
    default:
      return condition;
  }
}

/** What makes the record at the end of the path readable, asked of the record that the path begins from. */
function writtenOut({ collection, target }: May, rulebook: Rulebook, caller: Caller): Condition {
  const grants = grantsFor(rulebook, caller, collection, 'read');
  const behind = (condition: Condition) =>
    rewriteCondition(condition, {
      path: (path): PathOperand =>
        path.root === 'record' || path.root === 'old' || path.root === 'new'
          ? { ...path, root: target.root, steps: [...target.steps, ...path.steps] }
          : path,
      condition: (part) =>
        part.kind === 'has role' ? { kind: 'constant', value: grants.roles.has(part.role) } : folded(part),
    });
  const granted = folded({ kind: 'or', operands: grants.rules.map((rule) => behind(rule.when)) });
  const fenced = recordFences(grants, 'read').map((fence) => behind(fence.when));
  const isThere = negate({ kind: 'missing', operand: target });
  return folded({ kind: 'and', operands: [isThere, granted, ...fenced] });
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
