import { couldHold, leavesOf } from '../decide/nodes.ts';
import { besideGround } from '../decide/permission.ts';
import type { Permission } from '../decide/formula.ts';
import { stampersOf } from '../decide/steps/change.ts';
import type { Condition, Operand, PathOperand } from '../ir/conditions.ts';
import { nodesOf, pathsOf } from '../ir/conditions.ts';
import { collectionOf, type Schema } from '../types/schema.ts';
import { JsonDocument, type Scalar, type Type, type Value } from '../types/types.ts';
import { candidatesFor, fresh } from './candidates.ts';
import { withOthersKnown, type Overlay } from './sides.ts';

/** One request that is thought through, for all records at once. */
export interface Request {
  /** By field; of an action, by parameter. What they are of the record, `me` or a variable is worked out for each record. */
  readonly values: Overlay;
  /** Those that are any readable record, whichever serves. */
  readonly anyOf: readonly AnyOf[];
  /** Values that a record may have already: to send one of them is no change. Of the others it may have another. */
  readonly perhapsSame: ReadonlySet<string>;
  /** Is everything sent as it is? Then nothing changes that conditions see. */
  readonly unchanged: boolean;
}

/** A reference that may point at any readable record. */
export interface AnyOf {
  readonly name: string;
  readonly collection: string;
  /** Does any condition see which record it is? */
  readonly isRead: boolean;
}

/** All requests that matter for one question. Where none is allowed, that is a no only if they are `complete`. */
export interface Requests {
  readonly requests: readonly Request[];
  readonly complete: boolean;
}

/** Requests that are thought through for one question, at most. */
const MOST_REQUESTS = 256;
/** Parts of conditions that are gone through for one question: fewer requests where sentences are very long. */
const MOST_PARTS = 20_000;
/** Fields that are supplied beside the one in question. */
const MOST_BESIDES = 3;

/** What can be chosen: a field that is supplied, or a parameter. */
interface Choice {
  readonly name: string;
  readonly type: Type;
  readonly required: boolean;
  /** Is it the parent of a tree? Then which record it is matters. */
  readonly isTree: boolean;
}

/**
 * The requests that would change a field: alone, and with up to three others that decide about it. `watching`: conditions that
 * decide nothing, and in which the requests are to differ, too.
 */
export function requestsToUpdate(
  schema: Schema,
  permission: Permission,
  field: string,
  watching: readonly Condition[] = [],
): Requests {
  const { collection } = permission.pair;
  // What no sentence could let through needs no search.
  if (!couldHold(permission.field(field).whole) || !couldHold(permission.record))
    return { requests: [], complete: true };
  const { fields, tree } = collectionOf(schema, collection);
  const choice = (name: string): Choice => {
    const { type, required } = fields.get(name)!;
    return { name, type, required, isTree: name === tree };
  };
  const suppliable = [...fields.values()].filter(
    ({ system, name }) => !system && couldHold(permission.field(name).whole),
  );
  const conditionsFor = (names: readonly string[]) => [
    ...watching,
    ...leavesOf([besideGround(permission), ...names.map((name) => permission.field(name).whole)])
      .filter(({ sides }) => sides !== 'before')
      .map(({ when }) => withOthersKnown(when)),
  ];
  const deciding = new Set<string>();
  // A rule that stamps what a condition reads comes in with any of the fields that it covers. Which of them is supplied may make
  // a difference of its own, so a search that could bring one in is not complete.
  const stamping = stampersOf(
    permission,
    suppliable.map(({ name }) => name),
  ).filter(({ rule, node }) => !rule.operations.get('update')!.has(field) && couldHold(node));
  let isStamped = false;
  // What decides about the others may bring in more of them.
  for (let size = -1; size !== deciding.size;) {
    size = deciding.size;
    const conditions = conditionsFor([field, ...deciding]);
    for (const { name } of suppliable)
      if (name !== field && conditions.some((each) => pathsOf(each).some(beginsWith(name))))
        deciding.add(name);
    for (const { rule } of stamping) {
      const isSeen = rule.stamps.some((stamp) =>
        conditions.some((each) => pathsOf(each).some(beginsWith(stamp.field))),
      );
      const bringing = suppliable.filter(({ name }) => rule.operations.get('update')!.has(name));
      if (!isSeen || bringing.length === 0) continue;
      isStamped = true;
      if (!bringing.some(({ name }) => deciding.has(name))) deciding.add(bringing[0]!.name);
    }
  }
  let complete = deciding.size <= MOST_BESIDES && !isStamped;
  const requests: Request[] = [];
  const room = roomFor(conditionsFor([field, ...deciding]));
  for (const others of subsetsOf([...deciding].slice(0, MOST_BESIDES))) {
    const names = [field, ...others];
    const made = combined(
      names.map(choice),
      conditionsFor(names),
      (name) => (path) => isNew(path) && path.steps.length === 1 && path.steps[0]!.field === name,
      (path) => isNew(path) && names.includes(path.steps[0]!.field),
      room - requests.length,
    );
    requests.push(...made.requests);
    complete &&= made.complete;
  }
  return { requests, complete };
}

