import {
  always,
  partsOf as below,
  type Condition,
  type Operand,
  type PathOperand,
} from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import type { Rule, Rulebook } from '../ir/rulebook.ts';
import { callerName, hasSameStanding, rolesHeld, type Caller, type Sharing } from './caller.ts';
import { conditionOf, settledFor, yes } from './condition.ts';
import { all, type Node, type Pair, type Shareable, type TrueOf } from './nodes.ts';
import type { Ground, Permission } from './formula.ts';
import { remembered } from './remembered.ts';

/** The operation that a rule allows for sharing itself. */
export const SHARE = 'share';

/** With whom something can be shared, as one text. */
export function shareTarget(
  target: { readonly person: string } | { readonly role: string } | { readonly audience: string },
): string {
  if ('person' in target) return `person ${target.person}`;
  return 'role' in target ? `role ${target.role}` : target.audience;
}

/** All that reaches a caller: what is shared with them, with a role that they hold, with all people, or with everybody. */
export function targetsOf(rulebook: Pick<Rulebook, 'roles'>, caller: Caller): string[] {
  if (caller.person === null) return ['everybody'];
  const roles = rolesHeld(rulebook, caller).map((role) => shareTarget({ role }));
  return [shareTarget({ person: caller.person.id }), ...roles, 'people', 'everybody'];
}

/** So many records are named, for an index to find them; of more the database is asked one by one. */
export const NAMED = 200;

