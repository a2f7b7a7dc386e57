import { permission, raises } from '../../decide/permission.ts';
import { SHARE, shareableCollections } from '../../decide/shares.ts';
import { Decider } from '../../evaluate/decider.ts';
import { maysOf } from '../../ir/conditions.ts';
import { actionKey, type Fence, type Rule, type Rulebook } from '../../ir/rulebook.ts';
import { collectionOf, type Field } from '../../types/schema.ts';
import { actionsOf } from '../outcomes.ts';
import { asking } from './asked.ts';
import { changedCollections, rightsThatDiffer, withoutPlaces, type Compared, type Right } from './compare.ts';
import type { Encoder } from './encode.ts';
import type { Solve } from './examples.ts';
import { bothWays, notDecided, type Between } from './one-way.ts';
import { and, not, or } from './terms.ts';
import { stampingOf, writesOf, type Requested } from './ways.ts';

/** What is written, beside what could be read, deleted and shared: see `compare.ts`, which says when two rulebooks can be compared. */

/**
 * The collections and operations by which something is written, and could be written by others than before: where their own sentences
 * are not the same, or those that they follow, or who may read what a reference points at.
 */
export function writesThatDiffer(before: Rulebook, after: Rulebook): Right[] {
  const changed = changedCollections(before, after);
  const readable = new Set(
    rightsThatDiffer(before, after)
      .filter(({ operation, fields }) => operation === 'read' && fields === null)
      .map(({ collection }) => collection),
  );
  return [...after.schema.values()].flatMap(({ name: collection, fields }): Right[] => {
    const pointsAt = (values: Iterable<Pick<Field, 'type'>>) =>
      [...values].some(({ type }) => type.kind === 'ref' && readable.has(type.collection));
    const isRaised = [...fields.keys()].some(
      (field) => raises(before, collection, field) !== raises(after, collection, field),
    );
    const differs = (operation: string) => {
      const [was, is] = [before, after].map((each) => sentencesFor(each, collection, operation));
      const action = after.actions.get(actionKey(collection, operation));
      return (
        JSON.stringify([was, declared(before, collection, operation)], withoutPlaces) !==
          JSON.stringify([is, declared(after, collection, operation)], withoutPlaces) ||
        [...was!, ...is!].some(({ when }) => maysOf(when).some((may) => changed.has(may.collection))) ||
        JSON.stringify([...before.roles], withoutPlaces) !==
          JSON.stringify([...after.roles], withoutPlaces) ||
        pointsAt(action === undefined ? fields.values() : action.parameters.values()) ||
        (isRaised && operation !== 'create') ||
        fieldsOf(before, collection) !== fieldsOf(after, collection)
      );
    };
    const operations = [
      'create',
      'update',
      ...new Set([...actionsOf(before, collection), ...actionsOf(after, collection)]),
    ];
    return operations.filter(differs).map((operation) => ({ collection, operation, fields: null }));
  });
}

/**
 * Compares by whom something can be written, in both directions: is there a request that one of them carries out and the other refuses?
 * `nobody` is a proof; an example is borne out by the closures of both. Cost: what `solve` allows, up to eight questions for each group of
 * rules that fill in the same.
 */
export async function compareWrite(
  before: Rulebook,
  after: Rulebook,
  right: Right,
  solve: Solve,
): Promise<Compared> {
  const why = whyWriteIsOpen(before, after, right);
  if (why !== null) return { right, ...notDecided(why) };
  const asked = (allowing: Rulebook, refusing: Rulebook) => writeBetween(allowing, refusing, right);
  return { right, ...(await bothWays(before, after, asked, solve)) };
}

/** Both must make the same record of the same request: what rules fill in by themselves is compared where it is the same for all. */
export function whyWriteIsOpen(
  before: Rulebook,
  after: Rulebook,
  { collection, operation }: Right,
): string | null {
  const actions = [before, after].map((each) => declared(each, collection, operation));
  if (fieldsOf(before, collection) !== fieldsOf(after, collection)) return 'the fields are not the same';
  if (JSON.stringify(actions[0], withoutPlaces) !== JSON.stringify(actions[1], withoutPlaces))
    return `the action ${operation} is not the same, or not in both`;
  const permissions = [before, after].map((each) => permission(each, operation, collection));
  if (operation === 'create') {
    const stamps = permissions.flatMap(({ grounds }) =>
      grounds.map(({ rule }) => JSON.stringify(rule.stamps)),
    );
    return new Set(stamps).size > 1
      ? 'rules fill in fields by themselves, and not all of them the same'
      : null;
  }
  const [was, is] = permissions.map((each) => stampingOf(each).map(({ rule }) => rule));
  if (was!.length + is!.length === 0) return null;
  const changed = changedCollections(before, after);
  // Which of them fill in must hang on nothing that is another thing by now, nor on who shares.
  const areSame =
    JSON.stringify(was, withoutPlaces) === JSON.stringify(is, withoutPlaces) &&
    JSON.stringify([...before.roles], withoutPlaces) === JSON.stringify([...after.roles], withoutPlaces) &&
    !is!.some(({ when }) => maysOf(when).some((may) => changed.has(may.collection))) &&
    ![before, after].some((each) => shareableCollections(each).has(collection)) &&
    // Nobody has filled in, in their own entry, what decides about them.
    !is!
      .flatMap(({ stamps }) => stamps)
      .some(({ field }) => raises(before, collection, field) !== raises(after, collection, field));
  return areSame ? null : 'rules fill in fields by themselves, and which do, and what, may not be the same';
}

