import { leavesOf, type Node } from '../../decide/nodes.ts';
import { SHARE } from '../../decide/shares.ts';
import { permission, raises } from '../../decide/permission.ts';
import { referrersOf } from '../../decide/steps/referrers.ts';
import { Decider } from '../../evaluate/decider.ts';
import { maysOf } from '../../ir/conditions.ts';
import type { Rulebook } from '../../ir/rulebook.ts';
import { collectionOf } from '../../types/schema.ts';
import type { Size } from './declarations.ts';
import { asking } from './asked.ts';
import { Encoder } from './encode.ts';
import type { Solve } from './examples.ts';
import { bothWays, notDecided, type Between, type Known, type OneWay } from './one-way.ts';
import { and } from './terms.ts';
import type { Question } from './ways.ts';
import type { Found } from './worlds.ts';

/** A right that is compared: with a record as such (`fields` null), or with fields that the same formulas are about. */
export interface Right {
  readonly collection: string;
  readonly operation: string;
  readonly fields: readonly string[] | null;
}

/** What a change does to a right, for everybody and every record that there could be. */
export interface Compared {
  readonly right: Right;
  readonly more: OneWay;
  readonly less: OneWay;
}

/**
 * Can two rulebooks be compared at all? What is the same about a caller and a record must be the same on both sides: collections,
 * attributes, and by which condition roles are held. Null: they can; else why not.
 */
export function whyNotComparable(before: Rulebook, after: Rulebook): string | null {
  const schemaOf = ({ schema }: Rulebook) =>
    JSON.stringify(
      [...schema.values()].map(({ name, fields, tree }) => [
        name,
        tree,
        [...fields.values()].map(({ name: field, type, required, onDelete }) => [
          field,
          type,
          required,
          onDelete,
        ]),
      ]),
    );
  if (schemaOf(before) !== schemaOf(after)) return 'the collections are not the same';
  if (before.timeZone !== after.timeZone) return 'the time zone is not the same';
  if (JSON.stringify([...before.attributes]) !== JSON.stringify([...after.attributes]))
    return 'the attributes are not the same';
  const rolesOf = ({ roles }: Rulebook) =>
    JSON.stringify([...roles.values()].map(({ name, when }) => JSON.stringify([name, when])).toSorted());
  return rolesOf(before) === rolesOf(after) ? null : 'the roles, or who holds them, are not the same';
}

/**
 * Compares one right under two rulebooks that can be compared, in both directions. `nobody` is a proof; an example is borne out by the
 * closures of both. `known`: examples for other rights to read the same collection. Cost: what `solve` allows, up to eight questions.
 */
export async function compareRight(
  before: Rulebook,
  after: Rulebook,
  right: Right,
  solve: Solve,
  known?: Known,
): Promise<Compared> {
  const why = whyRightIsOpen(before, after, right);
  if (why !== null) return { right, ...notDecided(why) };
  const asked = (allowing: Rulebook, refusing: Rulebook) => rightBetween(allowing, refusing, right);
  return { right, ...(await bothWays(before, after, asked, solve, known)) };
}

/** Why nothing is asked of the solver about it; null: it is. */
export function whyRightIsOpen(before: Rulebook, after: Rulebook, right: Right): string | null {
  return right.operation === 'delete' && alongDiffers(before, after, right.collection)
    ? 'deleting one takes others along, and what may stop that is not the same'
    : null;
}

/**
 * Could what goes along with a deletion, over any number of steps, stop it under one of them alone? Where it could not, the two differ by
 * who may delete the record itself, and by nothing else.
 */
function alongDiffers(before: Rulebook, after: Rulebook, collection: string): boolean {
  const holders = new Set<string>();
  const removed = new Set([collection]);
  for (const target of removed)
    for (const onDelete of ['remove', 'clear'] as const)
      for (const { holder, field } of referrersOf(after, target, onDelete)) {
        holders.add(holder);
        if (onDelete === 'remove') removed.add(holder);
        // Nobody clears in their own entry what decides about them.
        else if (raises(before, holder, field.name) !== raises(after, holder, field.name)) return true;
      }
  if (holders.size === 0) return false;
  const changed = changedCollections(before, after);
  const fencesOf = ({ fences, roles }: Rulebook) => [
    fences.filter((fence) => holders.has(fence.collection)),
    [...roles],
  ];
  const looksFurther = [...holders].some((holder) =>
    (['read', 'delete', 'update'] as const).some((operation) =>
      permission(after, operation, holder).barriers.some(({ node }) =>
        leavesOf([node]).some(({ when }) => maysOf(when).some(({ collection: of }) => changed.has(of))),
      ),
    ),
  );
  const [was, is] = [before, after].map((each) => JSON.stringify(fencesOf(each), withoutPlaces));
  return looksFurther || was !== is;
}

/** What is asked of the solver: see `whyRightIsOpen`. */
export function rightBetween(allowing: Rulebook, refusing: Rulebook, right: Right): Between {
  return {
    collection: right.collection,
    asks: [(size) => question(allowing, refusing, right, size)],
    isAllowed: (rulebook, found) => isAllowed(rulebook, right, found),
  };
}

function question(allowing: Rulebook, refusing: Rulebook, right: Right, size: Size): Question {
  const { collection } = right;
  const encoder = new Encoder(allowing, size);
  const { declarations } = encoder;
  declarations.constant('r', declarations.sort(collection));
  declarations.constant('now', 'Int');
  encoder.somebody('');
  encoder.assertions.push(encoder.there(collection, 'r'));
  const allowed = allowedTerm(encoder, right);
  const changed = changedCollections(allowing, refusing);
  const refused = encoder.denied(refusing, changed, () => allowedTerm(encoder, right));
  const goes = right.operation === 'delete' ? [encoder.unheld(collection, 'r')] : [];
  encoder.assertions.push(and([allowed, refused, ...goes]));
  return { encoder, ...encoder.question(['now', 'r']), request: null };
}

