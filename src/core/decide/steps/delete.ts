import type { Rulebook } from '../../ir/rulebook.ts';
import type { Field } from '../../types/schema.ts';
import type { Caller } from '../caller.ts';
import { couldHold, leavesOf, type Node } from '../nodes.ts';
import type { Permission } from '../formula.ts';
import { permissionOf, raises } from '../permission.ts';
import { ask, type Steps } from './asking.ts';
import { isTrue } from './change.ts';
import { nothingFollows, refused, type Cleared, type RefusedBy, type Verdict } from './verdict.ts';

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
    const clearing = field.onDelete === 'clear';
    const isOwnAmong = caller.person !== null && ids.includes(caller.person.id);
    if (clearing && isOwnAmong && raises(rulebook, holder, field.name)) return 'follows fenced';
    const fences = fencesAlong(rulebook, caller, holder, clearing ? field.name : null);
    if (!fences.every(couldHold)) return 'follows fenced';
    const about = { of: leavesOf(fences), collection: holder, ids, cleared: clearing ? field.name : null };
    return fences.length === 0 || (yield* ask<V, 'passed'>('passed', about)) ? ids : 'follows fenced';
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
  if (yield* ask<V, 'held'>('held', { removed })) return refused('still referenced');
  removed.get(collection)!.delete(id);
  return {
    allowed: true,
    values: new Map(),
    follows: { removed: new Map([...removed].map(([name, ids]) => [name, [...ids]])), cleared },
  };
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

/** A field that points at records of a collection. */
export interface Referrer {
  readonly holder: string;
  readonly field: Field;
}

/** The fields that point at records of a collection, of which `on delete` says this. */
export function referrersOf(
  rulebook: Pick<Rulebook, 'schema'>,
  target: string,
  onDelete: 'remove' | 'clear' | 'refuse',
): Referrer[] {
  return [...rulebook.schema.values()].flatMap((collection) =>
    [...collection.fields.values()]
      .filter(
        ({ name, type, onDelete: does }) =>
          does === onDelete && type.kind === 'ref' && type.collection === target && name !== 'id',
      )
      .map((field) => ({ holder: collection.name, field })),
  );
}
