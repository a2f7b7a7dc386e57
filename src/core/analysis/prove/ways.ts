import {
  aboveOf,
  aftermathOf,
  clearedOf,
  goingWith,
  seesAftermath,
  targetOf,
  type Aftermath,
} from '../../decide/aftermath.ts';
import { leavesOf, type Node, type TrueOf } from '../../decide/nodes.ts';
import type { Ground, Permission } from '../../decide/formula.ts';
import { permission, raises } from '../../decide/permission.ts';
import { SHARE, shareableCollections } from '../../decide/shares.ts';
import {
  isBuiltIn,
  pairKey,
  type Action,
  type Invariant,
  type Operation,
  type Rulebook,
  type Stamp,
} from '../../ir/rulebook.ts';
import { collectionOf, type Field } from '../../types/schema.ts';
import { simpleTypes, type Type } from '../../types/types.ts';
import { actionsOf } from '../outcomes.ts';
import type { Size } from './declarations.ts';
import { asking, type Asked, type Root } from './asked.ts';
import { Encoder } from './encode.ts';
import { and, not, or, type Encoded } from './terms.ts';

/** A question to the solver: could there be a step of this kind that speaks against the invariant? */
export interface Question {
  readonly encoder: Encoder;
  readonly text: string;
  readonly get: readonly string[];
  readonly request: Requested | null;
}

/** What is sent with a step, as terms: `g_NAME` is the value, `g_NAME_present` says whether it is one, `supplied` whether it is sent at all. */
export interface Requested {
  readonly operation: string;
  readonly values: readonly {
    readonly name: string;
    readonly type: Type;
    /** Null: always. */
    readonly supplied: string | null;
  }[];
  /** Of each rule that fills in something, in their order, the term that it does, or that nothing asks it to. */
  readonly stamping: readonly string[];
}

/** One kind of step that does what an invariant speaks of. */
export interface Way {
  readonly name: string;
  readonly ask: (size: Size) => Question;
}

/**
 * The kinds of steps that do what the invariant speaks of to a record: asked for, by an action, or because another record is
 * deleted. It is proved where none of them speaks against it.
 */
export function waysOf(rulebook: Rulebook, invariant: Invariant): Way[] {
  const { operation, collection, fields: about } = invariant;
  const make = (name: string, work: (step: Step) => string): Way => ({
    name,
    ask: (size) => new Step(rulebook, invariant, size).question(work),
  });
  const fields = [...collectionOf(rulebook.schema, collection).fields.values()];
  if (!isBuiltIn(operation)) return [make(operation, (step) => step.acting(operation))];
  switch (operation) {
    case 'read':
      return [make('read', (step) => step.reading())];
    case SHARE:
      return [make(SHARE, (step) => step.whole(SHARE))];
    case 'delete':
      return [
        make('delete', (step) => step.whole('delete')),
        ...fields
          .filter(({ onDelete }) => onDelete === 'remove')
          .map((field) => make(`delete along ${field.name}`, (step) => step.along(field))),
      ];
    case 'create':
      return groupsOf(permission(rulebook, 'create', collection)).map((group, index) =>
        make(`create ${index + 1}`, (step) => step.creating(group)),
      );
    case 'update':
      return [
        make('update', (step) => step.updating()),
        ...actionsOf(rulebook, collection).map((name) => make(name, (step) => step.acting(name))),
        ...fields
          .filter(({ name, onDelete }) => onDelete === 'clear' && (about?.includes(name) ?? true))
          .map((field) => make(`clear ${field.name}`, (step) => step.clearing(field))),
      ];
  }
}

/**
 * The ways in which something is written at all, each together with what must be so besides: `besides` speaks of the request by the terms
 * that `Requested` tells.
 */
export function writesOf(
  rulebook: Rulebook,
  collection: string,
  operation: Operation,
  besides: (encoder: Encoder, request: Requested) => string,
): Way['ask'][] {
  // Whatever is done speaks against it.
  const never: Invariant = {
    title: '',
    operation,
    collection,
    fields: null,
    only: { kind: 'constant', value: false },
    text: '',
    span: { source: '', start: 0, end: 0 },
  };
  const make = (work: (step: Step) => string) => (size: Size) =>
    new Step(rulebook, never, size).question((step) => step.with(work(step), besides));
  if (operation === 'update') return [make((step) => step.updating())];
  if (operation !== 'create') return [make((step) => step.acting(operation))];
  return groupsOf(permission(rulebook, 'create', collection)).map((group) =>
    make((step) => step.creating(group)),
  );
}

