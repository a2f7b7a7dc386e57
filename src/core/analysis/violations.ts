import { rolesFor, type Caller, type RecordValues } from '../decide/caller.ts';
import type { Pair } from '../decide/nodes.ts';
import { permissionOf } from '../decide/permission.ts';
import { settled } from '../decide/condition.ts';
import { SHARE } from '../decide/shares.ts';
import type { Change } from '../decide/steps/asking.ts';
import type { Decider, Decision, Question, Side } from '../evaluate/decider.ts';
import { predicateOf } from '../evaluate/may.ts';
import type { Condition } from '../ir/conditions.ts';
import { actionKey, isBuiltIn, type Action, type Invariant, type Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import { Asking, Numbered } from './bits.ts';
import { actionsOf, Outcomes } from './outcomes.ts';
import { deletion, followers, lossesOf } from './follows.ts';
import { requestsToAct, requestsToCreate, requestsToUpdate, type Request } from './requests.ts';
import { readsBack, seenFrom } from './sides.ts';
import { concreteValues, setsToCreate } from './search.ts';

/** A step that a caller can take, and of which an invariant is not true. */
export interface Violation {
  /** What is asked for: of the record itself, or of another that takes it along. */
  readonly question: Question;
  readonly decision: Decision;
  /** The side on which the condition is not true. */
  readonly side: 'before' | 'after';
  /** Does it come about because another record is deleted? */
  readonly along: boolean;
}

/** What was looked for: `complete` false, where more could be tried than was. */
export interface Looked {
  readonly violation: Violation | null;
  readonly complete: boolean;
  /** Was any step that does what the invariant speaks of allowed at all? */
  readonly able: boolean;
}

/**
 * Looks for a step that does what the invariant speaks of to this record, and of which its condition is not true: asked
 * of the closures from beginning to end, so what is found is real. `record` null: a record that is made.
 */
export function violationOf(decider: Decider, invariant: Invariant, record: RecordValues | null): Looked {
  return new Looking(decider, invariant).at(record);
}

/** The same of one request alone. */
export function violationBy(
  decider: Decider,
  invariant: Invariant,
  record: RecordValues | null,
  { operation, values }: Pick<Question, 'operation' | 'values'>,
): Violation | null {
  return new Looking(decider, invariant).by({ operation, collection: invariant.collection, record, values });
}

/** Records above one, with which it could go along, that are tried. */
const MOST_ABOVE = 200;

class Looking {
  readonly #decider: Decider;
  readonly #invariant: Invariant;
  #complete = true;
  #able = false;

  constructor(decider: Decider, invariant: Invariant) {
    this.#decider = decider;
    this.#invariant = invariant;
  }

  at(record: RecordValues | null): Looked {
    const violation = record === null ? this.#creating() : this.#doing(record);
    return { violation, complete: this.#complete, able: this.#able };
  }

  by(question: Question): Violation | null {
    return this.#judged(question, question.record);
  }

  #doing(record: RecordValues): Violation | null {
    const { operation, collection } = this.#invariant;
    if (!isBuiltIn(operation)) return this.#acting(operation, record);
    switch (operation) {
      case 'read':
        return this.#reading(record);
      case 'delete':
        return this.#whole('delete', record) ?? this.#along(record);
      case SHARE:
        return this.#whole(SHARE, record);
      case 'create':
        return null;
      case 'update': {
        for (const name of actionsOf(this.#decider.rulebook, collection)) {
          const found = this.#acting(name, record);
          if (found !== null) return found;
        }
        return this.#updating(record) ?? this.#along(record);
      }
    }
  }

  #reading(record: RecordValues): Violation | null {
    const { collection, fields } = this.#invariant;
    const question = { operation: 'read', collection, record, values: new Map() };
    const decision = this.#decider.decide(question);
    if (!decision.allowed || (fields !== null && !fields.some((field) => decision.fields.includes(field))))
      return null;
    return this.#unless(
      question,
      decision,
      { operation: 'read', collection },
      record,
      { kind: 'none' },
      false,
    );
  }

  #whole(operation: string, record: RecordValues): Violation | null {
    const { collection } = this.#invariant;
    const question = { operation, collection, record, values: new Map() };
    const decision = this.#decider.decide(question);
    if (!decision.allowed) return null;
    return this.#unless(question, decision, { operation, collection }, record, { kind: 'none' }, false);
  }

  #updating(record: RecordValues): Violation | null {
    const { rulebook } = this.#decider;
    const { collection, only } = this.#invariant;
    const permission = this.#decider.permission('update', collection);
    for (const { name, system } of collectionOf(rulebook.schema, collection).fields.values()) {
      if (system) continue;
      const { requests, complete } = requestsToUpdate(rulebook.schema, permission, name, [only]);
      if (!complete) this.#complete = false;
      const found = this.#first('update', requests, record, name);
      if (found !== null) return found;
    }
    // What is sent as it is counts as touched; and with nothing sent at all, the record is still asked for.
    const empty = { operation: 'update', collection, record, values: new Map<string, Value>() };
    return this.#asIs(record) ?? this.#judged(empty, record);
  }

  /** Every field that may be, sent as it is: touched, and not changed. */
  #asIs(record: RecordValues): Violation | null {
    const { collection } = this.#invariant;
    for (const { name, system } of collectionOf(this.#decider.rulebook.schema, collection).fields.values()) {
      if (system) continue;
      const values = new Map([[name, record[name] ?? null]]);
      const found = this.#judged({ operation: 'update', collection, record, values }, record);
      if (found !== null) return found;
    }
    return null;
  }

  #acting(name: string, record: RecordValues): Violation | null {
    const { collection, only } = this.#invariant;
    const permission = this.#decider.permission(name, collection);
    if (permission.action === null) return null;
    const { requests, complete } = requestsToAct(permission, [only]);
    if (!complete) this.#complete = false;
    return this.#first(name, requests, record, null);
  }

  #creating(): Violation | null {
    const { rulebook } = this.#decider;
    const { collection, operation, only } = this.#invariant;
    if (operation !== 'create') return null;
    const permission = this.#decider.permission('create', collection);
    // Which fields are supplied is not gone through in every way.
    if (permission.grounds.length > 0) this.#complete = false;
    for (const names of setsToCreate(permission, collectionOf(rulebook.schema, collection))) {
      const found = this.#first(
        'create',
        requestsToCreate(rulebook.schema, permission, names, [only]).requests,
        null,
        null,
      );
      if (found !== null) return found;
    }
    return null;
  }

  #first(
    operation: string,
    requests: readonly Request[],
    record: RecordValues | null,
    field: string | null,
  ): Violation | null {
    const { collection } = this.#invariant;
    for (const values of concreteValues(this.#decider, operation, collection, requests, record, field)) {
      if (values === 'more') {
        this.#complete = false;
        continue;
      }
      const found = this.#judged({ operation, collection, record, values }, record);
      if (found !== null) return found;
    }
    return null;
  }

  /** The step, where it is allowed and touches what the invariant is about. */
  #judged(question: Question, record: RecordValues | null): Violation | null {
    const { operation, collection } = question;
    const { fields } = this.#invariant;
    const { action } = this.#decider.permission(operation, collection);
    // A request that lacks what it needs is none; nothing is decided about it.
    if (action !== null && lacks(action, question.values)) return null;
    const decision = this.#decider.decide(question);
    if (!decision.allowed) return null;
    const after = decision.after!;
    const touched = new Set([
      ...(action === null ? question.values.keys() : action.sets.keys()),
      ...Object.keys(after).filter((name) =>
        // A record that is made has the values that it has.
        record === null
          ? after[name] !== null
          : name !== 'updated_at' && after[name] !== (record[name] ?? null),
      ),
    ]);
    // What is stamped with the value that is there already is touched all the same.
    for (const field of this.#stampedBy(operation)) if (fields?.includes(field) === true) touched.add(field);
    if (fields !== null && !fields.some((field) => touched.has(field))) return null;
    const change: Change<Value> =
      record === null
        ? { kind: 'created', values: new Map(Object.entries(after)) }
        : {
            kind: 'changed',
            values: new Map(Object.entries(after).filter(([name, value]) => value !== record[name])),
          };
    return this.#unless(question, decision, { operation, collection }, record, change, false);
  }

  #stampedBy(operation: string): string[] {
    // Only an action's rules stamp whatever is supplied: of an update's it is told by what changed.
    const { grounds, action } = this.#decider.permission(operation, this.#invariant.collection);
    return action === null ? [] : grounds.flatMap(({ rule }) => rule.stamps.map(({ field }) => field));
  }

  /** The record goes along, or loses a reference, because another is deleted. */
  #along(record: RecordValues): Violation | null {
    const { rulebook, world } = this.#decider;
    const { operation, collection, fields } = this.#invariant;
    const asked = new Set<string>();
    const targets = (of: string, from: RecordValues, depth: number): { of: string; record: RecordValues }[] =>
      [...collectionOf(rulebook.schema, of).fields.values()].flatMap(({ name, type, onDelete }) => {
        if (type.kind !== 'ref' || onDelete === 'refuse' || (from[name] ?? null) === null) return [];
        if (onDelete === 'clear' && depth > 0) return [];
        const target = world.look(type.collection, from[name] as string);
        if (target === null || asked.has(`${type.collection} ${target.id as string}`)) return [];
        if (asked.size === MOST_ABOVE) {
          this.#complete = false;
          return [];
        }
        asked.add(`${type.collection} ${target.id as string}`);
        return [{ of: type.collection, record: target }, ...targets(type.collection, target, depth + 1)];
      });
    for (const target of targets(collection, record, 0)) {
      const question = {
        operation: 'delete',
        collection: target.of,
        record: target.record,
        values: new Map(),
      };
      const decision = this.#decider.decide(question);
      if (!decision.allowed) continue;
      const { removed, cleared } = decision.follows!;
      const id = record.id as string;
      if (operation === 'delete') {
        if (removed.get(collection)?.includes(id) !== true) continue;
        const found = this.#unless(
          question,
          decision,
          { operation, collection },
          record,
          { kind: 'none' },
          true,
        );
        if (found !== null) return found;
        continue;
      }
      const lost = cleared.filter((each) => each.collection === collection && each.ids.includes(id));
      const emptied = lost
        .map(({ field }) => field)
        .filter((field) => fields === null || fields.includes(field));
      if (emptied.length === 0) continue;
      const gone = [...(removed.get(target.of) ?? []), target.record.id as string];
      const after = this.#decider.after({ removed: new Map(removed).set(target.of, gone), cleared });
      const asked = { pair: { operation, collection }, sides: 'both' } as const;
      const sides = this.#decider.sidesOf(asked, record, after);
      const found = this.#against(question, decision, sides, true);
      if (found !== null) return found;
    }
    return null;
  }

  /** The violation, unless the condition is true on every side. */
  #unless(
    question: Question,
    decision: Decision,
    pair: Pair,
    record: RecordValues | null,
    change: Change<Value>,
    along: boolean,
  ): Violation | null {
    const sides = change.kind === 'none' ? 'before' : change.kind === 'created' ? 'after' : 'both';
    return this.#against(question, decision, this.#decider.sides({ pair, sides }, record, change), along);
  }

  #against(question: Question, decision: Decision, sides: readonly Side[], along: boolean): Violation | null {
    const { only } = this.#invariant;
    this.#able = true;
    for (const { side, of, circumstances } of sides)
      if (predicateOf(only)(of, circumstances) !== true) return { question, decision, side, along };
    return null;
  }
}

