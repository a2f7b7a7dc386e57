import type { Rulebook } from '../../ir/rulebook.ts';
import type { Caller } from '../caller.ts';
import { couldHold, leavesOf, type Node } from '../nodes.ts';
import type { Permission } from '../formula.ts';
import { permissionOf, raises } from '../permission.ts';
import { ask, type Steps } from './asking.ts';
import { isTrue } from './change.ts';
import { referrersOf, type Referrer } from './referrers.ts';
import {
  nothingFollows,
  refused,
  type Cleared,
  type Follows,
  type RefusedBy,
  type Verdict,
} from './verdict.ts';

/** Records that one delete may take along: more than that is a job for the application, piece by piece. */
export const MOST_AFFECTED = 10_000;

/** Showing a record to others: readable, a rule that is true and every fence; and readable by the caller themself. */
export function* showing<V>(permission: Permission): Steps<V, Verdict<V>> {
  if (!(yield* ask('readable', {}))) return refused('not readable');
  const { record, granted, fenced } = permission;
  const truths = yield* ask<V, 'truths'>('truths', {
    of: leavesOf([record]),
    change: { kind: 'none' },
    needs: [record],
  });
  if (isTrue(record, truths)) return { allowed: true, values: new Map(), follows: nothingFollows };
  return refused(isTrue(granted, truths) && isTrue(fenced, truths) ? 'only shared' : 'no rule');
}

/**
 * Removing a record: readable, precondition, a delete rule that is true and every fence; and then what `on delete` says of
 * those that point at it: first which go along, over any number of steps, and then which of those that stay lose a
 * reference. No grants are asked for on these records, but every fence on them must let the caller do what happens to them,
 * and nobody's own entry loses what decides about them.
 */
export function* deleting<V>(
  rulebook: Rulebook,
  caller: Caller,
  permission: Permission,
  id: string,
): Steps<V, Verdict<V>> {
  if (!(yield* ask('readable', {}))) return refused('not readable');
  if (!(yield* ask('precondition', {}))) return refused('changed meanwhile');
  const truths = yield* ask<V, 'truths'>('truths', {
    of: leavesOf([permission.record]),
    change: { kind: 'none' },
    needs: [permission.record],
  });
  if (!isTrue(permission.record, truths)) return refused('no rule');
  const { collection } = permission.pair;
  const removed = new Map<string, Set<string>>([[collection, new Set([id])]]);
  const cleared: Cleared[] = [];
  let affected = 0;
  /** Those that point there by the field and do not go along yet; or why one of them stops it. */
  const pointing = function* (
    { holder, field }: Referrer,
    targets: readonly string[],
  ): Steps<V, string[] | RefusedBy> {
    const found = yield* ask<V, 'referrers'>('referrers', { collection: holder, field: field.name, targets });
    const gone = removed.get(holder);
    const ids = found.filter((each) => gone?.has(each) !== true);
    if (ids.length === 0) return ids;
    if ((affected += ids.length) > MOST_AFFECTED) return 'still referenced';
    if (field.onDelete === 'clear') {
      const isOwnAmong = caller.person !== null && ids.includes(caller.person.id);
      return isOwnAmong && raises(rulebook, holder, field.name) ? 'follows fenced' : ids;
    }
    return (yield* passed(holder, ids, null)) ? ids : 'follows fenced';
  };
  /** Does every fence let it happen to these records? */
  const passed = function* (
    holder: string,
    ids: readonly string[],
    clearing: { readonly field: string; readonly follows: Follows } | null,
  ): Steps<V, boolean> {
    const fences = fencesAlong(rulebook, caller, holder, clearing === null ? null : clearing.field);
    if (!fences.every(couldHold)) return false;
    if (fences.length === 0) return true;
    const of = leavesOf(fences);
    return yield* ask<V, 'passed'>('passed', {
      of,
      collection: holder,
      ids,
      after: clearing?.follows ?? null,
    });
  };
  const queue = [{ collection, targets: [id] as readonly string[] }];
  for (const { collection: target, targets } of queue)
    for (const referrer of referrersOf(rulebook, target, 'remove')) {
      const ids = yield* pointing(referrer, targets);
      if (typeof ids === 'string') return refused(ids);
      if (ids.length === 0) continue;
      const gone = removed.get(referrer.holder) ?? new Set<string>();
      removed.set(referrer.holder, gone);
      for (const each of ids) gone.add(each);
      queue.push({ collection: referrer.holder, targets: ids });
    }
  // Only now is it known what goes along: that loses no reference besides.
  for (const [target, gone] of removed)
    for (const referrer of referrersOf(rulebook, target, 'clear')) {
      const targets = [...gone];
      const ids = yield* pointing(referrer, targets);
      if (typeof ids === 'string') return refused(ids);
      const { holder, field } = referrer;
      if (ids.length > 0) cleared.push({ collection: holder, field: field.name, ids, targets });
    }
  // And only now what all of it comes to, which is what each fence is asked of besides.
  const all = { removed: new Map([...removed].map(([name, gone]) => [name, [...gone]])), cleared };
  for (const { collection: holder, field, ids } of cleared)
    if (!(yield* passed(holder, ids, { field, follows: all }))) return refused('follows fenced');
  if (yield* ask<V, 'held'>('held', { removed })) return refused('still referenced');
  const others = all.removed.get(collection)!.filter((each) => each !== id);
  const follows = { removed: new Map(all.removed).set(collection, others), cleared };
  return { allowed: true, values: new Map(), follows };
}

/**
 * The fences that concern the caller on what happens to a record because another is deleted: it is deleted itself, or has the
 * field cleared. A read fence hides the record from whatever would change it, so it counts, too.
 */
export function fencesAlong(
  rulebook: Rulebook,
  caller: Caller,
  holder: string,
  cleared: string | null,
): Node[] {
  const reading = permissionOf(rulebook, caller, 'read', holder);
  const writing = permissionOf(rulebook, caller, cleared === null ? 'delete' : 'update', holder);
  return [
    ...reading.barriers.filter(({ about }) => about === null),
    ...writing.barriers.filter(({ about }) => about === null || (cleared !== null && about.has(cleared))),
  ].map(({ node }) => node);
}