/** The rules that fill in something where a record is changed: those about update alone, and all of an action's. */
export function stampingOf({ grounds, action }: Permission): Ground[] {
  return grounds.filter(
    ({ rule }) =>
      rule.stamps.length > 0 && (action !== null || [...rule.operations.keys()].join() === 'update'),
  );
}

/** Create rules with the same stamps. */
function groupsOf({ grounds }: Permission): Ground[][] {
  const groups = new Map<string, Ground[]>();
  for (const ground of grounds) {
    const key = JSON.stringify(ground.rule.stamps);
    groups.set(key, [...(groups.get(key) ?? []), ground]);
  }
  return [...groups.values()];
}

/** Steps up to what records go along with, of which the solver is told; fewer where very many ways lead up. */
const FOLLOWED = 3;
const MOST_ABOVE = 64;

function followedFrom(rulebook: Rulebook, collection: string): number {
  let [last, all] = [[collection], 1];
  for (let steps = 0; steps < FOLLOWED; steps++) {
    last = last.flatMap((each) => goingWith(rulebook, each).map(targetOf));
    all += last.length;
    if (all > MOST_ABOVE) return steps;
  }
  return FOLLOWED;
}

class Step {
  readonly #rulebook: Rulebook;
  readonly #invariant: Invariant;
  readonly #encoder: Encoder;
  readonly #fields: ReadonlyMap<string, Field>;
  #request: Requested | null = null;

  constructor(rulebook: Rulebook, invariant: Invariant, size: Size) {
    this.#rulebook = rulebook;
    this.#invariant = invariant;
    this.#encoder = new Encoder(rulebook, size);
    this.#fields = collectionOf(rulebook.schema, invariant.collection).fields;
  }

  question(work: (step: Step) => string): Question {
    const { collection } = this.#invariant;
    const { declarations } = this.#encoder;
    declarations.constant('r', declarations.sort(collection));
    declarations.constant('now', 'Int');
    this.#encoder.somebody('');
    this.#encoder.assertions.push(this.#encoder.there(collection, 'r'));
    this.#encoder.assertions.push(this.#encoder.within(collection, () => work(this)));
    const sent = (this.#request?.values ?? []).flatMap(({ name, supplied }) => [
      `g_${name}_present`,
      ...(supplied === null ? [] : [supplied]),
    ]);
    const { text, get } = this.#encoder.question(['now', 'r', ...sent]);
    return { encoder: this.#encoder, text, get, request: this.#request };
  }

