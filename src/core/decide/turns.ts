import { nodesOf, type Condition, type Operand } from '../ir/conditions.ts';
import type { Operation, Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import { leavesOf } from './nodes.ts';
import { permission } from './permission.ts';
import { SHARE, shareableCollections } from './shares.ts';
import { referrersOf } from './steps/delete.ts';

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
 * What a write of this kind may meet, whoever asks. `refers`: does it give a reference? Cost: worked out once for each
 * rulebook.
 */
export function meetingOf(
  rulebook: Rulebook,
  collection: string,
  operations: readonly Operation[],
  refers: boolean,
): Meeting {
  const { groups, taking } = turnsOf(rulebook);
  const group = groups.get(collection)!;
  if (taking.has(collection)) return { kind: 'group', group };
  const beyond =
    refers ||
    (operations.includes('delete') && referrersOf(rulebook, collection).length > 0) ||
    ['read', ...operations].some((operation) => looksBeyond(rulebook, operation, collection));
  return beyond ? { kind: 'others', group } : { kind: 'alone' };
}

interface Turns {
  /** The group of each collection: those that are joined by a decision on the one that quantifies over the other. */
  readonly groups: ReadonlyMap<string, string>;
  /** Collections whose writes quantify, or write what some sentence, role or attribute quantifies over. */
  readonly taking: ReadonlySet<string>;
}

const known = new WeakMap<Rulebook, Turns>();

function turnsOf(rulebook: Rulebook): Turns {
  let turns = known.get(rulebook);
  if (turns === undefined) known.set(rulebook, (turns = workOut(rulebook)));
  return turns;
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
  const taking = new Set<string>();
  for (const name of names) {
    for (const range of deciding.get(name)!) join(name, range);
    const along = followersOf(rulebook, name);
    for (const each of along) join(name, each);
    if ([name, ...along].some((each) => ranged.has(each) || deciding.get(each)!.size > 0)) taking.add(name);
  }
  return { groups, taking };
}

/** The collections that decisions on writing this one quantify over, in any of their operations. */
function decidingOn(rulebook: Rulebook, collection: string): Set<string> {
  const actions = [...rulebook.actions.values()].filter((action) => action.collection === collection);
  const operations = ['read', 'create', 'update', 'delete', ...actions.map(({ name }) => name)];
  if (shareableCollections(rulebook).has(collection)) operations.push(SHARE);
  const found = new Set<string>();
  for (const operation of operations) rangesOfPermission(rulebook, operation, collection, found, new Set());
  return found;
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

/** The collections whose records go along when one of this is deleted, or lose a reference. */
function followersOf(rulebook: Rulebook, collection: string): Set<string> {
  const found = new Set<string>();
  const queue = new Set([collection]);
  for (const target of queue)
    for (const { holder, field } of referrersOf(rulebook, target)) {
      found.add(holder);
      if (field.onDelete === 'remove') queue.add(holder);
    }
  return found;
}

/** Does any sentence of the operation look at anything but the record in hand and who the caller is? */
function looksBeyond(rulebook: Rulebook, operation: Operation, collection: string): boolean {
  const { grounds, barriers, action } = permission(rulebook, operation, collection);
  const conditions = leavesOf([...grounds, ...barriers].map(({ node }) => node)).map(({ when }) => when);
  const values = grounds.flatMap(({ rule }) => rule.stamps.map(({ value }) => value));
  const { tree } = collectionOf(rulebook.schema, collection);
  return (
    // A tree is looked up to see that nothing lies below itself.
    (tree !== null && operation === 'update') ||
    shareableCollections(rulebook).has(collection) ||
    [...rulebook.roles.values()].some(({ when }) => when !== null) ||
    [...(action?.sets.values() ?? [])].some((set) => set.kind === 'value' && isBeyond(set.operand)) ||
    [...conditions, ...values].some(isBeyond)
  );
}

function isBeyond(body: Condition | Operand): boolean {
  return nodesOf(body).some((node) => {
    if (node.kind === 'path')
      return node.steps.length > 1 || (node.root === 'me' && node.steps[0]!.field !== 'id');
    return node.kind === 'some' || node.kind === 'count' || node.kind === 'may' || node.kind === 'within';
  });
}
