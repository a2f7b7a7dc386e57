import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import type { Follows, RefusedBy } from '../../src/core/decide/steps/verdict.ts';
import {
  compilePredicate,
  evaluateOperand,
  type MayDecider,
  type Predicate,
} from '../../src/core/evaluate/closures.ts';
import { NEW_ID, type Question, type World } from '../../src/core/evaluate/decider.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import {
  actionKey,
  pairKey,
  type Action,
  type Audience,
  type Fence,
  type Rulebook,
  type Stamp,
} from '../../src/core/ir/rulebook.ts';
import { collectionOf, type Collection, type Field, type Schema } from '../../src/core/types/schema.ts';
import type { Value } from '../../src/core/types/types.ts';
import { sameValue } from '../../src/core/types/values.ts';

/**
 * What docs/language.md says, read as plainly as it can be: no formulas, no steps, nothing kept and nothing fast. It shares with the
 * service only how a condition comes out. It is there so that a mistake in the one decision that everything else interprets is
 * seen by something that does not interpret it.
 */
export interface Plainly {
  readonly refusedBy: RefusedBy | null;
  readonly shown: readonly string[];
  readonly after: RecordValues | null;
  readonly follows: Follows | null;
}

/** A reason to allow: one of the caller's own rules, or what somebody shares with them. */
interface Reason {
  readonly covers: (field: string) => boolean;
  /** Set on create and by actions; on update only by a sentence about update alone. */
  readonly stamps: readonly Stamp[];
  readonly holds: (moment: Moment) => boolean;
}

/** A record before and after, and the world around each. */
interface Moment {
  readonly before: RecordValues | null;
  readonly after: RecordValues | null;
  readonly world: World;
  /** Where more than the record changes. */
  readonly afterwards?: World;
}

type Values = ReadonlyMap<string, Value>;

const predicates = new WeakMap<Condition, Predicate>();

function predicateOf(when: Condition): Predicate {
  const known = predicates.get(when) ?? compilePredicate(when);
  predicates.set(when, known);
  return known;
}

export class Plain {
  readonly #rulebook: Rulebook;
  readonly #caller: Caller;
  readonly #world: World;

  constructor(rulebook: Rulebook, caller: Caller, world: World) {
    this.#rulebook = rulebook;
    this.#caller = caller;
    this.#world = world;
  }