  /** That, and what is so of the request besides. */
  with(work: string, besides: (encoder: Encoder, request: Requested) => string): string {
    return and([work, besides(this.#encoder, this.#request!)]);
  }

  reading(): string {
    const { fields, collection } = this.#invariant;
    const { field } = permission(this.#rulebook, 'read', collection);
    const shown =
      fields === null ? [] : [or(fields.map((name) => this.#node(field(name).whole, { field: name })))];
    const readable = this.#encoder.permitted('read', collection, asking('r'));
    return and([readable, ...shown, this.#against('read', ['before'])]);
  }

  whole(operation: Operation): string {
    const { collection } = this.#invariant;
    return and([
      this.#encoder.permitted(operation, collection, asking('r')),
      ...(operation === 'delete' ? [this.#encoder.unheld(collection, 'r')] : []),
      this.#against(operation, ['before']),
    ]);
  }

  /** The record is deleted because the one that it points at is. */
  along(field: Field): string {
    const { collection } = this.#invariant;
    return and([
      ...this.#goesWith(field),
      ...this.#fencesAlong(collection, 'r', null),
      this.#encoder.unheld(collection, 'r', this.#rootsAbove(field)),
      this.#against('delete', ['before']),
    ]);
  }

  /** The reference is taken away because the record that it points at is deleted. */
  clearing(field: Field): string {
    const { collection, only } = this.#invariant;
    const aftermath = aftermathOf(this.#rulebook, targetOf(field));
    const others = clearedOf(this.#rulebook, collection, aftermath).filter(({ name }) => name !== field.name);
    const before = (name: string) => this.#encoder.fields.of(collection, name, 'r', 'before');
    const lost = others.map((other) => ({ name: other.name, goes: this.#losesToo(field, other) }));
    const values = new Map<string, Encoded>([
      [field.name, { ...before(field.name), present: 'false' }],
      ...lost.map(({ name, goes }): [string, Encoded] => [
        name,
        { ...before(name), present: and([before(name).present, not(goes)]) },
      ]),
    ]);
    this.#encoder.fields.changed = { collection, record: 'r', values, created: false };
    const own = raises(this.#rulebook, collection, field.name) ? [not(and(['person', '(= me r)']))] : [];
    return and([
      ...this.#goesWith(field),
      ...own,
      ...this.#fencesAlong(collection, 'r', field.name, aftermath),
      // Where it looks at other records which the same deletion may change, anything may become of it.
      seesAftermath(only, aftermath)
        ? or([this.#against('update', ['before']), this.#encoder.fresh('becomes', 'Bool')])
        : this.#against('update', ['before', 'after']),
    ]);
  }

  /** The record loses this reference, too: as it points at the same, or, where more may go along, at whatever it may be. */
  #losesToo(field: Field, other: Field): string {
    const { collection } = this.#invariant;
    const target = targetOf(field);
    if (goingWith(this.#rulebook, target).length > 0 || targetOf(other) !== target)
      return this.#encoder.fresh('loses', 'Bool');
    const [one, too] = [field, other].map(({ name }) =>
      this.#encoder.fields.of(collection, name, 'r', 'before'),
    );
    return `(= ${one!.term} ${too!.term})`;
  }

  /** The record at the end of the reference goes: the caller may delete it, or it goes along itself. */
  #goesWith(field: Field): string[] {
    const { collection } = this.#invariant;
    const target = targetOf(field);
    if (![...aboveOf(this.#rulebook, target)].some((each) => this.#isEverDeleted(each))) return ['false'];
    const { term, present } = this.#encoder.fields.of(collection, field.name, 'r', 'before');
    const goes = this.#goes(target, term, followedFrom(this.#rulebook, target));
    return [present, goes, this.#encoder.unheld(target, term, this.#rootsAbove(field))];
  }

  /** Is there a rule by which anybody may delete one? A share gives what its sharer has by a rule. */
  #isEverDeleted(collection: string): boolean {
    return leavesOf([permission(this.#rulebook, 'delete', collection).granted]).length > 0;
  }

  /**
   * The caller may delete it, or the fences on it let it go along with another that goes. After so many steps whatever points at another counts as
   * going along.
   */
  #goes(collection: string, record: string, steps: number): string {
    const along = goingWith(this.#rulebook, collection).map((each) => {
      const { term, present } = this.#encoder.fields.of(collection, each.name, record, 'before');
      return and([present, ...(steps === 0 ? [] : [this.#goes(targetOf(each), term, steps - 1)])]);
    });
    const further = and([or(along), ...this.#fencesAlong(collection, record, null)]);
    return or([this.#permitted('delete', collection, record), ...(along.length === 0 ? [] : [further])]);
  }

  /** What may be asked to be deleted where the record at the end of the reference goes: that one, or whatever it may go along with. */
  #rootsAbove(field: Field): Root[] {
    const target = targetOf(field);
    if (goingWith(this.#rulebook, target).length > 0)
      return [...aboveOf(this.#rulebook, target)].map((collection) => ({ collection, record: null }));
    const { term } = this.#encoder.fields.of(this.#invariant.collection, field.name, 'r', 'before');
    return [{ collection: target, record: term }];
  }

  /** The fences on what happens to it. What cannot be said of the time after is left out: that allows more, never less. */
  #fencesAlong(
    collection: string,
    record: string,
    cleared: string | null,
    aftermath: Aftermath | null = null,
  ): string[] {
    const reading = permission(this.#rulebook, 'read', collection).barriers.filter(
      ({ about }) => about === null,
    );
    const operation = cleared === null ? 'delete' : 'update';
    const sees = (node: Node) =>
      aftermath !== null && leavesOf([node]).some(({ when }) => seesAftermath(when, aftermath));
    const writing = permission(this.#rulebook, operation, collection).barriers.filter(
      ({ about, node }) => (about === null || about.has(cleared ?? '')) && !sees(node),
    );
    const asked = asking(record, { world: cleared === null ? 'before' : null });
    return this.#encoder.within(collection, () => [
      ...reading.map(({ node }) => this.#encoder.formula(node, { ...asked, world: 'before' })),
      ...writing.map(({ node }) => this.#encoder.formula(node, asked)),
    ]);
  }

  updating(): string {
    const { collection, fields } = this.#invariant;
    const updating = permission(this.#rulebook, 'update', collection);
    const suppliable = [...this.#fields.values()].filter(
      ({ name, system }) => !system && leavesOf([updating.field(name).granted]).length > 0,
    );
    const { supplied, given } = this.#supplying('update', suppliable);
    const stamping = stampingOf(updating);
    const values = new Map<string, Encoded>(
      suppliable.map(({ name }) => [
        name,
        choose(
          supplied.get(name)!,
          given.get(name)!,
          this.#encoder.fields.of(collection, name, 'r', 'before'),
        ),
      ]),
    );
    const { besides, chosen, further } = this.#stamped(stamping, values, 'update', (ground) =>
      [...ground.rule.operations.get('update')!].flatMap((name) => supplied.get(name) ?? []),
    );
    // With nothing supplied a rule that stamps fills in nothing, and counts by its condition like any other.
    const nothing = and([...supplied.values()].map(not));
    for (const { leaf, rule } of stamping) besides.set(leaf, or([chosen.get(rule.id)!, nothing]));
    this.#request = { ...this.#request!, stamping: stamping.map(({ leaf }) => besides.get(leaf)!) };
    for (const { rule } of stamping)
      for (const { field } of rule.stamps)
        if (supplied.has(field)) further.push(not(and([chosen.get(rule.id)!, supplied.get(field)!])));
    this.#encoder.fields.changed = { collection, record: 'r', values, created: false };
    const asked = {
      besides,
      reference: (name: string) => this.#readable(this.#fields.get(name)!, given.get(name)!),
    };
    const allowed = [
      this.#node(updating.record, asked),
      ...suppliable.map(({ name }) =>
        or([not(supplied.get(name)!), this.#node(updating.field(name).whole, { ...asked, field: name })]),
      ),
      ...this.#candidates(stamping, chosen, 'update', besides),
    ];
    const touched =
      fields === null
        ? 'true'
        : or([
            ...fields.flatMap((name) => supplied.get(name) ?? []),
            ...stamping
              .filter(({ rule }) => rule.stamps.some(({ field }) => fields.includes(field)))
              .map(({ rule }) => chosen.get(rule.id)!),
          ]);
    return and([...allowed, ...further, touched, this.#against('update', ['before', 'after'])]);
  }

  /** Fields that a request may supply: whether it does, and with what. */
  #supplying(operation: string, suppliable: readonly Field[]) {
    const supplied = new Map(suppliable.map(({ name }) => [name, this.#flag(`s_${name}`)]));
    const given = new Map(
      suppliable.map(({ name, type, required }) => [name, this.#encoder.fields.given(name, type, required)]),
    );
    this.#request = {
      operation,
      values: suppliable.map(({ name, type }) => ({ name, type, supplied: supplied.get(name)! })),
      stamping: [],
    };
    return { supplied, given };
  }

  acting(name: string): string {
    const { collection, fields } = this.#invariant;
    const own = permission(this.#rulebook, name, collection);
    const action = own.action!;
    const stamping = stampingOf(own);
    const touches = new Set([
      ...action.sets.keys(),
      ...stamping.flatMap(({ rule }) => rule.stamps.map(({ field }) => field)),
    ]);
    if (fields !== null && !fields.some((field) => touches.has(field))) return 'false';
    const given = new Map(
      [...action.parameters].map(([parameter, { type, required }]) => [
        parameter,
        this.#encoder.fields.given(parameter, type, required),
      ]),
    );
    this.#request = {
      operation: name,
      values: [...action.parameters].map(([parameter, { type }]) => ({
        name: parameter,
        type,
        supplied: null,
      })),
      stamping: [],
    };
    const pair = pairKey(name, collection);
    const values = new Map<string, Encoded>(
      [...action.sets].map(([field, set]): [string, Encoded] => {
        const { type } = this.#fields.get(field)!;
        if (set.kind === 'value') return [field, { ...this.#encoder.value(set.operand, pair), type }];
        if (set.kind === 'parameter') return [field, { ...given.get(set.name)!, type }];
        return [field, { ...this.#encoder.fields.of(collection, field, 'r', 'before'), present: 'false' }];
      }),
    );
    const { besides, chosen, further } = this.#stamped(stamping, values, name, () => ['true']);
    this.#request = { ...this.#request!, stamping: stamping.map(({ leaf }) => besides.get(leaf)!) };
    for (const { rule } of stamping)
      if (rule.stamps.some(({ field }) => action.sets.has(field))) further.push(not(chosen.get(rule.id)!));
    this.#encoder.fields.changed = { collection, record: 'r', values, created: false };
    const reference = (parameter: string) =>
      this.#readable(action.parameters.get(parameter)!, given.get(parameter)!);
    const stamped =
      fields === null || fields.some((field) => action.sets.has(field))
        ? 'true'
        : or(
            stamping
              .filter(({ rule }) => rule.stamps.some(({ field }) => fields.includes(field)))
              .map(({ rule }) => chosen.get(rule.id)!),
          );
    return and([
      this.#node(own.record, { besides, reference }),
      ...this.#candidates(stamping, chosen, name, besides),
      ...this.#required(action, values),
      ...further,
      stamped,
      this.#against(name, ['before', 'after']),
    ]);
  }

  creating(group: readonly Ground[]): string {
    const { collection, fields } = this.#invariant;
    const creating = permission(this.#rulebook, 'create', collection);
    const stamps = new Map(group[0]!.rule.stamps.map(({ field, value }) => [field, value]));
    const covered = new Set(group.flatMap(({ rule }) => [...rule.operations.get('create')!]));
    // Neither what the service fills in, nor what these rules do, is ever covered.
    const suppliable = [...this.#fields.values()].filter(({ name }) => covered.has(name));
    const { supplied, given } = this.#supplying('create', suppliable);
    const pair = pairKey('create', collection);
    const values = new Map<string, Encoded>();
    for (const { name, type, system, default: standard } of this.#fields.values()) {
      if (name === 'id') continue;
      const stamp = stamps.get(name);
      if (system) values.set(name, this.#now());
      else if (stamp !== undefined) values.set(name, { ...this.#encoder.value(stamp, pair), type });
      else {
        const otherwise: Encoded =
          standard === null
            ? {
                ...this.#encoder.value(
                  {
                    kind: 'nothing',
                    type: type.kind === 'list' || type.kind === 'json' ? simpleTypes.boolean : type,
                  },
                  pair,
                ),
                type,
              }
            : standard.kind === 'now'
              ? this.#now()
              : this.#encoder.value({ kind: 'literal', value: standard.value, type }, pair);
        values.set(
          name,
          supplied.has(name) ? choose(supplied.get(name)!, given.get(name)!, otherwise) : otherwise,
        );
      }
    }
    this.#encoder.fields.changed = { collection, record: 'r', values, created: true };
    const nodes = (name: string | null): string =>
      or(
        group
          .filter(({ rule }) => name === null || rule.operations.get('create')!.has(name))
          .map(({ node }) => this.#node(node, { field: name })),
      );
    return and([
      nodes(null),
      this.#node(creating.fenced),
      ...suppliable.map(({ name, type }) =>
        or([
          not(supplied.get(name)!),
          and([
            nodes(name),
            this.#node(creating.field(name).fenced),
            type.kind === 'ref' ? this.#readable({ type }, given.get(name)!) : 'true',
          ]),
        ]),
      ),
      ...[...this.#fields.values()].flatMap(({ name, required }) =>
        required && name !== 'id' ? [values.get(name)!.present] : [],
      ),
      fields === null
        ? 'true'
        : or(
            // Sent, or there all the same: filled in, or by default.
            fields.flatMap((name) => [
              ...(supplied.has(name) ? [supplied.get(name)!] : []),
              values.has(name) ? values.get(name)!.present : 'true',
            ]),
          ),
      this.#against('create', ['after']),
    ]);
  }

  /** What stamps put in, each where its rule is chosen. A rule that stamps counts only where it is. */
  #stamped(
    stamping: readonly Ground[],
    values: Map<string, Encoded>,
    operation: string,
    covers: (ground: Ground) => readonly string[],
  ) {
    const { collection } = this.#invariant;
    const besides = new Map<TrueOf, string>();
    const chosen = new Map<string, string>();
    const further: string[] = [];
    for (const ground of stamping) {
      const flag = this.#encoder.fresh('stamps', 'Bool');
      chosen.set(ground.rule.id, flag);
      besides.set(ground.leaf, flag);
      further.push(or([not(flag), ...covers(ground)]));
      if (ground.rule.stamps.some(({ field }) => raises(this.#rulebook, collection, field)))
        further.push(not(and([flag, 'person', '(= me r)'])));
      for (const { field, value } of ground.rule.stamps) {
        const before = values.get(field) ?? this.#encoder.fields.of(collection, field, 'r', 'before');
        values.set(field, choose(flag, this.#stampValue({ field, value }, operation), before));
      }
    }
    return { besides, chosen, further };
  }

  #stampValue({ field, value }: Stamp, operation: string): Encoded {
    const encoded = this.#encoder.value(value, pairKey(operation, this.#invariant.collection));
    return { ...encoded, type: this.#fields.get(field)!.type };
  }

  /** A rule that stamps is true with what is stamped, or is somebody's who shares the record. */
  #candidates(
    stamping: readonly Ground[],
    chosen: ReadonlyMap<string, string>,
    operation: string,
    besides: ReadonlyMap<TrueOf, string>,
  ): string[] {
    const { collection } = this.#invariant;
    if (operation === 'update' && shareableCollections(this.#rulebook).has(collection)) return [];
    return stamping.map(({ rule, node }) => or([not(chosen.get(rule.id)!), this.#node(node, { besides })]));
  }

  #required(action: Action, values: ReadonlyMap<string, Encoded>): string[] {
    return [...action.sets.keys()].flatMap((field) =>
      this.#fields.get(field)!.required ? [values.get(field)!.present] : [],
    );
  }

  /** What a reference is given can be read by the caller, as things are before the step. */
  #readable(field: Pick<Field, 'type'>, { term, present }: Encoded): string {
    const collection = targetOf(field);
    const readable = this.#permitted('read', collection, term);
    return or([not(present), and([this.#encoder.there(collection, term), readable])]);
  }

  /** The caller may do this to a record at the end of a reference, as things are before the step. */
  #permitted(operation: Operation, collection: string, record: string): string {
    const asked = asking(record, { world: 'before' });
    return this.#encoder.within(collection, () => this.#encoder.permitted(operation, collection, asked));
  }

  #node(node: Node, asked: Partial<Asked> = {}): string {
    return this.#encoder.formula(node, asking('r', asked));
  }

  /** The condition is not true on one of the sides. */
  #against(operation: string, worlds: readonly ('before' | 'after')[]): string {
    const { collection, only } = this.#invariant;
    const pair = pairKey(operation, collection);
    return or(
      worlds.map((world) =>
        not(
          this.#encoder.condition(only, {
            frame: [{ term: 'r', collection }],
            pair,
            world,
            sides: true,
            who: '',
          }).yes,
        ),
      ),
    );
  }

  #now(): Encoded {
    return { term: 'now', present: 'true', type: simpleTypes.timestamp };
  }

  #flag(name: string): string {
    this.#encoder.declarations.constant(name, 'Bool');
    return name;
  }
}

function choose(flag: string, yes: Encoded, no: Encoded): Encoded {
  const either = (one: string, other: string) => (one === other ? one : `(ite ${flag} ${one} ${other})`);
  return { term: either(yes.term, no.term), present: either(yes.present, no.present), type: no.type };
}
