import { rolesFor, type Caller, type RecordValues } from '../decide/caller.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import type { Permission } from '../decide/formula.ts';
import { permissionOf } from '../decide/permission.ts';
import { remembered } from '../decide/remembered.ts';
import { holdsBy, type Pair, type TrueOf } from '../decide/nodes.ts';
import { SHARE } from '../decide/shares.ts';
import { drive, type Change, type Driver, type Steps } from '../decide/steps/asking.ts';
import { acting, updating, valuesSet, type Values } from '../decide/steps/change.ts';
import { completed, creating } from '../decide/steps/create.ts';
import { deleting, showing } from '../decide/steps/delete.ts';
import type { Follows, RefusedBy, Verdict } from '../decide/steps/verdict.ts';
import { isBuiltIn, type Action, type Operation, type Rule, type Rulebook } from '../ir/rulebook.ts';
import type { Value } from '../types/types.ts';
import { compareValues, sameValue } from '../types/values.ts';
import { evaluateOperand, type Circumstances } from './closures.ts';
import { mayDecider, predicateOf } from './may.ts';

/** Records as they are, or as they would be after a step. */
type Seen = Pick<Circumstances, 'look' | 'all'>;

/** A side on which a sentence is asked: the record of it, and what is known there. */
export interface Side {
  readonly side: 'before' | 'after';
  readonly of: RecordValues;
  readonly circumstances: Circumstances;
}

/** Records with full sight, and the moment. */
export interface World extends Pick<Circumstances, 'now' | 'look' | 'all'> {
  /** Some records of a collection, as many as asked for; where it is not there, all are at hand. */
  readonly few?: (collection: string, most: number) => Iterable<RecordValues>;
}

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
  readonly refusedBy: RefusedBy | null;
  /** The fields that it is about; of a read that is allowed: those shown. */
  readonly fields: readonly string[];
  /** The record as it would be after the write; null where that was not reached. */
  readonly after: RecordValues | null;
  /** What follows from a deletion that is allowed. */
  readonly follows: Follows | null;
}

/**
 * One answer by the closures alone, from beginning to end: the very steps that the store carries out with PostgreSQL, asked
 * for the sake of explaining and of verifying. Whether a unique value is taken is not part of it.
 */
export class Decider {
  readonly rulebook: Rulebook;
  readonly caller: Caller;
  readonly world: World;
  readonly #may: Circumstances['may'];

  constructor(rulebook: Rulebook, caller: Caller, world: World) {
    this.rulebook = rulebook;
    this.caller = caller;
    this.world = world;
    this.#may = mayDecider(rulebook);
  }

  decide(question: Question): Decision {
    const { operation, collection, record } = question;
    if (operation === 'read') {
      const shown = this.shown(collection, record!);
      const fields = shown === null ? [] : [...shown];
      return {
        allowed: shown !== null,
        refusedBy: shown === null ? 'not readable' : null,
        fields,
        after: null,
        follows: null,
      };
    }
    const verdict = drive(this.#steps(question), this.#driver(collection, record));
    const written = verdict.values === null ? null : becoming(record, verdict.values);
    if (!verdict.allowed) return { ...verdict, after: written, follows: null };
    const after = operation === 'delete' || operation === 'share' ? null : written;
    return { allowed: true, refusedBy: null, fields: [], after, follows: verdict.follows };
  }

  #steps({ operation, collection, record, values }: Question): Steps<Value, Verdict<Value>> {
    const { rulebook } = this;
    const permission = this.permission(operation, collection);
    if (permission.action !== null) return acting(rulebook, permission, permission.action, values, plain);
    if (!isBuiltIn(operation)) throw new TypeError(`${collection} has no operation ${operation}`);
    switch (operation) {
      case 'create':
        return creating(rulebook, permission, values, NEW_ID, plain);
      case 'update':
        return updating(rulebook, permission, values, plain);
      case 'delete':
        return deleting(rulebook, this.caller, permission, record!.id as string);
      case SHARE:
        return showing(permission);
      case 'read':
        throw new TypeError('what is read takes no steps');
    }
  }

  permission(operation: Operation, collection: string): Permission {
    return permissionOf(this.rulebook, this.caller, operation, collection);
  }

  /** The fields shown of a record; null where it is not readable. */
  shown(collection: string, record: RecordValues): Set<string> | null {
    const permission = this.permission('read', collection);
    const known = new Map<TrueOf, boolean>();
    const truth = (leaf: TrueOf) => {
      let found = known.get(leaf);
      if (found === undefined) known.set(leaf, (found = this.isTrue(leaf, record, nothingChanges)));
      return found;
    };
    const isAllowed = (node: Permission['record']) => holdsBy(node, truth);
    if (!isAllowed(permission.record)) return null;
    const fields = [...collectionOf(this.rulebook.schema, collection).fields.keys()];
    return new Set(fields.filter((field) => isAllowed(permission.field(field).whole)));
  }

