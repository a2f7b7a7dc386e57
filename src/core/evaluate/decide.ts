import { actionKey, type Action, type Operation, type Rule, type Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import type { Type, Value } from '../types/types.ts';
import { sameValue } from '../types/values.ts';
import type { Caller, RecordValues } from './caller.ts';
import { compilePredicate, evaluateOperand, type Circumstances, type Predicate } from './closures.ts';
import {
  actionGrants,
  allowsWhole,
  allowsSupplied,
  createGroups,
  grantsFor,
  mayDecider,
  promotesItself,
  recordFences,
  refusedByName,
  shownFields,
  stampers,
  uncoveredByName,
  type Asked,
  type Grants,
  type Holds,
} from './combine.ts';

/**
 * One answer by the closures alone, from beginning to end: what the store works out with PostgreSQL, asked for the
 * sake of explaining and of verifying. What has nothing to do with rules (required and unique values, circles of a
 * tree, records that others point at) is not part of it.
 */
export type World = Pick<Circumstances, 'now' | 'look' | 'all'>;

export interface Question {
  readonly operation: Operation;
  readonly collection: string;
  /** The record as it is; null for a create. */
  readonly record: RecordValues | null;
  /** What is supplied, each of its type: fields of an update or a create, parameters of an action. */
  readonly values: ReadonlyMap<string, Value>;
}

export interface Decision {
  readonly allowed: boolean;
  /** Which of the checks said no, in their order; the first answers alone. */
  readonly refusedBy:
    | null
    | 'not readable'
    | 'not covered'
    | 'reference not readable'
    | 'stamps differ'
    | 'no rule'
    | 'unclear';
  /** The fields that it is about; of a read that is allowed: those shown. */
  readonly fields: readonly string[];
  /** The record as it would be after the write; null where that was not reached. */
  readonly after: RecordValues | null;
}

/** The rules of one caller over one world. Predicates are compiled once for each. */
export class Decider {
  readonly rulebook: Rulebook;
  readonly caller: Caller;
  readonly world: World;
  readonly #may: Circumstances['may'];
  readonly #predicates = new WeakMap<Asked, Predicate>();

  constructor(rulebook: Rulebook, caller: Caller, world: World) {
    this.rulebook = rulebook;
    this.caller = caller;
    this.world = world;
    this.#may = mayDecider(rulebook);
  }

  decide(question: Question): Decision {
    const { operation, collection, record } = question;
    if (operation === 'create') return this.#create(question);
    const shown = this.shown(collection, record!);
    if (shown === null) return no('not readable');
    if (operation === 'read') return { allowed: true, refusedBy: null, fields: [...shown], after: null };
    if (operation === 'delete' || operation === 'share') {
      const grants = this.grants(collection, operation);
      const around = { ...this.around(grants), old: { record: record!, look: this.world.look } };
      return allowsWhole(grants, operation, this.holds(record!, around)) ? yes(null) : no('no rule');
    }
    const action = this.rulebook.actions.get(actionKey(collection, operation));
    return action === undefined ? this.#update(question) : this.#act(question, action);
  }

  /** The fields shown of a record; null where it is not readable. */
  shown(collection: string, record: RecordValues): Set<string> | null {
    const grants = this.grants(collection, 'read');
    const fields = collectionOf(this.rulebook.schema, collection).fields.keys();
    return shownFields(grants, fields, this.holds(record, this.around(grants)));
  }

  grants(collection: string, operation: Operation): Grants {
    return grantsFor(this.rulebook, this.caller, collection, operation);
  }

  /** What a condition of these grants is asked in, with the record as it is. */
  around({ roles }: Pick<Grants, 'roles'>): Circumstances {
    return { ...this.world, caller: this.caller, roles, may: this.#may };
  }

  holds(record: RecordValues, circumstances: Circumstances): Holds {
    return (asked) => {
      const predicate = this.#predicates.get(asked) ?? compilePredicate(asked.when);
      this.#predicates.set(asked, predicate);
      return predicate(record, circumstances) === true;
    };
  }

  /** Both sides of a change: the record before in the world as it is, the record after in the world with the change. */
  sides(
    grants: Pick<Grants, 'roles'>,
    collection: string,
    before: RecordValues,
    after: RecordValues,
  ): { readonly before: Circumstances; readonly after: Circumstances } {
    const changed = this.#withRecord(collection, after);
    const sides = {
      old: { record: before, look: this.world.look },
      new: { record: after, look: changed.look },
    };
    const around = this.around(grants);
    return { before: { ...around, ...sides }, after: { ...around, ...changed, ...sides } };
  }

  /** The world in which a record is there as it would become. */
  asCreated(grants: Pick<Grants, 'roles'>, collection: string, record: RecordValues): Circumstances {
    return { ...this.around(grants), ...this.#withRecord(collection, record) };
  }

  #withRecord(collection: string, record: RecordValues): Pick<World, 'look' | 'all'> {
    const { look, all } = this.world;
    return {
      look: (name, id) => (name === collection && id === record.id ? record : look(name, id)),
      all: (name, beside) =>
        name === collection
          ? [...[...all(name, beside)].filter((each) => each.id !== record.id), record]
          : all(name, beside),
    };
  }

  #update({ collection, record, values }: Question): Decision {
    const names = [...values.keys()];
    const grants = this.grants(collection, 'update');
    const id = record!.id as string;
    const uncovered = [
      ...uncoveredByName(grants, 'update', names),
      ...promotesItself(this.rulebook, this.caller, collection, id, names),
    ];
    if (uncovered.length > 0) return no('not covered', [...new Set(uncovered)]);
    const { fields } = collectionOf(this.rulebook.schema, collection);
    const unreadable = this.#unreadable(fields, values);
    if (unreadable.length > 0) return no('reference not readable', unreadable);
    const settled = this.#settle(grants, 'update', collection, record!, values);
    if (settled === null) return no('stamps differ');
    const { allowed, refused } = allowsSupplied(grants, 'update', names, settled.holds);
    return allowed ? yes(settled.after) : { ...no('no rule', refused), after: settled.after };
  }

  #act({ collection, record, values }: Question, action: Action): Decision {
    const { own, updating } = actionGrants(this.rulebook, this.caller, action);
    const chosen = [...action.sets].filter(([, set]) => set.kind === 'parameter').map(([field]) => field);
    const id = record!.id as string;
    if (promotesItself(this.rulebook, this.caller, collection, id, chosen).length > 0)
      return no('not covered');
    const unreadable = this.#unreadable(action.parameters, values);
    if (unreadable.length > 0) return no('reference not readable', unreadable);
    const settled = this.#settle(own, action.name, collection, record!, this.valuesSet(action, values));
    if (settled === null) return no('stamps differ');
    const sides = this.sides(updating, collection, record!, settled.after);
    const passes = bothHold(this, record!, settled.after, sides);
    const allowed =
      own.rules.some(settled.holds) &&
      recordFences(own, action.name).every(settled.holds) &&
      updating.fences.every(passes);
    return allowed ? yes(settled.after) : { ...no('no rule'), after: settled.after };
  }

  #create({ collection, values }: Question): Decision {
    const names = [...values.keys()];
    const grants = this.grants(collection, 'create');
    const uncovered = refusedByName(grants, names);
    if (uncovered.length > 0) return no('not covered', uncovered);
    const { fields } = collectionOf(this.rulebook.schema, collection);
    const unreadable = this.#unreadable(fields, values);
    if (unreadable.length > 0) return no('reference not readable', unreadable);
    const candidates = new Map<string, RecordValues>();
    for (const group of createGroups(grants.rules, names)) {
      const record = this.completed(collection, values, group.rules[0]!);
      const holds = this.holds(record, this.asCreated(grants, collection, record));
      if (allowsSupplied({ ...grants, rules: group.rules }, 'create', names, holds).allowed)
        candidates.set(JSON.stringify(record), record);
    }
    const [made] = candidates.values();
    if (candidates.size > 1) return no('unclear');
    return made === undefined ? no('no rule') : yes(made);
  }

  /** What an action sets, by field. A parameter that is not given is missing. */
  valuesSet({ sets }: Action, given: ReadonlyMap<string, Value>): Map<string, Value> {
    const around = this.around({ roles: new Set() });
    return new Map(
      [...sets].map(([field, set]) => {
        if (set.kind === 'missing') return [field, null];
        if (set.kind === 'parameter') return [field, given.get(set.name) ?? null];
        return [field, evaluateOperand(set.operand, around)];
      }),
    );
  }

  /** A new record: what is supplied, then the stamps of the rule, then defaults. */
  completed(collection: string, supplied: ReadonlyMap<string, Value>, rule: Rule): RecordValues {
    const values: Record<string, Value> = {};
    for (const field of collectionOf(this.rulebook.schema, collection).fields.values()) {
      if (field.system) values[field.name] = field.name === 'id' ? NEW_ID : this.world.now;
      else if (supplied.has(field.name)) values[field.name] = supplied.get(field.name)!;
      else if (field.default?.kind === 'now') values[field.name] = this.world.now;
      else values[field.name] = field.default?.value ?? null;
    }
    return { ...values, ...Object.fromEntries(this.stampsOf(rule)) };
  }

  stampsOf(rule: Rule): Map<string, Value> {
    const around = this.around({ roles: new Set() });
    return new Map(rule.stamps.map(({ field, value }) => [field, evaluateOperand(value, around)]));
  }

  /** See store/records/settle.ts: the stamps that come along are those of the rules that are true with them. */
  #settle(
    grants: Grants,
    operation: Operation,
    collection: string,
    before: RecordValues,
    base: ReadonlyMap<string, Value>,
  ): { readonly after: RecordValues; readonly holds: Holds } | null {
    const trying = (changes: ReadonlyMap<string, Value>) => {
      const after = { ...before, ...Object.fromEntries(changes) };
      const sides = this.sides(grants, collection, before, after);
      return { after, sides, holds: bothHold(this, before, after, sides) };
    };
    let stamping = stampers(grants, operation, [...base.keys()]);
    const asItIs = trying(base);
    stamping = stamping.filter(this.holds(before, asItIs.sides.before));
    for (;;) {
      const stamps = this.#joinedStamps(collection, stamping);
      if (stamps === null || [...stamps.keys()].some((field) => base.has(field))) return null;
      const changes = new Map([...base, ...stamps]);
      if (changes.size > 0) changes.set('updated_at', this.world.now);
      const tried = trying(changes);
      const real = stamping.filter(tried.holds);
      if (real.length === stamping.length) return tried;
      stamping = real;
    }
  }

  #joinedStamps(collection: string, rules: readonly Rule[]): Map<string, Value> | null {
    const { fields } = collectionOf(this.rulebook.schema, collection);
    const joined = new Map<string, Value>();
    for (const [field, value] of rules.flatMap((rule) => [...this.stampsOf(rule)])) {
      if (joined.has(field) && !sameValue(fields.get(field)!.type, joined.get(field)!, value)) return null;
      joined.set(field, value);
    }
    return joined;
  }

  #unreadable(
    types: ReadonlyMap<string, { readonly type: Type }>,
    values: ReadonlyMap<string, Value>,
  ): string[] {
    return [...values].flatMap(([name, id]) => {
      const { type } = types.get(name)!;
      if (type.kind !== 'ref' || id === null) return [];
      const record = this.world.look(type.collection, id as string);
      return record !== null && this.shown(type.collection, record) !== null ? [] : [name];
    });
  }
}

/** The id that a record which is only thought of has: that of no record (RFC 9562, 5.9). */
export const NEW_ID = '00000000-0000-0000-0000-000000000000';

function bothHold(
  decider: Decider,
  before: RecordValues,
  after: RecordValues,
  sides: { readonly before: Circumstances; readonly after: Circumstances },
): Holds {
  const [first, second] = [decider.holds(before, sides.before), decider.holds(after, sides.after)];
  return (asked) => first(asked) && second(asked);
}

function yes(after: RecordValues | null): Decision {
  return { allowed: true, refusedBy: null, fields: [], after };
}

function no(refusedBy: NonNullable<Decision['refusedBy']>, fields: readonly string[] = []): Decision {
  return { allowed: false, refusedBy, fields, after: null };
}
