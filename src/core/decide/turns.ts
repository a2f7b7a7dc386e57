import { nodesOf, type Condition, type Operand } from '../ir/conditions.ts';
import { builtIn, type Operation, type Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import type { Caller } from './caller.ts';
import type { Permission } from './formula.ts';
import { interpret, leavesOf, type Node } from './nodes.ts';
import { permission, permissionOf } from './permission.ts';
import { remembered } from './remembered.ts';
import { SHARE, shareableCollections } from './shares.ts';
import { followersOf } from './steps/referrers.ts';

/**
 * What a write may meet at the same moment. `alone`: its own row is all that it is decided by, and a lock on that is enough.
 * `others`: it looks at other records too, so it runs serializable. `group`: it looks at how many records there are of a kind,
 * or writes such, so that two at a time would often be turned back: those of one group take turns.
 */
export type Meeting =
  | { readonly kind: 'alone' }
  | { readonly kind: 'others'; readonly group: string }
  | { readonly kind: 'group'; readonly group: string };

/**
 * What a write of this kind by this caller may meet: which sentences decide depends on who they are. `refers`: does it give a
 * reference? Cost: each condition once for each rulebook.
 */
export function meetingOf(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  operations: readonly Operation[],
  refers: boolean,
): Meeting {
  const { groups, ranged } = turnsOf(rulebook);
  const group = groups.get(collection)!;
  const along = operations.includes('delete') ? [...followersOf(rulebook, collection)] : [];
  const asked = ['read', ...operations].map((operation) => looksOf(rulebook, caller, operation, collection));
  const passed = along.flatMap((holder) =>
    ['read', 'update', 'delete'].map((operation) => looksOf(rulebook, caller, operation, holder, true)),
  );
  const pointed = refers ? [...pointedAt(rulebook, collection)] : [];
  const read = pointed.map((target) => looksOf(rulebook, caller, 'read', target));
  // What is shared is decided by its sharers, too, by whatever rules these go.
  const isShared = caller.shared?.some((each) => each.collection === collection) === true;
  const lent = isShared ? operations.map((operation) => looksOfAll(rulebook, operation, collection)) : [];
  const looks = [...asked, ...passed, ...read, ...lent];
  if (looks.includes('many') || [collection, ...along].some((each) => ranged.has(each)))
    return { kind: 'group', group };
  const { tree } = collectionOf(rulebook.schema, collection);
  // A tree is looked up to see that nothing lies below itself.
  // Where whatever is there can be read, it is the foreign key that says whether it is.
  const beyond =
    pointed.some((target) => !isReadableAlways(rulebook, caller, target)) ||
    along.length > 0 ||
    (tree !== null && operations.includes('update')) ||
    isShared ||
    looks.includes('others');
  return beyond ? { kind: 'others', group } : { kind: 'alone' };
}

/** Can the caller read every record of the collection, whichever it is? */
export function isReadableAlways(rulebook: Rulebook, caller: Caller, collection: string): boolean {
  const { granted, fenced } = permissionOf(rulebook, caller, 'read', collection);
  return isAlways(granted) && isAlways(fenced);
}

function isAlways(node: Node): boolean {
  return interpret(node, {
    all: ({ parts }) => parts.every(isAlways),
    any: ({ parts }) => parts.some(isAlways),
    'true of': ({ when }) => when.kind === 'constant' && when.value,
    permitted: no,
    'reference readable': no,
    'not own record': no,
    speaks: no,
    exempts: no,
    shared: no,
  });
}

const no = () => false;

/** What sharing may meet: at least that the record is deleted meanwhile, of which its row alone would not tell. */
export function meetingOfSharing(rulebook: Rulebook, caller: Caller, collection: string): Meeting {
  const meeting = meetingOf(rulebook, caller, collection, [SHARE, 'update', 'delete'], false);
  if (meeting.kind !== 'alone') return meeting;
  return { kind: 'others', group: turnsOf(rulebook).groups.get(collection)! };
}

/** Does the first hold where the second is needed? */
export function suffices(one: Meeting, other: Meeting): boolean {
  const strength = { alone: 0, others: 1, group: 2 } as const;
  return strength[one.kind] >= strength[other.kind];
}

interface Turns {
  /** The group of each collection: those that are joined by a decision on the one that quantifies over the other. */
  readonly groups: ReadonlyMap<string, string>;
  /** Collections that some sentence, role or attribute quantifies over. */
  readonly ranged: ReadonlySet<string>;
}

const known = new WeakMap<Rulebook, Turns>();

function turnsOf(rulebook: Rulebook): Turns {
  return remembered(known, rulebook, () => workOut(rulebook));
}

function workOut(rulebook: Rulebook): Turns {
  const names = [...rulebook.schema.keys()];
  const deciding = new Map(names.map((name) => [name, decidingOn(rulebook, name)]));
  const ranged = new Set([...deciding.values()].flatMap((each) => [...each]));
  for (const ranges of [
    rangesOfRoles(rulebook),
    ...[...rulebook.attributes.keys()].map((name) => rangesOfAttribute(rulebook, name)),
  ])
    for (const range of ranges) ranged.add(range);
  const groups = new Map(names.map((name) => [name, name]));
  const join = (one: string, other: string) => {
    const [from, to] = [groups.get(one)!, groups.get(other)!];
    if (from !== to) for (const [name, group] of groups) if (group === from) groups.set(name, to);
  };
  for (const name of names) {
    for (const range of deciding.get(name)!) join(name, range);
    for (const each of followersOf(rulebook, name)) join(name, each);
  }
  return { groups, ranged };
}

/** The collections that decisions on writing this one quantify over, in any of their operations. */
function decidingOn(rulebook: Rulebook, collection: string): Set<string> {
  const actions = [...rulebook.actions.values()].filter((action) => action.collection === collection);
  const isShared = shareableCollections(rulebook).has(collection);
  const own = builtIn.filter((operation) => operation !== SHARE || isShared);
  const operations = [...own, ...actions.map(({ name }) => name)];
  const found = new Set<string>();
  for (const operation of operations) rangesOfPermission(rulebook, operation, collection, found, new Set());
  // What is pointed at must be readable.
  for (const target of pointedAt(rulebook, collection))
    rangesOfPermission(rulebook, 'read', target, found, new Set());
  return found;
}

/** The collections at whose records a write of this one may point, by its fields or the parameters of its actions. */
function pointedAt({ schema, actions }: Rulebook, collection: string): Set<string> {
  const own = [...actions.values()].filter((action) => action.collection === collection);
  const supplied = [...collectionOf(schema, collection).fields.values()].filter(({ system }) => !system);
  const types = [...supplied, ...own.flatMap(({ parameters }) => [...parameters.values()])];
  return new Set(types.flatMap(({ type }) => (type.kind === 'ref' ? [type.collection] : [])));
}

function rangesOfPermission(
  rulebook: Rulebook,
  operation: Operation,
  collection: string,
  found: Set<string>,
  asked: Set<string>,
): void {
  const key = `${operation} ${collection}`;
  if (asked.has(key)) return;
  asked.add(key);
  const { grounds, barriers } = permission(rulebook, operation, collection);
  const byRole = [
    ...grounds.map(({ rule }) => rule.audience.roles),
    ...barriers.map(({ fence }) => fence.exempt),
  ];
  if (byRole.some((roles) => roles.size > 0)) for (const range of rangesOfRoles(rulebook)) found.add(range);
  // What is shared with the caller is theirs as long as its sharer may share it.
  if (operation !== SHARE && shareableCollections(rulebook).has(collection))
    rangesOfPermission(rulebook, SHARE, collection, found, asked);
  for (const { when } of leavesOf([...grounds, ...barriers].map(({ node }) => node)))
    rangesOf(rulebook, when, found, asked);
  for (const { rule } of grounds)
    for (const { value } of rule.stamps) rangesOf(rulebook, value, found, asked);
}

function rangesOf(
  rulebook: Rulebook,
  body: Condition | Operand,
  found: Set<string>,
  asked: Set<string>,
): void {
  for (const node of nodesOf(body)) {
    if (node.kind === 'some' || node.kind === 'count') found.add(node.range.collection);
    if (node.kind === 'has role') for (const range of rangesOfRoles(rulebook)) found.add(range);
    if (node.kind === 'path' && node.root === 'me' && rulebook.attributes.has(node.steps[0]!.field))
      for (const range of rangesOfAttribute(rulebook, node.steps[0]!.field)) found.add(range);
    if (node.kind === 'may')
      for (const operation of new Set(['read', node.operation]))
        rangesOfPermission(rulebook, operation, node.collection, found, asked);
  }
}

/** What attributes are worked out from, over any number of others. */
function rangesOfAttribute(rulebook: Rulebook, name: string): Set<string> {
  const found = new Set<string>();
  const { source } = rulebook.attributes.get(name)!;
  if (source.kind === 'claim') return found;
  if (source.kind === 'every') found.add(source.range.collection);
  for (const body of source.kind === 'every' ? [source.operand, source.where] : [source.operand])
    rangesOf(rulebook, body, found, new Set());
  return found;
}

/** What roles with a condition are worked out from; such a condition asks for no role. */
function rangesOfRoles(rulebook: Rulebook): Set<string> {
  const found = new Set<string>();
  for (const { when } of rulebook.roles.values())
    if (when !== null) rangesOf(rulebook, when, found, new Set());
  return found;
}

/** What a decision looks at beside the record in hand and who the caller is. */
type Looks = 'nothing' | 'others' | 'many';

/** `along`: it happens because of another record, which asks the fences alone. */
function looksOf(
  rulebook: Rulebook,
  caller: Caller,
  operation: Operation,
  collection: string,
  along = false,
): Looks {
  const own = permissionOf(rulebook, caller, operation, collection);
  if (own.grounds.length === 0 && operation !== 'read' && !along) return 'nothing';
  return looksOfSentences(rulebook, own);
}

/** The same whoever asks. */
function looksOfAll(rulebook: Rulebook, operation: Operation, collection: string): Looks {
  return looksOfSentences(rulebook, permission(rulebook, operation, collection));
}

function looksOfSentences(rulebook: Rulebook, { grounds, barriers, action, pair }: Permission): Looks {
  const { operation, collection } = pair;
  // Whether a role is held by a condition is asked anew in the transaction, and may be what lets them.
  const conditional = asksForConditional(rulebook, operation, collection);
  if (conditional && rangesOfRoles(rulebook).size > 0) return 'many';
  const bodies: (Condition | Operand)[] = [
    ...leavesOf([...grounds, ...barriers].map(({ node }) => node)).map(({ when }) => when),
    ...grounds.flatMap(({ rule }) => rule.stamps.map(({ value }) => value)),
    ...[...(action?.sets.values() ?? [])].flatMap((set) => (set.kind === 'value' ? [set.operand] : [])),
  ];
  const looks = bodies.map((body) => looksOfBody(rulebook, body));
  if (looks.includes('many')) return 'many';
  return conditional || looks.includes('others') ? 'others' : 'nothing';
}

/** Does any sentence of the operation ask for a role that somebody could hold by a condition? */
function asksForConditional(rulebook: Rulebook, operation: Operation, collection: string): boolean {
  const held = new Set(
    [...rulebook.roles.values()].flatMap(({ when, includes }) => (when === null ? [] : [...includes.keys()])),
  );
  if (held.size === 0) return false;
  const { grounds, barriers } = permission(rulebook, operation, collection);
  const asked = [
    ...grounds.flatMap(({ rule }) => [...rule.audience.roles]),
    ...barriers.flatMap(({ fence }) => [...fence.exempt]),
    ...leavesOf([...grounds, ...barriers].map(({ node }) => node)).flatMap(({ when }) =>
      nodesOf(when).flatMap((node) => (node.kind === 'has role' ? [node.role] : [])),
    ),
  ];
  return asked.some((role) => held.has(role));
}

const knownLooks = new WeakMap<Rulebook, WeakMap<Condition | Operand, Looks>>();

function looksOfBody(rulebook: Rulebook, body: Condition | Operand): Looks {
  const known = remembered(knownLooks, rulebook, () => new WeakMap<Condition | Operand, Looks>());
  return remembered(known, body, () => {
    const ranges = new Set<string>();
    rangesOf(rulebook, body, ranges, new Set());
    return ranges.size > 0 ? 'many' : isBeyond(body) ? 'others' : 'nothing';
  });
}

function isBeyond(body: Condition | Operand): boolean {
  return nodesOf(body).some((node) => {
    if (node.kind === 'path')
      return node.steps.length > 1 || (node.root === 'me' && node.steps[0]!.field !== 'id');
    // What is quantified over was told before.
    return node.kind === 'may' || node.kind === 'within';
  });
}
