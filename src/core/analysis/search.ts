import { holdsBy, type Node, type TrueOf } from '../decide/nodes.ts';
import type { RecordValues } from '../decide/caller.ts';
import type { Permission } from '../decide/formula.ts';
import { SHARE, shareableCollections } from '../decide/shares.ts';
import type { Change } from '../decide/steps/asking.ts';
import { technical } from '../decide/steps/verdict.ts';
import type { Decider, Decision, Question } from '../evaluate/decider.ts';
import { valueIn } from '../evaluate/closures.ts';
import { predicateOf } from '../evaluate/may.ts';
import { pathsOf } from '../ir/conditions.ts';
import { collectionOf, type Collection } from '../types/schema.ts';
import { JsonDocument, type Type, type Value } from '../types/types.ts';
import { sameValue } from '../types/values.ts';
import { fresh } from './candidates.ts';
import { followers } from './follows.ts';
import { actionsOf, alongWord, type Answer, type Reached } from './outcomes.ts';
import {
  requestsToAct,
  requestsToCreate,
  requestsToUpdate,
  type Request,
  type Requests,
} from './requests.ts';

/** What a search came to; a yes brings the request that was allowed. */
export interface Found {
  readonly answer: Answer;
  readonly request: ReadonlyMap<string, Value> | null;
  readonly decision: Decision | null;
}

const nothingFound: Found = { answer: 'no', request: null, decision: null };

/** Records that are tried for one reference. */
const MOST_TARGETS = 200;
/** Requests that are carried out, in thought, for one question. */
const MOST_TRIED = 256;

/** What the closures say of one record: every yes is a request that they allow. See `outcomes.ts` for the other engine. */
export function reachedOf(
  decider: Decider,
  collection: string,
  record: RecordValues,
  unchanged = false,
): Reached {
  const { rulebook } = decider;
  const shown = decider.shown(collection, record);
  const around = decider.around({ operation: 'delete', collection });
  const along = followersOf(decider, collection).map(({ what, when, perhaps }) => {
    const isYes = predicateOf(when)(record, around) === true;
    return {
      what,
      isYes,
      isOpen: !isYes && perhaps !== null && predicateOf(perhaps)(record, around) === true,
    };
  });
  const follows = along.filter(({ isYes }) => isYes).map(({ what }) => what);
  const openly = along.filter(({ isOpen }) => isOpen).map(({ what }) => alongWord(what));
  const none = {
    read: false,
    delete: false,
    share: false,
    shown: [],
    updatable: [],
    actions: [],
    undecided: openly,
  };
  if (shown === null) return { ...none, follows, through: new Map() };
  const search = new Search(decider, collection, record, unchanged);
  const fields = [...collectionOf(rulebook.schema, collection).fields.values()].filter(
    ({ system }) => !system,
  );
  const updates = fields.map(({ name }) => [name, search.update(name)] as const);
  const actions = actionsOf(rulebook, collection).map((name) => [name, search.act(name)] as const);
  const deleting = search.ask({ operation: 'delete', collection, record, values: new Map() });
  const shares =
    shareableCollections(rulebook).has(collection) &&
    search.ask({ operation: SHARE, collection, record, values: new Map() }).allowed;
  const is = (answer: Answer, of: readonly (readonly [string, Found])[]) =>
    of.filter(([, found]) => found.answer === answer).map(([name]) => name);
  const deletes = deleting.allowed || deleting.refusedBy === 'still referenced';
  const updatable = is('yes', updates);
  const acted = is('yes', actions);
  return {
    read: true,
    delete: deletes,
    share: shares,
    shown: [...shown],
    updatable,
    actions: acted,
    follows,
    undecided: [
      ...is('not decided', updates).map((name) => `update ${name}`),
      ...is('not decided', actions),
      ...openly,
    ],
    through: new Map([
      ['read', search.through('read')],
      ...(updatable.length > 0 ? [['update', search.throughUpdates(updates)] as const] : []),
      ...(deletes ? [['delete', search.through('delete')] as const] : []),
      ...(shares ? [[SHARE, search.through(SHARE)] as const] : []),
      ...actions
        .filter(([, { answer }]) => answer === 'yes')
        .map(([name, found]) => [name, search.throughRequest(name, found)] as const),
    ]),
  };
}

/** May this caller make a record of the collection at all, and with what? `supplying`: one on which this field is supplied. */
export function searchCreate(decider: Decider, collection: string, supplying?: string): Found {
  const permission = decider.permission('create', collection);
  if (permission.grounds.length === 0) return nothingFound;
  return new Search(decider, collection, null, false).create(permission, supplying);
}