/** All that is said of the fields: what is required, set by itself, or bounded decides about a request, too. */
function fieldsOf({ schema }: Rulebook, collection: string): string {
  return JSON.stringify([...collectionOf(schema, collection).fields.values()], withoutPlaces);
}

function declared(rulebook: Rulebook, collection: string, operation: string): unknown {
  const action = rulebook.actions.get(actionKey(collection, operation));
  return action === undefined ? null : [action.parameters, action.sets];
}

/** The rules and fences that have a part in it: what is not readable is not there, an action is an update, and what is shared counts. */
function sentencesFor({ rules, fences }: Rulebook, collection: string, operation: string): (Rule | Fence)[] {
  const own = new Set(operation === 'create' ? ['create'] : [operation, 'read', 'update', SHARE]);
  return [...rules, ...fences].filter(
    (each) => each.collection === collection && [...each.operations.keys()].some((one) => own.has(one)),
  );
}

/** What is asked of the solver: see `whyWriteIsOpen`. */
export function writeBetween(
  allowing: Rulebook,
  refusing: Rulebook,
  { collection, operation }: Right,
): Between {
  const changed = changedCollections(allowing, refusing);
  const besides = (encoder: Encoder, request: Requested) =>
    and([
      ...(operation === 'update' ? [or(request.values.map(({ supplied }) => supplied!))] : []),
      encoder.denied(refusing, changed, () => allowedTerm(encoder, collection, request)),
    ]);
  return {
    collection,
    asks: writesOf(allowing, collection, operation, besides),
    isAllowed: (rulebook, { caller, record, world, sent }) => {
      // Whoever sends nothing changes nothing.
      if (operation === 'update' && sent!.values.size === 0) return false;
      const about = operation === 'create' ? null : record;
      const asked = { operation, collection, record: about, values: sent!.values };
      return new Decider(rulebook, caller, world).decide(asked).allowed;
    },
  };
}

/** Is the request carried out by the rulebook that is asked? What it makes of the record is in the encoder already. */
function allowedTerm(
  encoder: Encoder,
  collection: string,
  { operation, values, stamping }: Requested,
): string {
  const allowing = permission(encoder.rulebook, operation, collection);
  const { record, field, grounds, fenced } = allowing;
  const besides = new Map(stampingOf(allowing).map(({ leaf }, index) => [leaf, stamping[index]!]));
  const types = new Map(values.map(({ name, type }) => [name, type]));
  const reference = (name: string): string => {
    const type = types.get(name);
    if (type?.kind !== 'ref') return 'true';
    const readable = encoder.within(type.collection, () =>
      encoder.permitted('read', type.collection, asking(`g_${name}`, { world: 'before' })),
    );
    return or([not(`g_${name}_present`), and([encoder.there(type.collection, `g_${name}`), readable])]);
  };
  const asked = asking('r', { reference, besides });
  const eachSupplied = (of: (name: string) => string) =>
    values.map(({ name, supplied }) => or([not(supplied!), of(name)]));
  return encoder.within(collection, () => {
    if (operation === 'update')
      return and([
        encoder.formula(record, asked),
        ...eachSupplied((name) => encoder.formula(field(name).whole, { ...asked, field: name })),
      ]);
    if (operation !== 'create') return encoder.formula(record, asked);
    const covering = (name: string | null) =>
      or(
        grounds
          .filter(({ rule }) => name === null || rule.operations.get('create')!.has(name))
          .map(({ node }) => encoder.formula(node, { ...asked, field: name })),
      );
    return and([
      covering(null),
      encoder.formula(fenced, asked),
      ...eachSupplied((name) =>
        and([
          covering(name),
          encoder.formula(field(name).fenced, { ...asked, field: name }),
          reference(name),
        ]),
      ),
    ]);
  });
}