function lacks({ parameters }: Action, values: ReadonlyMap<string, Value>): boolean {
  return [...parameters].some(([name, { required }]) => required && (values.get(name) ?? null) === null);
}

/**
 * The conditions by which records differ for an invariant and one caller: records that are alike in all of them are alike for
 * it, so one of each kind is enough to look at. `complete` false: they may differ in something that is not among them.
 */
export function kindsFor(
  rulebook: Rulebook,
  invariant: Invariant,
  caller: Caller,
  now: string,
): { readonly common: readonly Condition[]; readonly own: readonly Condition[]; readonly complete: boolean } {
  const { collection, operation, only } = invariant;
  const common = new Numbered();
  const { asking } = new Outcomes(rulebook, collection, caller, now, common, {
    unchanged: true,
    watching: [only],
  });
  const actions = operation === 'update' ? actionsOf(rulebook, collection) : [];
  const pairs = operation === 'update' ? ['update', ...actions] : [operation];
  let complete = operation !== 'delete' || deletion(rulebook, caller, collection).beyond === null;
  for (const each of pairs) {
    const condition = settled(only, rolesFor(rulebook, caller, each, collection));
    asking.ask(seenFrom(condition, 'before', new Map()));
    complete &&= watch(rulebook, caller, asking, each, collection, only, condition);
  }
  for (const { what, when, perhaps } of followers(rulebook, caller, collection)) {
    asking.ask(when);
    const [how, field] = what.split(' ') as [string, string?];
    if (perhaps !== null && how === operation) complete = false;
    if (operation !== 'update' || field === undefined) continue;
    const cleared = settled(only, rolesFor(rulebook, caller, 'update', collection));
    const lost = collectionOf(rulebook.schema, collection).fields.get(field)!;
    const losses = lossesOf(rulebook, collection, lost, cleared);
    if (losses === null) complete = false;
    for (const { when: same, overlay } of losses ?? []) {
      same.forEach((each) => asking.ask(each));
      asking.ask(seenFrom(cleared, 'after', overlay));
    }
  }
  return { common: common.conditions, own: [...asking.own.conditions], complete };
}