function allowedTerm(encoder: Encoder, { collection, operation, fields }: Right): string {
  const field = fields?.[0] ?? null;
  const of = permission(encoder.rulebook, operation, collection);
  const asked = asking('r');
  return encoder.within(collection, () =>
    and([
      // What one cannot read one cannot do anything with.
      encoder.permitted('read', collection, { ...asked, world: 'before' }),
      encoder.permitted(operation, collection, asked),
      ...(field === null ? [] : [encoder.formula(of.field(field).whole, { ...asked, field })]),
    ]),
  );
}

function isAllowed(
  rulebook: Rulebook,
  { collection, operation, fields }: Right,
  { caller, record, world }: Found,
): boolean {
  const field = fields?.[0] ?? null;
  const decider = new Decider(rulebook, caller, world);
  if (operation === 'read') {
    if (field !== null) return decider.shown(collection, record)?.has(field) === true;
    return decider.isReadable(collection, record);
  }
  const question = {
    operation: operation === 'share' ? SHARE : operation,
    collection,
    record,
    values: new Map(),
  };
  return decider.isReadable(collection, record) && decider.decide(question).allowed;
}

/**
 * The rights whose formulas are not the very same on both sides, fields with the same formulas together. What a formula looks at
 * elsewhere makes it another one, too.
 */
export function rightsThatDiffer(before: Rulebook, after: Rulebook): Right[] {
  const changed = changedCollections(before, after);
  if (changed.size === 0 && sentencesOf(before) === sentencesOf(after)) return [];
  return [...after.schema.keys()].flatMap((collection): Right[] => {
    const alike = new Map<string, string[]>();
    for (const field of collectionOf(after.schema, collection).fields.keys()) {
      if (field === 'id') continue;
      const right: Right = { collection, operation: 'read', fields: [field] };
      const key = JSON.stringify([textOf(before, right), textOf(after, right)]);
      alike.set(key, [...(alike.get(key) ?? []), field]);
    }
    const rights: Right[] = [
      { collection, operation: 'read', fields: null },
      ...[...alike.values()].map((fields): Right => ({ collection, operation: 'read', fields })),
      { collection, operation: 'delete', fields: null },
      { collection, operation: 'share', fields: null },
    ];
    return rights.filter(
      (right) =>
        textOf(before, right) !== textOf(after, right) ||
        (right.operation === 'delete' && alongDiffers(before, after, collection)) ||
        [before, after].some((each) => followed(each, right).some((name) => changed.has(name))),
    );
  });
}

/**
 * Collections of which some right may be another one: by their own sentences, by what decides about callers, or by those that these
 * follow, over any number of them.
 */
export function changedCollections(before: Rulebook, after: Rulebook): ReadonlySet<string> {
  const sentencesAbout = ({ rules, fences }: Rulebook, collection: string) =>
    [...rules, ...fences].filter((each) => each.collection === collection);
  const textsAbout = (rulebook: Rulebook, collection: string) =>
    JSON.stringify(sentencesAbout(rulebook, collection), withoutPlaces);
  const all = [...after.schema.keys()];
  const isRaised = (name: string) =>
    [...collectionOf(after.schema, name).fields.keys()].some(
      (field) => raises(before, name, field) !== raises(after, name, field),
    );
  const changed = new Set(
    all.filter((name) => textsAbout(before, name) !== textsAbout(after, name) || isRaised(name)),
  );
  if (JSON.stringify([...before.roles], withoutPlaces) !== JSON.stringify([...after.roles], withoutPlaces))
    for (const name of all) changed.add(name);
  const follows = (name: string) =>
    [before, after].some((each) =>
      sentencesAbout(each, name).some(({ when }) =>
        maysOf(when).some(({ collection }) => changed.has(collection)),
      ),
    );
  for (let size = -1; size !== changed.size;) {
    size = changed.size;
    for (const name of all) if (follows(name)) changed.add(name);
  }
  return changed;
}

export const withoutPlaces = (key: string, value: unknown) =>
  key === 'span' || key === 'id' || key === 'rule' || key === 'text'
    ? undefined
    : value instanceof Set || value instanceof Map
      ? [...value]
      : value;

function sentencesOf({ rules, fences, roles }: Rulebook): string {
  return JSON.stringify([rules, fences, [...roles]], withoutPlaces);
}

/** Everything that decides the right: its own formulas, and those by which it can be shared. */
function nodesOf(rulebook: Rulebook, { collection, operation, fields }: Right): Node[] {
  const field = fields?.[0] ?? null;
  const of = permission(rulebook, operation, collection);
  return [
    permission(rulebook, 'read', collection).record,
    permission(rulebook, SHARE, collection).record,
    of.record,
    ...(field === null ? [] : [of.field(field).whole]),
  ];
}

function textOf(rulebook: Rulebook, right: Right): string {
  return JSON.stringify([nodesOf(rulebook, right), [...rulebook.roles]], withoutPlaces);
}

/** The collections of which it is asked what one may do with their records. */
function followed(rulebook: Rulebook, right: Right): string[] {
  return leavesOf(nodesOf(rulebook, right)).flatMap(({ when }) =>
    maysOf(when).map(({ collection }) => collection),
  );
}
