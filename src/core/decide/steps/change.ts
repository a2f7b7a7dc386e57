import type { Operand } from '../../ir/conditions.ts';
import type { Action, Rulebook, Stamp } from '../../ir/rulebook.ts';
import { collectionOf } from '../../types/schema.ts';
import { simpleTypes, type Type } from '../../types/types.ts';
import { couldHold, holdsBy, leavesOf, type Node, type TrueOf } from '../nodes.ts';
import type { Ground, Permission } from '../formula.ts';
import { raises } from '../permission.ts';
import { ask, type Reference, type Steps } from './asking.ts';
import { nothingFollows, refused, type Verdict } from './verdict.ts';

/** Are two values of a field the same? Null where that cannot be told yet. */
export type Same<V> = (type: Type, one: V, other: V) => boolean | null;

/** A value that is missing. */
export type IsMissing<V> = (value: V) => boolean;

/** How values are held: by whoever carries the steps out. */
export interface Values<V> {
  readonly same: Same<V>;
  readonly isMissing: IsMissing<V>;
  readonly missing: (type: Type) => V;
}

/**
 * Changing a record by supplying fields. In this order, the first failure answering alone: readable, precondition, fields
 * that no rule takes or that would raise the caller, references that the caller cannot read, stamps, a rule for each
 * field true on both sides, and every fence; then what is required, and trees.
 */
export function* updating<V>(
  rulebook: Rulebook,
  permission: Permission,
  supplied: ReadonlyMap<string, V>,
  values: Values<V>,
): Steps<V, Verdict<V>> {
  const names = [...supplied.keys()];
  const { collection } = permission.pair;
  const { fields } = collectionOf(rulebook.schema, collection);
  if (!(yield* ask('readable', {}))) return refused('not readable');
  if (!(yield* ask('precondition', {}))) return refused('changed meanwhile');
  const uncovered = names.filter((name) => !couldHold(permission.field(name).whole));
  const raising = names.filter((name) => raises(rulebook, collection, name));
  if (raising.length > 0 && (yield* ask('own record', {}))) uncovered.push(...raising);
  if (uncovered.length > 0) return refused('not covered', [...new Set(uncovered)]);
  // With nothing supplied there may be no rule at all.
  if (!couldHold(permission.granted)) return refused('no rule');
  const references = referencesAmong(fields, supplied, values);
  const unreadable = references.length === 0 ? [] : yield* ask('references', { references });
  if (unreadable.length > 0) return refused('reference not readable', unreadable);
  return yield* settling(rulebook, permission, supplied, names, values);
}

/**
 * Carrying out an action. In the same order; the parameters are what is supplied, and what the action sets is what
 * changes.
 */
export function* acting<V>(
  rulebook: Rulebook,
  permission: Permission,
  action: Action,
  given: ReadonlyMap<string, V>,
  values: Values<V>,
): Steps<V, Verdict<V>> {
  if (!(yield* ask('readable', {}))) return refused('not readable');
  if (!(yield* ask('precondition', {}))) return refused('changed meanwhile');
  if (!couldHold(permission.granted)) return refused('no rule');
  const raising = [...action.sets.keys()].filter((field) => raises(rulebook, action.collection, field));
  if (raising.length > 0 && (yield* ask('own record', {}))) return refused('own record', raising);
  const references = referencesAmong(action.parameters, given, values);
  const unreadable = references.length === 0 ? [] : yield* ask('references', { references });
  if (unreadable.length > 0) return refused('reference not readable', unreadable);
  const set = yield* valuesSet(rulebook, action, given, values);
  return yield* settling(rulebook, permission, set, [], values);
}

/** What an action sets, by field. A parameter that is not given is missing. */
export function* valuesSet<V>(
  rulebook: Rulebook,
  { collection, sets }: Action,
  given: ReadonlyMap<string, V>,
  values: Values<V>,
): Steps<V, Map<string, V>> {
  const { fields } = collectionOf(rulebook.schema, collection);
  const fixed = [...sets].flatMap(([field, set]) =>
    set.kind === 'value' ? [{ field, operand: set.operand }] : [],
  );
  const worked =
    fixed.length === 0
      ? []
      : yield* ask<V, 'values'>('values', { operands: fixed.map(({ operand }) => operand) });
  const known = new Map(fixed.map(({ field }, index) => [field, worked[index]!]));
  return new Map(
    [...sets].map(([field, set]) => {
      const missing = values.missing(fields.get(field)!.type);
      switch (set.kind) {
        case 'missing':
          return [field, missing];
        case 'parameter':
          return [field, given.get(set.name) ?? missing];
        case 'value':
          return [field, known.get(field)!];
      }
    }),
  );
}

/**
 * Stamps, and then the conditions. A rule whose stamps would be set is a candidate where it is true on both sides with
 * its own stamps alone. Candidates that differ refuse, and so does one that is no longer true with the stamps of all:
 * nothing is dropped. A rule that stamps and is no candidate counts for nothing.
 */