/** What somebody may make of a collection: at all, with which fields supplied, and by which rules. */
export interface Makes {
  readonly answer: Answer;
  /** Of those that a rule covers; empty where nothing may be made. */
  readonly fields: ReadonlyMap<string, Answer>;
  readonly through: readonly string[];
}

/** The same field by field. Each yes is a request that the closures allow. Cost: a search for each field that rules cover. */
export function searchMakes(decider: Decider, collection: string): Makes {
  const permission = decider.permission('create', collection);
  const search = new Search(decider, collection, null, false);
  const whole = searchCreate(decider, collection);
  if (whole.answer !== 'yes') return { answer: whole.answer, fields: new Map(), through: [] };
  const covered = new Set(permission.grounds.flatMap(({ rule }) => [...rule.operations.get('create')!]));
  const found = [...collectionOf(decider.rulebook.schema, collection).fields.values()]
    .filter(({ name, system }) => !system && covered.has(name))
    .map(({ name }) => [name, search.create(permission, name)] as const);
  const allowed = [whole, ...found.map(([, each]) => each)].filter(({ answer }) => answer === 'yes');
  const through = new Set(allowed.flatMap((each) => search.throughRequest('create', each)));
  return {
    answer: 'yes',
    fields: new Map(found.map(([name, { answer }]) => [name, answer])),
    through: permission.grounds.map(({ rule }) => rule.id).filter((id) => through.has(id)),
  };
}

/** Would some request change the field, or send it as it is; or carry out the action? With that request. */
export function searchRight(
  decider: Decider,
  collection: string,
  record: RecordValues,
  right: { readonly update: string } | { readonly action: string },
): Found {
  const search = new Search(decider, collection, record, true);
  return 'update' in right ? search.update(right.update) : search.act(right.action);
}

/** Every request with its values worked out, for a record as it is; `more`: there would be others. */
export function* concreteValues(
  decider: Decider,
  operation: string,
  collection: string,
  requests: readonly Request[],
  record: RecordValues | null,
  field: string | null,
): Generator<ReadonlyMap<string, Value> | 'more'> {
  const search = new Search(decider, collection, record, false);
  let tried = 0;
  for (const request of requests)
    for (const values of search.concrete(operation, request, field)) {
      yield values;
      if (values !== 'more' && ++tried >= MOST_TRIED) {
        yield 'more';
        return;
      }
    }
}

const knownRequests = new WeakMap<Permission, Map<string, Requests>>();

function requestsOf(decider: Decider, permission: Permission, field: string | null): Requests {
  const known = knownRequests.get(permission) ?? new Map<string, Requests>();
  knownRequests.set(permission, known);
  const key = field ?? '';
  let found = known.get(key);
  if (found === undefined) {
    const { schema } = decider.rulebook;
    found = field === null ? requestsToAct(permission) : requestsToUpdate(schema, permission, field);
    known.set(key, found);
  }
  return found;
}

const knownFollowers = new WeakMap<Decider, Map<string, ReturnType<typeof followers>>>();

function followersOf(decider: Decider, collection: string) {
  const known = knownFollowers.get(decider) ?? new Map<string, ReturnType<typeof followers>>();
  knownFollowers.set(decider, known);
  let found = known.get(collection);
  if (found === undefined)
    known.set(collection, (found = followers(decider.rulebook, decider.caller, collection)));
  return found;
}

/** Questions about one record. What conditions say of it as it is, is asked once. */
class Search {
  readonly #decider: Decider;
  readonly #collection: Collection;
  readonly #record: RecordValues | null;
  readonly #unchanged: boolean;
  readonly #before = new Map<TrueOf, boolean>();
  readonly #targets = new Map<string, { readonly all: readonly string[]; readonly more: boolean }>();

  constructor(decider: Decider, collection: string, record: RecordValues | null, unchanged: boolean) {
    this.#decider = decider;
    this.#collection = collectionOf(decider.rulebook.schema, collection);
    this.#record = record;
    this.#unchanged = unchanged;
  }

  ask(question: Question): Decision {
    return this.#decider.decide(question);
  }

