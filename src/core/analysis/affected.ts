import { maysOf, type Condition } from '../ir/conditions.ts';
import { actionsOn, type Action, type Rulebook } from '../ir/rulebook.ts';
import type { Passage } from '../passage/passage.ts';
import { fieldNow } from '../passage/renames.ts';
import { PEOPLE, collectionOf, fieldOf } from '../types/schema.ts';
import type { Difference } from './differences.ts';

/**
 * The collections, by their new names, for which a change may make a difference to anybody: whose own sentences or fields it changes,
 * whose sentences look at records that it changes, and those that follow such. Null: it may be any of them, as it changes who callers
 * are, a let, or what decides about callers.
 */
export function affectedBy(
  before: Rulebook,
  after: Rulebook,
  { renamed, collections, fields, gone }: Passage,
  differences: readonly Difference[],
): Set<string> | null {
  const told = differences.filter(({ called }) => !called);
  if (told.some(({ what }) => /^(?:role|attribute|claim|let|time|test) /.test(what))) return null;
  if (textOf(before.ofTheCaller) !== textOf(after.ofTheCaller)) return null;
  if (textOf(selfSetIn(before)) !== textOf(selfSetIn(after))) return null;
  const now = (name: string) => renamed.collections.get(name) ?? name;
  const nowField = (collection: string, field: string) => fieldNow(renamed, collection, field).join('.');
  const same = (name: string) => name;
  const sameField = (collection: string, field: string) => `${collection}.${field}`;
  // Fields that hold something else afterwards, and collections that come or go.
  const remade = new Set([
    ...collections.filter(({ was }) => was === null).map(({ name }) => name),
    ...fields
      .filter(({ was, made }) => was === null || made)
      .map(({ collection, field }) => `${collection}.${field.name}`),
    ...gone.map(({ collection, field }) => (field === null ? collection : `${collection}.${field}`)),
  ]);
  const looksAt = (of: unknown, name: typeof now, field: typeof nowField) =>
    [...mentioned(of, name, field)].some((each) => remade.has(each));
  for (const [rulebook, name, field] of [
    [before, now, nowField],
    [after, same, sameField],
  ] as const)
    if (
      looksAt([...rulebook.attributes.values()], name, field) ||
      looksAt([...rulebook.roles.values()], name, field)
    )
      return null;
  // What a field holds, or that there is one more, is nothing that others follow; whom the sentences let is.
  const affected = new Set(
    told.flatMap(({ what, collection }) =>
      collection !== null && /^(?:rule|fence|collection) /.test(what) ? [collection] : [],
    ),
  );
  const sentences = [
    ...[...before.rules, ...before.fences].map((each) => ({
      ...sentence(each, now),
      looks: looksAt(each.when, now, nowField),
    })),
    ...[...after.rules, ...after.fences].map((each) => ({
      ...sentence(each, same),
      looks: looksAt(each.when, same, sameField),
    })),
  ];
  for (const { collection, looks } of sentences) if (looks) affected.add(collection);
  for (let size = -1; size !== affected.size;) {
    size = affected.size;
    for (const { collection, follows } of sentences)
      if (follows.some((other) => affected.has(other))) affected.add(collection);
  }
  for (const { collection } of told) if (collection !== null) affected.add(collection);
  for (const name of remade) affected.add(name.split('.')[0]!);
  return affected;
}

/** What people may set in their own entry though it decides about them. */
function selfSetIn({ schema }: Rulebook): string[] {
  return [...collectionOf(schema, PEOPLE).fields.values()].flatMap(({ name, selfSet }) =>
    selfSet ? name : [],
  );
}

/**
 * May a change make a difference to who can carry out an action? Where it does to the collection itself, where the action is another one, and
 * where it does to what is pointed at: whoever gives a reference must be able to read the record. `was` and `is`: the collection's names.
 */
export function actsAffected(
  before: Rulebook,
  after: Rulebook,
  affected: ReadonlySet<string> | null,
  { was, is }: { readonly was: string | null; readonly is: string | null },
): boolean {
  if (affected === null || affected.has((is ?? was)!)) return true;
  const of = (rulebook: Rulebook, name: string | null) => (name === null ? [] : actionsOn(rulebook, name));
  const [old, now] = [of(before, was), of(after, is)];
  const said = (actions: readonly Action[]) =>
    JSON.stringify(actions.map(({ name, parameters, sets }) => [name, [...parameters], [...sets]]));
  if (said(old) !== said(now)) return true;
  const pointed = now.flatMap(({ collection, parameters, sets }) => [
    ...[...parameters.values()].map(({ type }) => type),
    ...[...sets.keys()].map((field) => fieldOf(after.schema, collection, field)!.type),
  ]);
  return pointed.some((type) => type.kind === 'ref' && affected.has(type.collection));
}

function sentence(
  { collection, when }: { readonly collection: string; readonly when: Condition },
  name: (collection: string) => string,
) {
  return { collection: name(collection), follows: maysOf(when).map((may) => name(may.collection)) };
}

/** Collections, and fields as `collection.field`, of which something of the small form speaks. */
function mentioned(
  of: unknown,
  name: (collection: string) => string,
  field: (collection: string, field: string) => string,
  found = new Set<string>(),
): Set<string> {
  if (of instanceof Map || of instanceof Set || Array.isArray(of)) {
    for (const each of of) mentioned(each, name, field, found);
  } else if (typeof of === 'object' && of !== null) {
    const { collection, field: its } = of as { collection?: unknown; field?: unknown };
    if (typeof collection === 'string') {
      found.add(name(collection));
      if (typeof its === 'string') found.add(field(collection, its));
    }
    for (const each of Object.values(of)) mentioned(each, name, field, found);
  }
  return found;
}

function textOf(of: unknown): string {
  return JSON.stringify(of, (_, value: unknown) =>
    value instanceof Map || value instanceof Set ? [...value] : value,
  );
}
