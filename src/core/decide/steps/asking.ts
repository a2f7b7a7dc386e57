import type { Operand } from '../../ir/conditions.ts';
import type { Node, TrueOf } from '../nodes.ts';
import type { Follows } from './verdict.ts';

/**
 * What the steps of an operation ask of whoever carries them out. The steps exist once and do nothing themselves: the store
 * answers with SQL, the decider with closures over records in hand, counting with conditions. `V`: how a value is held.
 */
export interface Asks<V> {
  /** Is the record there, and readable for the caller? Whoever writes holds it from here on. */
  readonly readable: object;
  /** Is it still the record that the caller speaks of? */
  readonly precondition: object;
  /** Is it the caller's own entry among people? */
  readonly 'own record': object;
  /** Which of the references point at nothing that the caller can read? By name. */
  readonly references: { readonly references: readonly Reference<V>[] };
  /** Values that no caller chooses, and that need no record. */
  readonly values: { readonly operands: readonly Operand[] };
  /**
   * Which conditions are true? `change`: what the record in hand would become; see `Change`. `needs`: where all of these hold, the
   * steps come to the same as if every one of the conditions were true. So whoever makes sure of that need not say which are.
   */
  readonly truths: {
    readonly of: readonly TrueOf[];
    readonly change: Change<V>;
    readonly needs: readonly Node[];
  };
  /** Would the record of a tree lie below itself? */
  readonly circle: { readonly field: string; readonly parent: V };
  /** What points at these records by the field. */
  readonly referrers: {
    readonly collection: string;
    readonly field: string;
    readonly targets: readonly string[];
  };
  /**
   * Are the conditions true of all of these records, which are deleted, or lose references? `after`: all that the deletion comes to,
   * the deleted record included, as which the new side is looked at; null where there is none, as they are deleted themselves.
   */
  readonly passed: {
    readonly of: readonly TrueOf[];
    readonly collection: string;
    readonly ids: readonly string[];
    readonly after: Follows | null;
  };
  /** Does a record that stays point at one of these by a reference that refuses to be left alone? */
  readonly held: { readonly removed: ReadonlyMap<string, ReadonlySet<string>> };
}

export interface Reference<V> {
  /** The field or the parameter. */
  readonly name: string;
  readonly collection: string;
  readonly target: V;
}

/** What becomes of the record: nothing (it is read, or removed), these values in it, or it is new and has these. */
export type Change<V> =
  | { readonly kind: 'none' }
  | { readonly kind: 'changed' | 'created'; readonly values: ReadonlyMap<string, V> };

export interface Answers<V> {
  readonly readable: boolean;
  readonly precondition: boolean;
  readonly 'own record': boolean;
  readonly references: readonly string[];
  readonly values: readonly V[];
  readonly truths: ReadonlySet<TrueOf>;
  readonly circle: boolean;
  readonly referrers: readonly string[];
  readonly passed: boolean;
  readonly held: boolean;
}

export type Asked<V> = { readonly [K in keyof Asks<V>]: { readonly ask: K } & Asks<V>[K] }[keyof Asks<V>];

/** Steps on their way to an answer `R`. */
export type Steps<V, R> = Generator<Asked<V>, R, Answers<V>[keyof Answers<V>]>;

/** Asks one thing, and hands on the answer. */
export function* ask<V, K extends keyof Asks<V>>(
  kind: K,
  about: Asks<V>[K],
): Generator<Asked<V>, Answers<V>[K], Answers<V>[keyof Answers<V>]> {
  return (yield { ask: kind, ...about } as unknown as Asked<V>) as Answers<V>[K];
}

/** Answers each question. */
export type Driver<V> = { readonly [K in keyof Asks<V>]: (about: Asks<V>[K]) => Answers<V>[K] };

export type AsyncDriver<V> = {
  readonly [K in keyof Asks<V>]: (about: Asks<V>[K]) => Answers<V>[K] | Promise<Answers<V>[K]>;
};

/** Carries the steps out, one after the other. */
export function drive<V, R>(steps: Steps<V, R>, driver: Driver<V>): R {
  let next = steps.next();
  while (next.done !== true) {
    const asked = next.value;
    next = steps.next((driver[asked.ask] as (about: Asked<V>) => Answers<V>[keyof Answers<V>])(asked));
  }
  return next.value;
}

/** The same where answers take their time. */
export async function driveAsync<V, R>(steps: Steps<V, R>, driver: AsyncDriver<V>): Promise<R> {
  let next = steps.next();
  while (next.done !== true) {
    const asked = next.value;
    const answer = await (driver[asked.ask] as (about: Asked<V>) => Promise<Answers<V>[keyof Answers<V>]>)(
      asked,
    );
    next = steps.next(answer);
  }
  return next.value;
}