  decide({ operation, collection, record, values }: Question): Plainly {
    if (operation === 'create') return this.#create(collection, values);
    if (operation === 'read') {
      const shown = this.#shown(collection, record!, this.#world);
      return { ...refused(shown === null ? 'not readable' : null), shown: [...(shown ?? [])] };
    }
    if (this.#shown(collection, record!, this.#world) === null) return refused('not readable');
    if (operation === 'share') return this.#share(collection, record!);
    if (operation === 'delete') return this.#delete(collection, record!);
    const action = this.#rulebook.actions.get(actionKey(collection, operation));
    return action === undefined
      ? this.#update(collection, record!, values)
      : this.#act(action, record!, values);
  }

  // ——— who is spoken of

  #held(operation: string, collection: string): Set<string> {
    const held = new Set<string>();
    for (const name of this.#caller.roles)
      for (const [role, pairs] of this.#rulebook.roles.get(name)?.includes ?? [])
        if (pairs === 'all' || pairs.has(pairKey(operation, collection))) held.add(role);
    return held;
  }

  #speaks({ everybody, people, visitors, roles }: Audience, operation: string, collection: string): boolean {
    if (everybody) return true;
    if (this.#caller.person === null) return visitors;
    return people || [...this.#held(operation, collection)].some((role) => roles.has(role));
  }

  #isOwn(collection: string, record: RecordValues | null): boolean {
    return collection === 'people' && this.#caller.person !== null && record?.id === this.#caller.person.id;
  }

  /** May nobody change it on their own entry? */
  #raises(collection: string, field: string): boolean {
    const { ofTheCaller } = this.#rulebook;
    return (
      collection === 'people' &&
      ofTheCaller.get('people')?.has(field) === true &&
      !this.#field(collection, field).selfSet
    );
  }

  #field(collection: string, field: string): Field {
    return collectionOf(this.#rulebook.schema, collection).fields.get(field)!;
  }

  // ——— conditions

  /** Exactly true, on every side that there is. */
  #holds(
    when: Condition,
    operation: string,
    collection: string,
    { before, after, world, afterwards }: Moment,
  ): boolean {
    const roles = this.#held(operation, collection);
    const { look, all, now } = world;
    const changed: World = afterwards ?? {
      now,
      look: (name, id) => (name === collection && id === after?.id ? after : look(name, id)),
      all: (name, beside) =>
        name === collection && after !== null
          ? [...[...all(name, beside)].filter(({ id }) => id !== after.id), after]
          : all(name, beside),
    };
    const sides = {
      ...(before === null ? {} : { old: { record: before, look } }),
      ...(after === null ? {} : { new: { record: after, look: changed.look } }),
    };
    const asked = (of: RecordValues, within: World) =>
      predicateOf(when)(of, { ...within, ...sides, caller: this.#caller, roles, may: this.#mayIn }) === true;
    return (before === null || asked(before, world)) && (after === null || asked(after, changed));
  }

  /** `me may …`: what the rules say of a record as it is, with the record on both sides of a change. */
  readonly #mayIn: MayDecider = ({ operation, collection, fields }, record, { now, look, all }) => {
    const world = { now, look, all };
    if (this.#shown(collection, record, world) === null) return false;
    if (operation === 'read') return true;
    const moment = { before: record, after: operation === 'update' ? record : null, world };
    const reasons = this.#reasons(operation, collection, record, world).filter(({ holds }) => holds(moment));
    return (
      reasons.length > 0 &&
      this.#passes(operation, collection, null, moment) &&
      fields.every(
        (field) =>
          reasons.some(({ covers }) => covers(field)) &&
          this.#passes(operation, collection, field, moment) &&
          !(this.#raises(collection, field) && this.#isOwn(collection, record)),
      )
    );
  };

  #valueOf(operand: Parameters<typeof evaluateOperand>[0]): Value {
    return evaluateOperand(operand, {
      ...this.#world,
      caller: this.#caller,
      roles: new Set(),
      may: () => false,
    });
  }

  // ——— rules and fences

  #reasons(operation: string, collection: string, record: RecordValues | null, world: World): Reason[] {
    const own = this.#rulebook.rules
      .filter((rule) => rule.collection === collection && rule.operations.has(operation))
      .filter(({ audience }) => this.#speaks(audience, operation, collection))
      .map((rule): Reason => ({
        covers: (field) => rule.operations.get(operation)!.has(field),
        stamps: operation === 'update' && rule.operations.size > 1 ? [] : rule.stamps,
        holds: (moment) => this.#holds(rule.when, operation, collection, moment),
      }));
    return [...own, ...(record === null ? [] : this.#shared(operation, collection, record, world))];
  }

  /** What others share of the record: by one of their own rules, past their own fences, field by field. */
  #shared(operation: string, collection: string, record: RecordValues, world: World): Reason[] {
    return (this.#caller.shared ?? [])
      .filter((each) => each.collection === collection && each.operation === operation)
      .filter(({ records }) => records!.includes(record.id as string))
      .flatMap(({ sharer }): Reason[] => {
        const alone = new Plain(this.#rulebook, sharer, world);
        if (
          alone.#share(collection, record).refusedBy !== null ||
          alone.#shown(collection, record, world) === null
        )
          return [];
        return alone.#reasons(operation, collection, null, world).flatMap((reason): Reason[] => {
          const passes = (moment: Moment) =>
            reason.holds(moment) && alone.#passes(operation, collection, null, moment);
          if (operation === 'delete') return [{ ...reason, holds: passes }];
          const fields = [...collectionOf(this.#rulebook.schema, collection).fields.keys()];
          return fields.filter(reason.covers).map((field) => ({
            covers: (each) => each === field,
            stamps: reason.stamps,
            holds: (moment) =>
              passes(moment) &&
              alone.#passes(operation, collection, field, moment) &&
              !(
                operation === 'update' &&
                alone.#raises(collection, field) &&
                alone.#isOwn(collection, record)
              ),
          }));
        });
      });
  }

  #fences(operation: string, collection: string): Fence[] {
    const held = this.#held(operation, collection);
    return this.#rulebook.fences.filter(
      (fence) =>
        fence.collection === collection &&
        fence.operations.has(operation) &&
        ![...fence.exempt].some((role) => held.has(role)),
    );
  }

  /** Every fence on the record, or on one of its fields. */
  #passes(operation: string, collection: string, field: string | null, moment: Moment): boolean {
    return this.#fences(operation, collection)
      .filter((fence) => {
        const about = fence.operations.get(operation)!;
        return field === null ? about === null : about?.has(field) === true;
      })
      .every((fence) => this.#holds(fence.when, operation, collection, moment));
  }

  /** Nobody passes it, whatever the record. */
  #isShut(operation: string, collection: string, field: string | null): boolean {
    return this.#fences(operation, collection).some((fence) => {
      const about = fence.operations.get(operation)!;
      const isIt = field === null ? about === null : about?.has(field) === true;
      return isIt && fence.when.kind === 'constant' && !fence.when.value;
    });
  }

