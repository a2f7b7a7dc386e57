import { negate, type Condition } from '../ir/conditions.ts';
import { folded, isNever } from '../ir/fold.ts';
import { rewriteCondition } from '../ir/rewrite.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { PEOPLE } from '../types/schema.ts';
import { rolesFor, type Caller } from './caller.ts';
import { interpret, type Node, type NodeTable, type Pair, type TrueOf } from './nodes.ts';

/** What the parts of a known caller's formula come to as conditions. */
export interface PartConditions {
  readonly trueOf: (leaf: TrueOf) => Condition;
  readonly permitted: (pair: Pair) => Condition;
  readonly referenceReadable: (field: string) => Condition;
}

/**
 * The formula of a known caller as one condition about the record: true exactly where the formula holds. Where it is not
 * true it may be false or unknown, which nobody asks.
 */
export function conditionOf(node: Node, caller: Caller, parts: PartConditions): Condition {
  const table: NodeTable<Condition> = {
    all: (each) => folded({ kind: 'and', operands: each.parts.map((part) => interpret(part, table)) }),
    any: (each) => folded({ kind: 'or', operands: each.parts.map((part) => interpret(part, table)) }),
    'true of': parts.trueOf,
    permitted: ({ pair }) => parts.permitted(pair),
    'reference readable': ({ field }) => parts.referenceReadable(field),
    'not own record': () => (caller.person === null ? yes : negate(isOwn)),
    // Settled for a known caller; closed on failure.
    speaks: () => isNever,
    exempts: () => isNever,
    shared: () => isNever,
  };
  return interpret(node, table);
}

/** The condition of a sentence with the roles that count for its pair put in. */
export function settledFor(rulebook: Rulebook, caller: Caller, { when, pair }: TrueOf): Condition {
  return settled(when, rolesFor(rulebook, caller, pair.operation, pair.collection));
}

/** With these roles put in: which count differs from one operation to the next. */
export function settled(condition: Condition, roles: ReadonlySet<string>): Condition {
  return rewriteCondition(condition, {
    condition: (part) =>
      part.kind === 'has role' ? { kind: 'constant', value: roles.has(part.role) } : folded(part),
  });
}

export const yes: Condition = { kind: 'constant', value: true };

const person = {
  kind: 'path',
  steps: [{ collection: PEOPLE, field: 'id' }],
  type: { kind: 'ref', collection: PEOPLE },
} as const;

/** The record in hand is the caller's own entry. Of a visitor, who has none, unknown. */
export const isOwn: Condition = {
  kind: 'equal',
  left: { ...person, root: 'record' },
  right: { ...person, root: 'me' },
};
