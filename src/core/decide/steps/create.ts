import type { Operand } from '../../ir/conditions.ts';
import type { Rulebook, Stamp } from '../../ir/rulebook.ts';
import { collectionOf, type Field } from '../../types/schema.ts';
import { simpleTypes } from '../../types/types.ts';
import { any, couldHold, leavesOf } from '../nodes.ts';
import type { Ground, Permission } from '../formula.ts';
import { ask, type Steps } from './asking.ts';
import { isTrue, referencesAmong, theMoment, type Values } from './change.ts';
import { nothingFollows, refused, type Verdict } from './verdict.ts';

/** Create rules with the very same stamps: they are tried together, and apart from all others. */
export interface CreateGroup {
  readonly stamps: readonly Stamp[];
  readonly grounds: readonly Ground[];
}

/**
 * Making a record. In this order, the first failure answering alone: fields that no rule takes, references that the caller
 * cannot read, a group of rules that is true for what it would make, and every fence; then what is required. Two groups that
 * would make different records leave open which one was meant: neither is made. `id`: of the new record.
 */
export function* creating<V>(
  rulebook: Rulebook,
  permission: Permission,
  supplied: ReadonlyMap<string, V>,
  id: V,
  values: Values<V>,
): Steps<V, Verdict<V>> {
  const names = [...supplied.keys()];
  const { fields } = collectionOf(rulebook.schema, permission.pair.collection);
  const uncovered = untaken(permission, names);
  if (uncovered.length > 0) return refused('not covered', uncovered);
  if (!couldHold(permission.record)) return refused('no rule');
  const references = referencesAmong(fields, supplied, values);
  const unreadable = references.length === 0 ? [] : yield* ask('references', { references });
  if (unreadable.length > 0) return refused('reference not readable', unreadable);
  const made: ReadonlyMap<string, V>[] = [];
  for (const group of createGroups(permission, names)) {
    const record = yield* completed(fields, supplied, group.stamps, id, values);
    const wanted = [
      any(
        group.grounds.map(({ node }) => node),
        'granted',
      ),
      permission.fenced,
      ...names.flatMap((name) => {
        const covering = group.grounds.filter(({ rule }) => rule.operations.get('create')!.has(name));
        return [
          any(
            covering.map(({ node }) => node),
            'granted',
          ),
          permission.field(name).fenced,
        ];
      }),
    ];
    const truths = yield* ask<V, 'truths'>('truths', {
      of: leavesOf(wanted),
      change: { kind: 'created', values: record },
      needs: wanted,
    });
    if (
      wanted.every((node) => isTrue(node, truths)) &&
      !made.some((each) => alike(fields, each, record, values))
    )
      made.push(record);
  }
  const [record] = made;
  if (record === undefined) return refused('no rule');
  if (made.length > 1) return refused('unclear');
  const empty = [...fields.values()].filter(
    ({ name, required }) => required && values.isMissing(record.get(name)!),
  );
  if (empty.length > 0)
    return {
      ...refused(
        'value required',
        empty.map(({ name }) => name),
      ),
      values: record,
    };
  return { allowed: true, values: record, follows: nothingFollows };
}

/**
 * The groups of create rules that could take these fields, by name alone: no supplied field is stamped by the group, and
 * each is covered by one of its rules.
 */
export function createGroups({ grounds }: Permission, names: readonly string[]): CreateGroup[] {
  const groups = new Map<string, Ground[]>();
  for (const ground of grounds) {
    const key = JSON.stringify(ground.rule.stamps);
    groups.set(key, [...(groups.get(key) ?? []), ground]);
  }
  return [...groups.values()]
    .map((members) => ({ stamps: members[0]!.rule.stamps, grounds: members }))
    .filter(({ stamps }) => !stamps.some((stamp) => names.includes(stamp.field)))
    .filter((group) =>
      names.every((name) => group.grounds.some(({ rule }) => rule.operations.get('create')!.has(name))),
    );
}

/** The supplied fields that no group could take: covered by none, stamped wherever they are covered, or fenced. */
function untaken(permission: Permission, names: readonly string[]): string[] {
  return names.filter((name) => {
    const taken = permission.grounds.some(
      ({ rule }) =>
        rule.operations.get('create')!.has(name) && !rule.stamps.some((stamp) => stamp.field === name),
    );
    return !taken || !couldHold(permission.field(name).fenced);
  });
}

/** A new record: what is supplied, then stamps, then defaults. A field that is supplied as missing keeps no default. */
export function* completed<V>(
  fields: ReadonlyMap<string, Field>,
  supplied: ReadonlyMap<string, V>,
  stamps: readonly Stamp[],
  id: V,
  values: Values<V>,
): Steps<V, ReadonlyMap<string, V>> {
  const stamped = new Map(stamps.map(({ field, value }) => [field, value]));
  const filled = [...fields.values()].flatMap((field): { name: string; operand: Operand }[] => {
    if (field.name === 'id') return [];
    if (field.system) return [{ name: field.name, operand: theMoment }];
    const stamp = stamped.get(field.name);
    if (stamp !== undefined) return [{ name: field.name, operand: stamp }];
    if (supplied.has(field.name) || field.default === null) return [];
    const operand: Operand =
      field.default.kind === 'now'
        ? { kind: 'now', type: simpleTypes.timestamp }
        : { kind: 'literal', value: field.default.value, type: field.type };
    return [{ name: field.name, operand }];
  });
  const worked = yield* ask<V, 'values'>('values', { operands: filled.map(({ operand }) => operand) });
  const known = new Map(filled.map(({ name }, index) => [name, worked[index]!]));
  return new Map(
    [...fields.values()].map(({ name, type }) => [
      name,
      name === 'id' ? id : (known.get(name) ?? supplied.get(name) ?? values.missing(type)),
    ]),
  );
}

function alike<V>(
  fields: ReadonlyMap<string, Field>,
  one: ReadonlyMap<string, V>,
  other: ReadonlyMap<string, V>,
  { same }: Values<V>,
): boolean {
  return [...fields.values()].every(
    ({ name, type }) => same(type, one.get(name)!, other.get(name)!) === true,
  );
}
