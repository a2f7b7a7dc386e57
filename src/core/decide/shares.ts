import type { Condition, PathOperand } from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import type { Rule, Rulebook } from '../ir/rulebook.ts';
import { callerName, type Caller, type Sharing } from './caller.ts';
import { conditionOf, settledFor, yes } from './condition.ts';
import { all, type Node, type Pair, type Shareable, type TrueOf } from './nodes.ts';
import type { Ground, Permission } from './formula.ts';
import { remembered } from './remembered.ts';

/** The operation that a rule allows for sharing itself. */
export const SHARE = 'share';

/** One record that somebody shares with the caller at this moment. */
export interface Share {
  readonly collection: string;
  readonly record: string;
  readonly operations: readonly Shareable[];
  /** The person who shares it. */
  readonly sharer: string;
}

/** The collections whose records can be shared: some rule names `share`. */
export function shareableCollections({ rules }: Pick<Rulebook, 'rules'>): ReadonlySet<string> {
  return remembered(
    shareableOf,
    rules,
    () => new Set(rules.filter((rule) => rule.operations.has(SHARE)).map((rule) => rule.collection)),
  );
}

// Asked for every caller, and the same for as long as the rulebook is in force.
const shareableOf = new WeakMap<readonly Rule[], ReadonlySet<string>>();

/**
 * Shares by collection, operation and sharer. A sharer who is not among `sharers`, being deactivated, shares nothing; nor
 * does anybody share what the rulebook does not let be shared.
 */
export function sharingsOf(
  rulebook: Rulebook,
  shares: readonly Share[],
  sharers: ReadonlyMap<string, Caller>,
): Sharing[] {
  const groups = new Map<string, Omit<Sharing, 'records'> & { readonly records: Set<string> }>();
  for (const { collection, record, operations, sharer } of shares) {
    const caller = sharers.get(sharer);
    if (caller === undefined || !shareableCollections(rulebook).has(collection)) continue;
    for (const operation of operations) {
      const key = `${collection} ${operation} ${sharer}`;
      const known = groups.get(key) ?? { collection, operation, sharer: caller, records: new Set() };
      groups.set(key, known);
      known.records.add(record);
    }
  }
  return [...groups.values()].map((group) => ({ ...group, records: [...group.records] }));
}

/**
 * What is shared with a caller, as grounds that speak of them alone. Each says: the record is one of those, and the sharer
 * may share it now, and could do this to it now by themself: by one of their own rules, past all fences that concern them.
 * So a share gives nothing that its sharer has not, ends when they lose it, and stands behind the caller's own fences like
 * any rule. Cost: one ground for each rule of each sharer, and for each set of fences on its fields.
 */
export function sharedGrounds(
  rulebook: Rulebook,
  caller: Caller,
  { operation, collection }: Pair,
  permissionOf: (caller: Caller, operation: string) => Permission,
  trueOf: (rule: Rule, when: Condition, sides?: 'before') => TrueOf,
): Ground[] {
  const grounds: Ground[] = [];
  for (const sharing of caller.shared ?? []) {
    if (sharing.collection !== collection || sharing.operation !== operation) continue;
    const { sharer, records } = sharing;
    const name = callerName(sharer);
    const ofSharer = (node: Node): Condition =>
      conditionOf(node, sharer, {
        trueOf: (leaf) => settledFor(rulebook, sharer, leaf),
        permitted: ({ operation: each }) => ofSharer(permissionOf(sharer, each).record),
        // Whoever sends a reference must be able to read what it points at: that is asked of them.
        referenceReadable: () => yes,
      });
    const own = permissionOf(sharer, operation);
    const allowing = ofSharer(permissionOf(sharer, SHARE).record);
    for (const { rule, fields, fenced } of partsOf(own)) {
      const isOne: Condition = {
        kind: 'among',
        operand: idOf(collection),
        values: records.map((value) => ({ kind: 'literal', value, type: { kind: 'uuid' } })),
      };
      const may = asSharer(sharer, allowing);
      const does = asSharer(sharer, ofSharer(all([rule.node, own.fenced, fenced], 'a rule')));
      const shared: Rule = {
        id: `${collection}/shared by ${name}, ${grounds.length + 1}`,
        collection,
        audience: { everybody: false, people: false, visitors: false, roles: new Set() },
        operations: new Map([[operation, fields]]),
        when: folded({ kind: 'and', operands: [isOne, may, does] }),
        // On an update only a sentence about update alone stamps; the values are those of whoever makes the change.
        stamps: operation === 'update' && rule.rule.operations.size === 1 ? rule.rule.stamps : [],
        because: null,
        text: `shared by ${name}, who has: ${rule.rule.text}`,
        span: rule.rule.span,
      };
      if (operation !== 'update') {
        const leaf = trueOf(shared, shared.when);
        grounds.push({ rule: shared, leaf, node: leaf });
        continue;
      }
      // Whether it may be shared is asked of the record as it is; what the sharer may do to it, on both sides.
      const leaf = trueOf(shared, folded({ kind: 'and', operands: [isOne, does] }));
      grounds.push({ rule: shared, leaf, node: all([trueOf(shared, may, 'before'), leaf], 'a rule') });
    }
  }
  return grounds;
}

function asSharer(caller: Caller, condition: Condition): Condition {
  return { kind: 'as', caller, condition };
}

interface Part {
  readonly rule: Ground;
  readonly fields: ReadonlySet<string>;
  readonly fenced: Node;
}

/** What the sharer could do by themself, rule by rule; fields behind the same parts stand together. */
function partsOf({ pair, grounds, field, fenced }: Permission): Part[] {
  return grounds.flatMap((rule): Part[] => {
    const own = rule.rule.operations.get(pair.operation)!;
    if (pair.operation === 'delete') return [{ rule, fields: own, fenced }];
    const behind = new Map<string, { fields: Set<string>; fenced: Node }>();
    for (const name of own) {
      const { whole, granted } = field(name);
      // Whatever the field is asked beside a rule that covers it.
      const parts =
        whole === granted || whole.kind !== 'all' ? [] : whole.parts.filter((each) => each !== granted);
      const key = parts.map(numberOf).join(' ');
      const known = behind.get(key) ?? { fields: new Set<string>(), fenced: all(parts, 'fences') };
      behind.set(key, known);
      known.fields.add(name);
    }
    return [...behind.values()].map((each) => ({ rule, ...each }));
  });
}

const numbers = new WeakMap<Node, number>();
let numbered = 0;

function numberOf(node: Node): number {
  const known = numbers.get(node) ?? ++numbered;
  numbers.set(node, known);
  return known;
}

function idOf(collection: string): PathOperand {
  return { kind: 'path', root: 'record', steps: [{ collection, field: 'id' }], type: { kind: 'uuid' } };
}