  isReadable(collection: string, record: RecordValues): boolean {
    return holdsBy(this.permission('read', collection).record, (leaf) =>
      this.isTrue(leaf, record, nothingChanges),
    );
  }

  /** The condition of a sentence, on every side that counts for it. */
  isTrue(leaf: TrueOf, record: RecordValues | null, change: Change<Value>): boolean {
    return isTrueOn(leaf, this.sides(leaf, record, change));
  }

  /** The same of a record that is deleted, or that stays in the world to which a deletion leads. */
  #isTrueWithin(leaf: TrueOf, record: RecordValues, after: Seen | null): boolean {
    const sides =
      after === null ? this.sides(leaf, record, nothingChanges) : this.sidesOf(leaf, record, after);
    return isTrueOn(leaf, sides);
  }

  /** Each side on which a sentence is asked. */
  sides(
    { pair, sides }: Pick<TrueOf, 'pair' | 'sides'>,
    record: RecordValues | null,
    change: Change<Value>,
  ): Side[] {
    const { look } = this.world;
    const around = this.around(pair);
    if (change.kind === 'created') {
      const made = Object.fromEntries(change.values);
      const changed = this.#withRecord(pair.collection, made);
      const after = { ...around, ...changed, new: { record: made, look: changed.look } };
      return [{ side: 'after', of: made, circumstances: after }];
    }
    const old = { record: record!, look };
    if (change.kind === 'none' || sides === 'before')
      return [
        {
          side: 'before',
          of: record!,
          circumstances: { ...around, old, ...(sides === 'both' ? { new: old } : {}) },
        },
      ];
    const whole = becoming(record, change.values);
    return this.#bothSides(around, record!, whole, this.#withRecord(pair.collection, whole));
  }

  /** Each side on which a sentence is asked of a record that stays, and may lose references, where a deletion leads to another world. */
  sidesOf({ pair, sides }: Pick<TrueOf, 'pair' | 'sides'>, record: RecordValues, after: Seen): Side[] {
    if (sides === 'before') return this.sides({ pair, sides }, record, nothingChanges);
    const whole = after.look(pair.collection, record.id as string)!;
    return this.#bothSides(this.around(pair), record, whole, after);
  }

  #bothSides(around: Circumstances, record: RecordValues, whole: RecordValues, after: Seen): Side[] {
    const old = { record, look: this.world.look };
    const both = { old, new: { record: whole, look: after.look } };
    return [
      { side: 'before', of: record, circumstances: { ...around, ...both } },
      { side: 'after', of: whole, circumstances: { ...around, ...after, ...both } },
    ];
  }

  /** What a condition of this pair is asked in, with the record as it is. */
  around({ operation, collection }: Pair): Circumstances {
    const roles = rolesFor(this.rulebook, this.caller, operation, collection);
    return { ...this.world, caller: this.caller, roles, may: this.#may };
  }

  /** The world to which a deletion leads: what goes has gone, and what pointed there points nowhere. `removed`: with the deleted record. */
  after({ removed, cleared }: Follows): Seen {
    const { look, all, now } = this.world;
    const gone = new Map([...removed].map(([name, ids]) => [name, new Set(ids)]));
    const losses = new Map<string, Map<string, Value>>();
    for (const { collection, field, ids } of cleared)
      for (const id of ids)
        remembered(losses, `${collection} ${id}`, () => new Map<string, Value>([['updated_at', now]])).set(
          field,
          null,
        );
    const left = (name: string, record: RecordValues) => {
      const values = losses.get(`${name} ${record.id as string}`);
      return values === undefined ? record : becoming(record, values);
    };
    const isGone = (name: string, id: string) => gone.get(name)?.has(id) === true;
    return {
      look: (name, id) => {
        const record = isGone(name, id) ? null : look(name, id);
        return record === null ? null : left(name, record);
      },
      all: (name, beside) => {
        // What had another value in a field has none, or the same, afterwards; but it may have been changed at that moment.
        const anchor = beside?.field === 'updated_at' ? undefined : beside;
        return [...all(name, anchor)]
          .filter((each) => !isGone(name, each.id as string))
          .map((each) => left(name, each));
      },
    };
  }

  /** The world with a record as it would become. */
  #withRecord(collection: string, record: RecordValues): Seen {
    const { look, all } = this.world;
    return {
      look: (name, id) => (name === collection && id === record.id ? record : look(name, id)),
      all: (name, beside) =>
        name === collection
          ? [...[...all(name, beside)].filter((each) => each.id !== record.id), record]
          : all(name, beside),
    };
  }

  /** A new record: what is supplied, then the stamps of the rule, then defaults. */
  completed(
    collection: string,
    supplied: ReadonlyMap<string, Value>,
    rule: Pick<Rule, 'stamps'>,
  ): RecordValues {
    const { fields } = collectionOf(this.rulebook.schema, collection);
    const steps = completed<Value>(fields, supplied, rule.stamps, NEW_ID, plain);
    return Object.fromEntries(drive(steps, this.#driver(collection, null)));
  }

  /** What an action sets, by field. */
  valuesSet(action: Action, given: ReadonlyMap<string, Value>): Map<string, Value> {
    return drive(valuesSet(this.rulebook, action, given, plain), this.#driver(action.collection, null));
  }

  /** A value that no caller chooses. */
  valueOf(operand: Parameters<typeof evaluateOperand>[0]): Value {
    return evaluateOperand(operand, {
      ...this.world,
      caller: this.caller,
      roles: new Set(),
      may: () => false,
    });
  }

  #driver(collection: string, record: RecordValues | null): Driver<Value> {
    return {
      readable: () => this.isReadable(collection, record!),
      precondition: () => true,
      'own record': () => collection === PEOPLE && record?.id === this.caller.person?.id,
      references: ({ references }) =>
        references
          .filter(({ collection: of, target }) => {
            const pointed = this.world.look(of, target as string);
            return pointed === null || !this.isReadable(of, pointed);
          })
          .map(({ name }) => name),
      values: ({ operands }) => operands.map((operand) => this.valueOf(operand)),
      truths: ({ of, change }) => new Set(of.filter((leaf) => this.isTrue(leaf, record, change))),
      circle: ({ field, parent }) => this.#leadsUp(collection, field, parent as string, record!.id as string),
      referrers: ({ collection: holder, field, targets }) =>
        this.#referrers(holder, field, targets).map((each) => each.id as string),
      passed: ({ of, collection: holder, ids, after }) => {
        const world = after === null ? null : this.after(after);
        return ids.every((id) => {
          const each = this.world.look(holder, id);
          return each !== null && of.every((leaf) => this.#isTrueWithin(leaf, each, world));
        });
      },
      held: ({ removed }) => this.#isHeld(removed),
    } satisfies Driver<Value>;
  }

  #referrers(holder: string, field: string, targets: readonly string[]): RecordValues[] {
    return targets.flatMap((target) =>
      [...this.world.all(holder, { field, value: target })].filter((each) => each[field] === target),
    );
  }

  #isHeld(removed: ReadonlyMap<string, ReadonlySet<string>>): boolean {
    return [...this.rulebook.schema.values()].some((holder) =>
      [...holder.fields.values()].some(
        ({ name, type, onDelete }) =>
          type.kind === 'ref' &&
          onDelete === 'refuse' &&
          name !== 'id' &&
          this.#referrers(holder.name, name, [...(removed.get(type.collection) ?? [])]).some(
            (each) => removed.get(holder.name)?.has(each.id as string) !== true,
          ),
      ),
    );
  }

  #leadsUp(collection: string, tree: string, from: string, to: string): boolean {
    const passed = new Set<string>();
    for (let here: string | null = from; here !== null && !passed.has(here);) {
      if (here === to) return true;
      passed.add(here);
      here = (this.world.look(collection, here)?.[tree] ?? null) as string | null;
    }
    return false;
  }
}

function isTrueOn({ when }: TrueOf, sides: readonly Side[]): boolean {
  const predicate = predicateOf(when);
  return sides.every(({ of, circumstances }) => predicate(of, circumstances) === true);
}

/** The id that a record which is only thought of has: that of no record (RFC 9562, 5.9). */
export const NEW_ID = '00000000-0000-0000-0000-000000000000';

const nothingChanges: Change<Value> = { kind: 'none' };

/** The record as it becomes. Its time of change never goes back, whichever of two writes began first. */
function becoming(record: RecordValues | null, values: ReadonlyMap<string, Value>): RecordValues {
  const whole = { ...record, ...Object.fromEntries(values) };
  const was = (record?.updated_at ?? null) as string | null;
  const is = (whole.updated_at ?? null) as string | null;
  const isLater = was !== null && is !== null && compareValues('timestamp', was, is) > 0;
  return isLater ? { ...whole, updated_at: was } : whole;
}

/** Values as they are. */
export const plain: Values<Value> = {
  same: sameValue,
  isMissing: (value) => value === null,
  missing: () => null,
};