function* settling<V>(
  rulebook: Rulebook,
  permission: Permission,
  base: ReadonlyMap<string, V>,
  /** The fields that the caller supplies: each must be covered. */
  names: readonly string[],
  values: Values<V>,
): Steps<V, Verdict<V>> {
  const { collection } = permission.pair;
  const { fields } = collectionOf(rulebook.schema, collection);
  const wanted = [permission.record, ...names.map((name) => permission.field(name).whole)];
  const leaves = leavesOf(wanted);
  const stamping = stampersOf(permission, names);
  const candidates: { readonly ground: Ground; readonly stamps: ReadonlyMap<string, V> }[] = [];
  let truths: ReadonlySet<TrueOf> | null = null;
  const changed = (stamps: ReadonlyMap<string, V>) => withTime(base, stamps);
  for (const ground of stamping) {
    const stamps = yield* stampValues<V>(ground.rule.stamps);
    const change = { kind: 'changed', values: yield* changed(stamps) } as const;
    // Of a single one all is asked at once: where it is a candidate, nothing changes any more.
    const isOnly = stamping.length === 1;
    const of = isOnly ? leaves : leavesOf([ground.node]);
    const needs = isOnly ? [...wanted, ground.node] : [ground.node];
    const found = yield* ask<V, 'truths'>('truths', { of, change, needs });
    if (!isTrue(ground.node, found)) continue;
    candidates.push({ ground, stamps });
    if (isOnly) truths = found;
  }
  const joined = new Map<string, V>();
  for (const { stamps } of candidates)
    for (const [field, value] of stamps) {
      const differs =
        joined.has(field) && values.same(fields.get(field)!.type, joined.get(field)!, value) !== true;
      if (differs || base.has(field)) return refused('stamps differ', [field]);
      joined.set(field, value);
    }
  const raising = [...joined.keys()].filter((field) => raises(rulebook, collection, field));
  if (raising.length > 0 && (yield* ask('own record', {}))) return refused('own record', raising);
  const written = yield* changed(joined);
  truths ??= yield* ask<V, 'truths'>('truths', {
    of: leaves,
    change: { kind: 'changed', values: written },
    needs: [...wanted, ...candidates.map(({ ground }) => ground.node)],
  });
  const undone = candidates.find(({ ground }) => !isTrue(ground.node, truths!));
  if (undone !== undefined) return { ...refused('stamp undoes'), values: written };
  const idle = new Set(
    stamping.filter((ground) => !candidates.some((each) => each.ground === ground)).map(({ leaf }) => leaf),
  );
  const counting = new Set([...truths].filter((leaf) => !idle.has(leaf)));
  const lacking = names.filter((name) => !isTrue(permission.field(name).whole, counting));
  if (lacking.length > 0 || !isTrue(permission.record, counting))
    return { ...refused('no rule', lacking), values: written };
  const empty = [...written].filter(
    ([field, value]) => fields.get(field)!.required && values.isMissing(value),
  );
  if (empty.length > 0)
    return {
      ...refused(
        'value required',
        empty.map(([field]) => field),
      ),
      values: written,
    };
  const { tree } = collectionOf(rulebook.schema, collection);
  const parent = tree === null ? undefined : written.get(tree);
  if (
    parent !== undefined &&
    !values.isMissing(parent) &&
    (yield* ask<V, 'circle'>('circle', { field: tree!, parent }))
  )
    return { ...refused('circle', [tree!]), values: written };
  return { allowed: true, values: written, follows: nothingFollows };
}

/**
 * The rules whose stamps would be set: those of an action, and on update those about update alone that cover a field that is
 * supplied.
 */
export function stampersOf(
  { grounds, action, pair }: Permission,
  names: readonly string[],
): readonly Ground[] {
  return grounds.filter(
    ({ rule }) =>
      rule.stamps.length > 0 &&
      (action !== null ||
        (rule.operations.size === 1 && names.some((name) => rule.operations.get(pair.operation)!.has(name)))),
  );
}

/** Does a formula hold where just these conditions are true? */
export function isTrue(node: Node, truths: ReadonlySet<TrueOf>): boolean {
  return holdsBy(node, (leaf) => truths.has(leaf));
}

/** The values of stamps, by field. */
export function* stampValues<V>(stamps: readonly Stamp[]): Steps<V, Map<string, V>> {
  const worked = yield* ask<V, 'values'>('values', { operands: stamps.map(({ value }) => value) });
  return new Map(stamps.map(({ field }, index) => [field, worked[index]!]));
}

/** A change is written down with its time; where nothing changes, nothing is. */
function* withTime<V>(
  base: ReadonlyMap<string, V>,
  stamps: ReadonlyMap<string, V>,
): Steps<V, Map<string, V>> {
  const changed = new Map([...base, ...stamps]);
  if (changed.size === 0) return changed;
  const [now] = yield* ask<V, 'values'>('values', { operands: [theMoment] });
  return changed.set('updated_at', now!);
}

export const theMoment: Operand = { kind: 'now', type: simpleTypes.timestamp };

/** The references among what is supplied, with what they point at. */
export function referencesAmong<V>(
  types: ReadonlyMap<string, { readonly type: Type }>,
  supplied: ReadonlyMap<string, V>,
  { isMissing }: Values<V>,
): Reference<V>[] {
  return [...supplied].flatMap(([name, target]) => {
    const type = types.get(name)?.type;
    return type?.kind !== 'ref' || isMissing(target) ? [] : [{ name, collection: type.collection, target }];
  });
}