/** Numbers what the condition says after each request; false where that cannot be said of the record as it is. */
function watch(
  rulebook: Rulebook,
  caller: Caller,
  asking: Asking,
  operation: string,
  collection: string,
  only: Condition,
  condition: Condition,
): boolean {
  const permission = permissionOf(rulebook, caller, operation, collection);
  const isAction = rulebook.actions.has(actionKey(collection, operation));
  if (operation !== 'update' && !isAction) return true;
  const { schema } = rulebook;
  const fields = [...collectionOf(schema, collection).fields.values()].filter(({ system }) => !system);
  const all = isAction
    ? [requestsToAct(permission, [only])]
    : fields.map(({ name }) => requestsToUpdate(schema, permission, name, [only]));
  let complete = all.every((each) => each.complete);
  const back = readsBack(rulebook, only, collection);
  const stamped = new Map(
    permission.grounds.flatMap(({ rule }) => rule.stamps.map(({ field, value }) => [field, value])),
  );
  for (const { requests } of all)
    for (const { values, anyOf } of requests) {
      const set =
        permission.action === null
          ? values
          : new Map(
              [...permission.action.sets].flatMap(([field, each]) => {
                const value =
                  each.kind === 'value'
                    ? each.operand
                    : each.kind === 'parameter'
                      ? values.get(each.name)
                      : undefined;
                return value === undefined ? [] : [[field, value] as const];
              }),
            );
      if ([...set.keys()].some((field) => back.has(field)) || anyOf.some(({ isRead }) => isRead)) {
        complete = false;
        continue;
      }
      asking.ask(seenFrom(condition, 'after', set));
      if (stamped.size > 0) asking.ask(seenFrom(condition, 'after', new Map([...set, ...stamped])));
    }
  return complete;
}