  // ——— operations

  #shown(collection: string, record: RecordValues, world: World): Set<string> | null {
    const moment = { before: record, after: null, world };
    const reasons = this.#reasons('read', collection, record, world).filter(({ holds }) => holds(moment));
    if (reasons.length === 0 || !this.#passes('read', collection, null, moment)) return null;
    const fields = [...collectionOf(this.#rulebook.schema, collection).fields.keys()];
    return new Set(
      fields.filter(
        (field) =>
          field === 'id' ||
          (reasons.some(({ covers }) => covers(field)) && this.#passes('read', collection, field, moment)),
      ),
    );
  }

  #share(collection: string, record: RecordValues): Plainly {
    const moment = { before: record, after: null, world: this.#world };
    const isRight =
      this.#reasons('share', collection, null, this.#world).some(({ holds }) => holds(moment)) &&
      this.#passes('share', collection, null, moment);
    if (!isRight) return refused('no rule');
    const { person, roles } = this.#caller;
    const alone = new Plain(this.#rulebook, { person, roles }, this.#world);
    return refused(alone.#shown(collection, record, this.#world) === null ? 'only shared' : null);
  }

  /** The references that point at nothing that the caller can read. */
  #lost(types: ReadonlyMap<string, Pick<Field, 'type'>>, values: Values): boolean {
    return [...values].some(([name, target]) => {
      const { type } = types.get(name)!;
      if (type.kind !== 'ref' || target === null) return false;
      const pointed = this.#world.look(type.collection, target as string);
      return pointed === null || this.#shown(type.collection, pointed, this.#world) === null;
    });
  }

  #update(collection: string, record: RecordValues, values: Values): Plainly {
    const { fields } = collectionOf(this.#rulebook.schema, collection);
    const names = [...values.keys()];
    const reasons = this.#reasons('update', collection, record, this.#world);
    const isClosed = (name: string) =>
      !reasons.some(({ covers }) => covers(name)) ||
      this.#isShut('update', collection, name) ||
      (this.#raises(collection, name) && this.#isOwn(collection, record));
    if (names.some(isClosed)) return refused('not covered');
    if (this.#lost(fields, values)) return refused('reference not readable');
    return this.#settle('update', collection, record, values, names, reasons);
  }

  #act(action: Action, record: RecordValues, values: Values): Plainly {
    const { collection, name, sets, parameters } = action;
    const reasons = this.#reasons(name, collection, null, this.#world);
    if (reasons.length === 0) return refused('no rule');
    if (this.#isOwn(collection, record) && [...sets.keys()].some((field) => this.#raises(collection, field)))
      return refused('own record');
    if (this.#lost(parameters, values)) return refused('reference not readable');
    const set = new Map(
      [...sets].map(([field, to]): [string, Value] => [
        field,
        to.kind === 'value'
          ? this.#valueOf(to.operand)
          : to.kind === 'missing'
            ? null
            : (values.get(to.name) ?? null),
      ]),
    );
    return this.#settle(name, collection, record, set, [], reasons);
  }

  /** Stamps, then rules and fences on both sides, then what is no matter of rules. */
  #settle(
    operation: string,
    collection: string,
    before: RecordValues,
    base: Values,
    names: readonly string[],
    reasons: readonly Reason[],
  ): Plainly {
    const { fields, tree } = collectionOf(this.#rulebook.schema, collection);
    const isAction = operation !== 'update';
    const changedBy = (stamps: Values) => {
      const all = new Map([...base, ...stamps]);
      return all.size === 0 ? all : all.set('updated_at', this.#world.now);
    };
    const momentOf = (changed: Values): Moment => ({
      before,
      after: { ...before, ...Object.fromEntries(changed) },
      world: this.#world,
    });
    const stampsOf = ({ stamps }: Reason) =>
      new Map(stamps.map(({ field, value }) => [field, this.#valueOf(value)]));
    const stamping = reasons.filter(
      ({ stamps, covers }) => stamps.length > 0 && (isAction || names.some(covers)),
    );
    const candidates = stamping.filter((reason) => reason.holds(momentOf(changedBy(stampsOf(reason)))));
    const joined = new Map<string, Value>();
    for (const [field, value] of candidates.flatMap((each) => [...stampsOf(each)])) {
      if (base.has(field)) return refused('stamps differ');
      if (joined.has(field) && !sameValue(fields.get(field)!.type, joined.get(field)!, value))
        return refused('stamps differ');
      joined.set(field, value);
    }
    if (
      this.#isOwn(collection, before) &&
      [...joined.keys()].some((field) => this.#raises(collection, field))
    )
      return refused('own record');
    const changed = changedBy(joined);
    const moment = momentOf(changed);
    if (candidates.some(({ holds }) => !holds(moment))) return refused('stamp undoes');
    const counting = reasons
      .filter((each) => !stamping.includes(each) || candidates.includes(each))
      .filter(({ holds }) => holds(moment));
    const fenced =
      this.#passes(operation, collection, null, moment) &&
      (!isAction ||
        // An action updates what it sets.
        (this.#passes('update', collection, null, moment) &&
          [...base.keys()].every((field) => this.#passes('update', collection, field, moment))));
    const covered = names.every(
      (name) =>
        counting.some(({ covers }) => covers(name)) && this.#passes(operation, collection, name, moment),
    );
    if (counting.length === 0 || !fenced || !covered) return refused('no rule');
    if ([...changed].some(([name, value]) => value === null && fields.get(name)!.required))
      return refused('value required');
    if (tree !== null && (changed.get(tree) ?? null) !== null) {
      const above = new Set<string>();
      for (let at = changed.get(tree) as string | null; at !== null && !above.has(at);) {
        above.add(at);
        at = (this.#world.look(collection, at)?.[tree] ?? null) as string | null;
      }
      if (above.has(before.id as string)) return refused('circle');
    }
    return { ...refused(null), after: moment.after, follows: { removed: new Map(), cleared: [] } };
  }

  #create(collection: string, values: Values): Plainly {
    const { fields } = collectionOf(this.#rulebook.schema, collection);
    const names = [...values.keys()];
    const reasons = this.#reasons('create', collection, null, this.#world);
    const fills = ({ stamps }: Reason, name: string) => stamps.some(({ field }) => field === name);
    const isTaken = (name: string) => reasons.some((each) => each.covers(name) && !fills(each, name));
    if (names.some((name) => !isTaken(name) || this.#isShut('create', collection, name)))
      return refused('not covered');
    if (reasons.length === 0 || this.#isShut('create', collection, null)) return refused('no rule');
    if (this.#lost(fields, values)) return refused('reference not readable');
    const made = new Map<string, RecordValues>();
    for (const key of new Set(reasons.map(({ stamps }) => JSON.stringify(stamps)))) {
      const group = reasons.filter(({ stamps }) => JSON.stringify(stamps) === key);
      if (names.some((name) => fills(group[0]!, name))) continue;
      const stamped = new Map(group[0]!.stamps.map(({ field, value }) => [field, this.#valueOf(value)]));
      const valueFor = ({ name, system, default: given }: Field): Value => {
        if (name === 'id') return NEW_ID;
        if (system) return this.#world.now;
        if (stamped.has(name)) return stamped.get(name)!;
        if (values.has(name)) return values.get(name)!;
        return given === null ? null : given.kind === 'now' ? this.#world.now : given.value;
      };
      const after = Object.fromEntries([...fields.values()].map((field) => [field.name, valueFor(field)]));
      const moment = { before: null, after, world: this.#world };
      const holding = group.filter(({ holds }) => holds(moment));
      const isAllowed =
        holding.length > 0 &&
        this.#passes('create', collection, null, moment) &&
        names.every(
          (name) =>
            holding.some(({ covers }) => covers(name)) && this.#passes('create', collection, name, moment),
        );
      if (isAllowed) made.set(JSON.stringify(after), after);
    }
    const [after] = made.values();
    if (after === undefined) return refused('no rule');
    if (made.size > 1) return refused('unclear');
    if ([...fields.values()].some(({ name, required }) => required && (after[name] ?? null) === null))
      return refused('value required');
    return { ...refused(null), after, follows: { removed: new Map(), cleared: [] } };
  }

  #delete(collection: string, record: RecordValues): Plainly {
    const moment = { before: record, after: null, world: this.#world };
    const isRight =
      this.#reasons('delete', collection, record, this.#world).some(({ holds }) => holds(moment)) &&
      this.#passes('delete', collection, null, moment);
    if (!isRight) return refused('no rule');
    const { schema } = this.#rulebook;
    const gone = new Map<string, Set<string>>([...schema.keys()].map((name) => [name, new Set<string>()]));
    gone.get(collection)!.add(record.id as string);
    const pointing = (
      [holder, { name, type, system }]: readonly [Collection, Field],
      target: string,
      ids: readonly string[],
    ) =>
      system || type.kind !== 'ref' || type.collection !== target
        ? []
        : [...this.#world.all(holder.name)].filter(
            (each) => ids.includes(each[name] as string) && !gone.get(holder.name)!.has(each.id as string),
          );
    const passes = (
      [holder, { name, onDelete }]: readonly [Collection, Field],
      each: RecordValues,
    ): boolean => {
      const seen = { before: each, after: null, world: this.#world };
      if (!this.#passes('read', holder.name, null, seen)) return false;
      if (onDelete === 'remove') return this.#passes('delete', holder.name, null, seen);
      return !(this.#isOwn(holder.name, each) && this.#raises(holder.name, name));
    };
    const queue = [{ collection, ids: [record.id as string] }];
    for (const { collection: target, ids } of queue)
      for (const by of fieldsThat('remove', schema)) {
        const found = pointing(by, target, ids);
        if (!found.every((each) => passes(by, each))) return refused('follows fenced');
        for (const { id } of found) gone.get(by[0].name)!.add(id as string);
        if (found.length > 0)
          queue.push({ collection: by[0].name, ids: found.map(({ id }) => id as string) });
      }
    // What goes along loses no reference.
    const cleared: Follows['cleared'][number][] = [];
    const left = (name: string, each: RecordValues): RecordValues => {
      const lost = cleared.filter(
        ({ collection: of, ids }) => of === name && ids.includes(each.id as string),
      );
      return lost.length === 0
        ? each
        : {
            ...each,
            updated_at: this.#world.now,
            ...Object.fromEntries(lost.map(({ field }) => [field, null])),
          };
    };
    const afterwards: World = {
      now: this.#world.now,
      look: (name, id) => {
        const each = gone.get(name)!.has(id) ? null : this.#world.look(name, id);
        return each === null ? null : left(name, each);
      },
      all: (name) =>
        [...this.#world.all(name)]
          .filter(({ id }) => !gone.get(name)!.has(id as string))
          .map((each) => left(name, each)),
    };
    for (const [target, all] of gone)
      for (const by of fieldsThat('clear', schema)) {
        const found = pointing(by, target, [...all]);
        if (!found.every((each) => passes(by, each))) return refused('follows fenced');
        const ids = found.map(({ id }) => id as string);
        if (ids.length > 0)
          cleared.push({ collection: by[0].name, field: by[1].name, ids, targets: [...all] });
      }
    for (const { collection: holder, field, ids } of cleared)
      for (const id of ids) {
        const before = this.#world.look(holder, id)!;
        const change = { before, after: left(holder, before), world: this.#world, afterwards };
        if (!this.#passes('update', holder, null, change) || !this.#passes('update', holder, field, change))
          return refused('follows fenced');
      }
    const isHeld = [...schema.values()].some((holder) =>
      [...holder.fields.values()].some(
        ({ name, type, onDelete, system }) =>
          !system &&
          type.kind === 'ref' &&
          onDelete === 'refuse' &&
          [...this.#world.all(holder.name)].some(
            (each) =>
              gone.get(type.collection)!.has(each[name] as string) &&
              !gone.get(holder.name)!.has(each.id as string),
          ),
      ),
    );
    if (isHeld) return refused('still referenced');
    gone.get(collection)!.delete(record.id as string);
    const removed = new Map([...gone].map(([name, ids]) => [name, [...ids]] as const));
    return { ...refused(null), follows: { removed, cleared } };
  }
}

function refused(refusedBy: RefusedBy | null): Plainly {
  return { refusedBy, shown: [], after: null, follows: null };
}

function fieldsThat(onDelete: Field['onDelete'], schema: Schema): (readonly [Collection, Field])[] {
  return [...schema.values()].flatMap((holder) =>
    [...holder.fields.values()]
      .filter((field) => field.onDelete === onDelete)
      .map((field) => [holder, field] as const),
  );
}
