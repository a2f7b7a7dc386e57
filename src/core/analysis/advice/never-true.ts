import type { AdviceKind } from './kind.ts';
import type { Condition, Operand } from '../../ir/conditions.ts';
import { groundsOfRule, literalKey, partsOf } from './questions.ts';

export const neverTrue: AdviceKind = {
  code: 'A008',
  title: 'a rule that can never be true',
  explanation:
    'The parts of the condition contradict each other, so nobody is ever allowed anything by it. “or” may have been meant, or another value.',
  example: `collection hives { code text required label  status one of ("active", "resting") }
rules hives { people may read when status = "active" and status = "resting" }
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (groundsOfRule(rule).every(contradicts))
        yield { span: rule.span, message: 'no record can meet this condition' };
    }
  },
};

/** What is asked of one value: which it must be one of, which it must not be, and whether it must be there. */
interface Asked {
  allowed: Set<unknown> | null;
  readonly barred: Set<unknown>;
  missing: boolean;
  present: boolean;
}

/** Finds plain contradictions about one value of one record, before or after the change; none found does not mean that there is none. */
export function contradicts(ground: Condition): boolean {
  const values = new Map<string, Asked>();
  for (const part of partsOf(ground)) {
    if (part.kind === 'constant' && !part.value) return true;
    const negated = part.kind === 'not';
    const leaf = negated ? part.operand : part;
    const [operand, literals] = asked(leaf);
    if (operand === null) continue;
    const key = JSON.stringify(operand);
    const known = values.get(key) ?? { allowed: null, barred: new Set(), missing: false, present: false };
    values.set(key, known);
    if (leaf.kind === 'missing') {
      if (negated) known.present = true;
      else known.missing = true;
      continue;
    }
    // A comparison that is true has something to compare.
    known.present = true;
    if (negated) for (const value of literals) known.barred.add(value);
    else known.allowed = new Set(literals.filter((value) => known.allowed?.has(value) !== false));
  }
  return [...values.values()].some(
    ({ allowed, barred, missing, present }) =>
      (missing && present) || (allowed !== null && [...allowed].every((value) => barred.has(value))),
  );
}

function asked(leaf: Condition): [Operand | null, unknown[]] {
  switch (leaf.kind) {
    case 'missing':
      return [leaf.operand, []];
    case 'among':
      return [leaf.operand, leaf.values.map(literalKey)];
    case 'equal':
      if (leaf.right.kind === 'literal') return [leaf.left, [literalKey(leaf.right)]];
      return leaf.left.kind === 'literal' ? [leaf.right, [literalKey(leaf.left)]] : [null, []];
    case 'and':
    case 'as':
    case 'at most':
    case 'constant':
    case 'contains':
    case 'ends with':
    case 'has role':
    case 'holds':
    case 'less':
    case 'may':
    case 'member':
    case 'not':
    case 'or':
    case 'some':
    case 'starts with':
    case 'within':
      return [null, []];
  }
}