  update(field: string): Found {
    const permission = this.#decider.permission('update', this.#collection.name);
    const asked = [permission.record, permission.field(field).whole];
    if (!asked.every((node) => this.#couldHold(node))) return nothingFound;
    if (this.#unchanged) {
      const values = new Map([[field, this.#record![field] ?? null]]);
      const decision = this.ask({
        operation: 'update',
        collection: this.#collection.name,
        record: this.#record,
        values,
      });
      if (decision.allowed) return { answer: 'yes', request: values, decision };
    }
    return this.#first('update', requestsOf(this.#decider, permission, field), field);
  }

  act(action: string): Found {
    const permission = this.#decider.permission(action, this.#collection.name);
    if (!this.#couldHold(permission.record)) return nothingFound;
    return this.#first(action, requestsOf(this.#decider, permission, null), null);
  }

  create(permission: Permission, supplying?: string): Found {
    const { fields } = this.#collection;
    const { schema } = this.#decider.rulebook;
    let complete = true;
    for (const names of setsToCreate(permission, this.#collection)) {
      if (supplying !== undefined && !names.includes(supplying)) continue;
      const found = this.#first('create', requestsToCreate(schema, permission, names), null);
      if (found.answer === 'yes') return found;
      if (found.answer === 'not decided') complete = false;
    }
    // Fields that are left out could be supplied, too: only where there are none was everything tried.
    const suppliable = [...fields.values()].filter(({ system }) => !system).length;
    return complete && suppliable === 0 ? nothingFound : { ...nothingFound, answer: 'not decided' };
  }

  /** The first of the requests that is allowed. */
  #first(operation: string, { requests, complete }: Requests, field: string | null): Found {
    let [open, tried] = [!complete, 0];
    for (const request of requests) {
      for (const values of this.concrete(operation, request, field)) {
        if (values === 'more' || ++tried > MOST_TRIED) {
          open = true;
          break;
        }
        const decision = this.ask({
          operation,
          collection: this.#collection.name,
          record: this.#record,
          values,
        });
        if (decision.allowed) return { answer: 'yes', request: values, decision };
        if (decision.refusedBy !== null && technical.has(decision.refusedBy) && operation === 'create')
          open = true;
      }
    }
    return open ? { ...nothingFound, answer: 'not decided' } : nothingFound;
  }

  /** The request with every value worked out; one for each record that a reference could point at. */
  *concrete(
    operation: string,
    { values, anyOf }: Request,
    field: string | null,
  ): Generator<ReadonlyMap<string, Value> | 'more'> {
    const { action } = this.#decider.permission(operation, this.#collection.name);
    const types = action?.parameters ?? this.#collection.fields;
    const chosen = new Map<string, Value>();
    for (const [name, operand] of values) {
      if (anyOf.some((each) => each.name === name)) continue;
      const frame = [this.#record ?? {}] as const;
      const circumstances = this.#decider.around({ operation: 'read', collection: this.#collection.name });
      const value =
        operand.kind === 'literal'
          ? typedValue(types.get(name)!.type, operand.value)
          : valueIn(operand, frame, circumstances);
      chosen.set(name, value);
    }
    if (field !== null && !this.#unchanged && chosen.has(field)) {
      const { type } = this.#collection.fields.get(field)!;
      const own = this.#record![field] ?? null;
      if (sameValue(type, chosen.get(field)!, own)) {
        const another = anotherValue(type, own);
        // One that conditions look at is itself; another is tried by another request.
        if (another === undefined || !this.#isUnread(field)) return;
        chosen.set(field, another);
      }
    }
    yield* this.#pointed(chosen, anyOf, field);
  }

  *#pointed(
    chosen: ReadonlyMap<string, Value>,
    [first, ...rest]: readonly Request['anyOf'][number][],
    field: string | null,
  ): Generator<ReadonlyMap<string, Value> | 'more'> {
    if (first === undefined) {
      yield chosen;
      return;
    }
    const { all, more } = this.#readableOf(first.collection);
    const own = first.name === field && !this.#unchanged ? this.#record![field] : null;
    const others = all.filter((id) => id !== own);
    for (const id of first.isRead ? others : others.slice(0, 1))
      yield* this.#pointed(new Map([...chosen, [first.name, id]]), rest, field);
    if (more && (first.isRead || others.length === 0)) yield 'more';
  }

  #readableOf(collection: string): { readonly all: readonly string[]; readonly more: boolean } {
    let known = this.#targets.get(collection);
    if (known === undefined) {
      const { world } = this.#decider;
      const some = [...(world.few?.(collection, MOST_TARGETS + 1) ?? world.all(collection))];
      const within = some.slice(0, MOST_TARGETS);
      const all = within
        .filter((each) => this.#decider.isReadable(collection, each))
        .map(({ id }) => id as string);
      known = { all, more: some.length > MOST_TARGETS };
      this.#targets.set(collection, known);
    }
    return known;
  }

  #isUnread(field: string): boolean {
    const { requests } = requestsOf(
      this.#decider,
      this.#decider.permission('update', this.#collection.name),
      field,
    );
    return requests.every(({ perhapsSame }) => !perhapsSame.has(field));
  }

  /** As far as the record as it is tells: what speaks of the other side is taken for true. */
  #couldHold(node: Node): boolean {
    return holdsBy(node, (leaf) => {
      let known = this.#before.get(leaf);
      if (known === undefined)
        this.#before.set(leaf, (known = speaksOfNew(leaf) || this.#isTrueBefore(leaf)));
      return known;
    });
  }

  #isTrueBefore(leaf: TrueOf): boolean {
    return this.#decider.isTrue({ ...leaf, sides: 'before' }, this.#record, { kind: 'none' });
  }

  through(operation: string): string[] {
    const { grounds } = this.#decider.permission(operation, this.#collection.name);
    return grounds
      .filter(({ node }) => holdsBy(node, (leaf) => this.#isTrueBefore(leaf)))
      .map(({ rule }) => rule.id);
  }

  throughUpdates(updates: readonly (readonly [string, Found])[]): string[] {
    const found = updates.flatMap(([, each]) =>
      each.answer === 'yes' ? this.throughRequest('update', each) : [],
    );
    return [...new Set(found)].toSorted();
  }

  /** The rules that are true for the request that was found. */
  throughRequest(operation: string, { request, decision }: Found): string[] {
    const { grounds, action } = this.#decider.permission(operation, this.#collection.name);
    const names = [...request!.keys()];
    const after = Object.entries(decision!.after!);
    const record = this.#record;
    const change: Change<Value> =
      record === null
        ? { kind: 'created', values: new Map(after) }
        : { kind: 'changed', values: new Map(after.filter(([name, value]) => value !== record[name])) };
    // Where nothing is supplied, nothing has to be covered.
    const covers = ({ rule }: Permission['grounds'][number]) =>
      action !== null ||
      names.length === 0 ||
      names.some((name) => rule.operations.get(operation)!.has(name));
    return grounds
      .filter(covers)
      .filter(({ node }) => holdsBy(node, (leaf) => this.#decider.isTrue(leaf, record, change)))
      .map(({ rule }) => rule.id);
  }
}

function speaksOfNew({ when }: TrueOf): boolean {
  let known = newSpoken.get(when);
  if (known === undefined) newSpoken.set(when, (known = pathsOf(when).some(({ root }) => root === 'new')));
  return known;
}

const newSpoken = new WeakMap<object, boolean>();

/** What is supplied to make a record: what must be there, and with it what a group of rules covers. */
export function setsToCreate(permission: Permission, { fields }: Collection): string[][] {
  const groups = new Map<string, Set<string>>();
  for (const { rule } of permission.grounds) {
    const key = JSON.stringify(rule.stamps);
    const known = groups.get(key) ?? new Set<string>();
    groups.set(key, known);
    for (const field of rule.operations.get('create')!) known.add(field);
  }
  return [...groups].flatMap(([key, covered]) => {
    const stamped = new Set((JSON.parse(key) as { field: string }[]).map(({ field }) => field));
    const open = [...fields.values()].filter(
      ({ name, system }) => !system && !stamped.has(name) && covered.has(name),
    );
    const needed = open
      .filter(({ required, default: given }) => required && given === null)
      .map(({ name }) => name);
    const read = open.map(({ name }) => name).filter((name) => !needed.includes(name));
    // Alone, with each of the others, and with all of them.
    return [needed, ...read.map((name) => [...needed, name]), [...needed, ...read]];
  });
}

function typedValue(type: Type, value: string | number | boolean): Value {
  if (type.kind === 'json') return new JsonDocument({});
  return type.kind === 'list' ? [] : value;
}

/** Some other value of the type; undefined where there is none. */
function anotherValue(type: Type, own: Value): Value | undefined {
  switch (type.kind) {
    case 'boolean':
      return own !== true;
    case 'one of':
      return type.values.find((each) => each !== own);
    case 'list':
      return own === null ? [] : null;
    case 'json':
      return new JsonDocument({ changed: true });
    case 'ref':
      return undefined;
    case 'date':
    case 'decimal':
    case 'integer':
    case 'text':
    case 'timestamp':
    case 'uuid':
      return fresh[type.kind].find((each) => each !== own);
  }
}