/** One record that somebody shares with the caller at this moment. */
export interface Share {
  readonly collection: string;
  /** Null: more than are named one by one. */
  readonly record: string | null;
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
 * The shareable collections that somebody who reads `collection` may come to: it, those that lie along its references, which
 * filters and fields go through, and any that some sentence asks “me may” of.
 */
export function shareableFrom(rulebook: Rulebook, collection: string): ReadonlySet<string> {
  if (!rulebook.schema.has(collection)) return new Set();
  const known = remembered(shareableFromOf, rulebook.rules, () => new Map<string, ReadonlySet<string>>());
  return remembered(known, collection, () => {
    const reached = new Set([collection, ...askedOfMe(rulebook)]);
    for (const each of reached)
      for (const { type } of rulebook.schema.get(each)?.fields.values() ?? []) {
        const target = type.kind === 'list' ? type.of : type;
        if (target.kind === 'ref') reached.add(target.collection);
      }
    return new Set([...shareableCollections(rulebook)].filter((each) => reached.has(each)));
  });
}

const shareableFromOf = new WeakMap<readonly Rule[], Map<string, ReadonlySet<string>>>();

/** The collections of whose records some rule or fence asks what the caller may do. */
function askedOfMe({ rules, fences }: Rulebook): string[] {
  const within = (node: Condition | Operand): string[] => [
    ...(node.kind === 'may' ? [node.collection] : []),
    ...below(node).flatMap(within),
  ];
  return [...rules, ...fences].flatMap(({ when }) => within(when));
}

/**
 * Shares by collection, operation and sharer. A sharer who is not among `sharers`, being deactivated, shares nothing; nor
 * does anybody share what the rulebook does not let be shared.
 */
export function sharingsOf(
  rulebook: Rulebook,
  shares: readonly Share[],
  sharers: ReadonlyMap<string, Caller>,
  inDatabase = false,
): Sharing[] {
  const groups = new Map<string, Omit<Sharing, 'records'> & { records: Set<string> | null }>();
  for (const { collection, record, operations, sharer } of shares) {
    const caller = sharers.get(sharer);
    if (caller === undefined || !shareableCollections(rulebook).has(collection)) continue;
    for (const operation of operations) {
      const key = `${collection} ${operation} ${sharer}`;
      const known = groups.get(key) ?? {
        collection,
        operation,
        sharer: caller,
        records: new Set(),
        inDatabase,
      };
      groups.set(key, known);
      if (record === null) known.records = null;
      else known.records?.add(record);
    }
  }
  return [...groups.values()].map(({ records, ...group }) => ({
    ...group,
    records: records && [...records],
  }));
}

/**
 * What is shared with a caller, as grounds that speak of them alone. Each says: the record is one of those, and the sharer
 * may share it now, and could do this to it now by themself: by one of their own rules, past all fences that concern them.
 * So a share gives nothing that its sharer has not, ends when they lose it, and stands behind the caller's own fences like
 * any rule. Cost: one ground for each rule of each sharer, and for each set of fences on its fields; where the database is
 * asked, one for all sharers of the same standing.
 */
export function sharedGrounds(
  rulebook: Rulebook,
  caller: Caller,
  { operation: asked, collection }: Pair,
  permissionOf: (caller: Caller, operation: string) => Permission,
  trueOf: (rule: Rule, when: Condition, sides?: 'before') => TrueOf,
): Ground[] {
  const grounds: Ground[] = [];
  const operation = asked as Shareable;
  const reaching = (caller.shared ?? []).filter(
    (each) => each.collection === collection && each.operation === operation,
  );
  const groups = ofSameStanding(reaching).flatMap((sharings): { sharings: Sharing[]; could: Could }[] => {
    const could = couldOf(rulebook, sharings[0]!.sharer, operation, permissionOf);
    if (sharings.length === 1 || could.alike) return [{ sharings, could }];
    return sharings.map((each) => ({
      sharings: [each],
      could: couldOf(rulebook, each.sharer, operation, permissionOf),
    }));
  });
  for (const { sharings, could } of groups) {
    const { isOne, as } = together(rulebook, caller, sharings);
    const name = sharings.length === 1 ? callerName(sharings[0]!.sharer) : `any of ${sharings.length} people`;
    for (const { rule, fields, does } of could.does) {
      const shared: Rule = {
        id: `${collection}/shared by ${name}, ${grounds.length + 1}`,
        collection,
        audience: { everybody: false, people: false, visitors: false, roles: new Set() },
        operations: new Map([[operation, fields]]),
        when: allOf([isOne, as(allOf([could.share, does]))]),
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
      const leaf = trueOf(shared, allOf([isOne, as(does)]));
      const before = trueOf(shared, as(could.share), 'before');
      grounds.push({ rule: shared, leaf, node: all([before, leaf], 'a rule') });
    }
  }
  return grounds;
}

function allOf(operands: readonly Condition[]): Condition {
  return folded({ kind: 'and', operands });
}

/** What a sharer may share, and could do by themself, as conditions on their own `me`. */
interface Could {
  readonly share: Condition;
  readonly does: readonly {
    readonly rule: Ground;
    readonly fields: ReadonlySet<string>;
    readonly does: Condition;
  }[];
  /** Whoever has the same standing could do the same: all that these ask of the sharer is asked through `me`. */
  readonly alike: boolean;
}

function couldOf(
  rulebook: Rulebook,
  sharer: Caller,
  operation: Shareable,
  permissionOf: (caller: Caller, operation: string) => Permission,
): Could {
  const ofSharer = (node: Node): Condition =>
    conditionOf(node, sharer, {
      trueOf: (leaf) => settledFor(rulebook, sharer, leaf),
      permitted: ({ operation: each }) => ofSharer(permissionOf(sharer, each).record),
      // Whoever sends a reference must be able to read what it points at: that is asked of them.
      referenceReadable: () => yes,
    });
  const own = permissionOf(sharer, operation);
  const share = ofSharer(permissionOf(sharer, SHARE).record);
  const does = partsOf(own).map(({ rule, fields, fenced }) => ({
    rule,
    fields,
    does: ofSharer(all([rule.node, own.fenced, fenced], 'a rule')),
  }));
  const alike = [share, ...does.map((each) => each.does)].every(
    (each) => !speaksOfItself(each, sharer.person!.id),
  );
  return { share, does, alike };
}

/** Does it name the person, or ask what they may? Then it is theirs alone. */
function speaksOfItself(node: Condition | Operand, person: string): boolean {
  if (node.kind === 'may' || (node.kind === 'literal' && node.value === person)) return true;
  return below(node).some((each) => speaksOfItself(each, person));
}

/** Whom the database is asked of, by standing; everybody else for themself. What an update meets is asked on two sides, of one. */
function ofSameStanding(sharings: readonly Sharing[]): Sharing[][] {
  const groups: Sharing[][] = [];
  for (const each of sharings) {
    const group = groups.find(
      ([first]) =>
        each.inDatabase && each.operation !== 'update' && hasSameStanding(first!.sharer, each.sharer),
    );
    if (group === undefined) groups.push([each]);
    else group.push(each);
  }
  return groups;
}

/**
 * The record is one of those that they share, and a condition asked as one of them. Where they are named, an index can find them;
 * which of the sharers shares it, or whether any does, the database is asked.
 */
function together(
  rulebook: Rulebook,
  caller: Caller,
  sharings: readonly Sharing[],
): { readonly isOne: Condition; readonly as: (condition: Condition) => Condition } {
  const { collection, operation, sharer, inDatabase } = sharings[0]!;
  const ids = sharings.flatMap(({ records }) => records ?? []);
  const named = sharings.every(({ records }) => records !== null) && (!inDatabase || ids.length <= NAMED);
  const isOne: Condition = named
    ? { kind: 'among', operand: idOf(collection), values: ids.map(literal) }
    : always;
  if (sharings.length === 1 && named)
    return { isOne, as: (condition) => ({ kind: 'as', caller: sharer, condition }) };
  const sharing = {
    collection,
    operation,
    targets: targetsOf(rulebook, caller),
    sharers: sharings.map((each) => each.sharer),
  };
  return { isOne, as: (condition) => ({ kind: 'as', caller: sharer, condition, sharing }) };
}

function literal(value: string) {
  return { kind: 'literal', value, type: { kind: 'uuid' } } as const;
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