/** The requests that would carry out an action: over its parameters. */
export function requestsToAct(permission: Permission, watching: readonly Condition[] = []): Requests {
  const { parameters, sets } = permission.action!;
  const conditions = [
    ...watching,
    ...leavesOf([permission.record])
      .filter(({ sides }) => sides !== 'before')
      .map(({ when }) => withOthersKnown(when)),
  ];
  const setBy = (name: string) =>
    new Set(
      [...sets].flatMap(([field, set]) => (set.kind === 'parameter' && set.name === name ? [field] : [])),
    );
  const choices = [...parameters].map(([name, { type, required }]): Choice => ({
    name,
    type,
    required,
    isTree: false,
  }));
  return combined(
    choices,
    conditions,
    (name) => {
      const fields = setBy(name);
      return (path) => isNew(path) && path.steps.length === 1 && fields.has(path.steps[0]!.field);
    },
    (path) => isNew(path) && sets.has(path.steps[0]!.field),
    roomFor(conditions),
  );
}

/** The requests that would make a record, of one set of fields. */
export function requestsToCreate(
  schema: Schema,
  permission: Permission,
  names: readonly string[],
  watching: readonly Condition[] = [],
): Requests {
  const { fields } = collectionOf(schema, permission.pair.collection);
  const wanted = [permission.record, ...names.map((name) => permission.field(name).whole)];
  const conditions = [...watching, ...leavesOf(wanted).map(({ when }) => withOthersKnown(when))];
  return combined(
    names.map((name) => ({
      name,
      type: fields.get(name)!.type,
      required: fields.get(name)!.required,
      isTree: false,
    })),
    conditions,
    (name) => (path) => isNew(path) && path.steps.length === 1 && path.steps[0]!.field === name,
    (path) => isNew(path) && names.includes(path.steps[0]!.field),
    roomFor(conditions),
  );
}

function roomFor(conditions: readonly Condition[]): number {
  const parts = conditions.reduce((sum, each) => sum + nodesOf(each).length, 1);
  return Math.min(MOST_REQUESTS, Math.max(8, Math.floor(MOST_PARTS / parts)));
}

function beginsWith(name: string) {
  return (path: PathOperand) => isNew(path) && path.steps[0]!.field === name;
}

/** Is it read from the record as it would become? */
function isNew({ root }: PathOperand): boolean {
  return root === 'record' || root === 'new';
}

function subsetsOf<T>(items: readonly T[]): T[][] {
  return items.reduce<T[][]>((all, item) => [...all, ...all.map((each) => [...each, item])], [[]]);
}

/** Every combination of the candidates of each choice, as far as there is room. */
function combined(
  choices: readonly Choice[],
  conditions: readonly Condition[],
  isIt: (name: string) => (path: PathOperand) => boolean,
  touches: (path: PathOperand) => boolean,
  room: number,
): Requests {
  let complete = true;
  let requests: Request[] = [{ values: new Map(), anyOf: [], perhapsSame: new Set(), unchanged: false }];
  for (const choice of choices) {
    const { name } = choice;
    const found = waysOf(choice, conditions, isIt(name), touches);
    complete &&= found.complete;
    requests = requests.flatMap((before) =>
      found.ways.map(({ value, anyOf, perhapsSame }): Request => ({
        values: new Map([...before.values, [name, value]]),
        anyOf: anyOf === undefined ? before.anyOf : [...before.anyOf, anyOf],
        perhapsSame: perhapsSame ? new Set([...before.perhapsSame, name]) : before.perhapsSame,
        unchanged: false,
      })),
    );
    if (requests.length > room) {
      requests = requests.slice(0, room);
      complete = false;
    }
  }
  return { requests, complete };
}

interface Way {
  readonly value: Operand;
  readonly anyOf?: AnyOf;
  readonly perhapsSame: boolean;
}

function waysOf(
  { name, type, required, isTree }: Choice,
  conditions: readonly Condition[],
  isIt: (path: PathOperand) => boolean,
  touches: (path: PathOperand) => boolean,
): { readonly ways: readonly Way[]; readonly complete: boolean } {
  const { values, isRead, complete } = candidatesFor(type, required, conditions, isIt, touches);
  if (type.kind !== 'ref' && !isRead) {
    // What nothing reads needs one value, whichever: there is another than the one it has, where the type has two.
    const size = type.kind === 'one of' ? type.values.length + (required ? 0 : 1) : 2;
    return { ways: size < 2 ? [] : [{ value: whichever(type), perhapsSame: false }], complete: true };
  }
  const ways: Way[] = values.map((value) => ({ value, perhapsSame: true }));
  if (type.kind === 'ref') {
    const { collection } = type;
    ways.push({
      value: variable(collection),
      anyOf: { name, collection, isRead: isRead || isTree },
      perhapsSame: true,
    });
  }
  return { ways, complete };
}

/** The record that a request may choose, as the record of a quantifier around it. */
export function variable(collection: string): PathOperand {
  return { kind: 'path', root: 1, steps: [{ collection, field: 'id' }], type: { kind: 'ref', collection } };
}

/** Some value of a type that no condition reads. */
function whichever(type: Type): Operand {
  switch (type.kind) {
    case 'boolean':
      return { kind: 'literal', value: true, type };
    case 'one of':
      return { kind: 'literal', value: type.values[0]!, type };
    case 'list':
      return asLiteral([], type);
    case 'json':
      return asLiteral(new JsonDocument(true), type);
    case 'ref':
      // Which record it is, is chosen elsewhere.
      return { kind: 'literal', value: '', type };
    case 'date':
    case 'decimal':
    case 'integer':
    case 'text':
    case 'timestamp':
    case 'uuid':
      return { kind: 'literal', value: fresh[type.kind][0], type };
  }
}

/** No sentence can name such a value, but a request can send one, and conditions beside those that matter may look at it. */
function asLiteral(value: Value, type: Type): Operand {
  return { kind: 'literal', value: value as Scalar, type };
}
