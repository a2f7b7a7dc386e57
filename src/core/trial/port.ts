import type { Shareable } from '../decide/nodes.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Invariant, Operation, Trial } from '../ir/rulebook.ts';
import type { Why } from '../explain/why.ts';
import type { Value } from '../types/types.ts';

/**
 * What a trial needs of the world: records and rehearsals. The store answers with the very functions that serve
 * real requests; whatever they write is taken back.
 */
export interface TrialPort {
  /** How one identity (null: the visitor) meets the data at a moment (null: now); null where it may not sign in. */
  session(identity: string | null, at: string | null): Promise<TrialSession | null>;
  /** With full sight: the ids of the records with this label, two at most. */
  find(collection: string, label: string): Promise<readonly string[]>;
  /** Puts the records that a trial is given in place, until `takeBack`. Null, or why that is not possible. */
  give(records: Trial['given']): Promise<string | null>;
  takeBack(): Promise<void>;
  /** The id of a test identity's person. */
  person(identity: string): Promise<string>;
}

export interface TrialSession {
  readonly now: string;
  /** The id of the caller's own person; null for the visitor. */
  readonly me: string | null;
  read(collection: string, id: string): Promise<SeenRecord | null>;
  count(collection: string): Promise<number>;
  /** Some of the readable records that are not among `ids`, by label. */
  others(collection: string, ids: readonly string[]): Promise<readonly string[]>;
  /** Looks for a step that the caller can take, on a record that there is, of which the invariant is not true. */
  against(invariant: Invariant): Promise<Against>;
  /** Some of the readable records for which the condition, with full sight, is not true, by label. */
  outside(collection: string, condition: Condition): Promise<readonly string[]>;
  create(collection: string, values: ReadonlyMap<string, Value>): Promise<Rehearsal>;
  update(collection: string, id: string, values: ReadonlyMap<string, Value>): Promise<Rehearsal>;
  act(collection: string, id: string, action: string, values: ReadonlyMap<string, Value>): Promise<Rehearsal>;
  /** What goes along is among what it is `done` with: see `Rehearsal`. */
  delete(collection: string, id: string): Promise<Rehearsal>;
  share(
    collection: string,
    id: string,
    target: SharedWith,
    operations: readonly Shareable[],
  ): Promise<Rehearsal>;
  /** Every rule that could have applied, and what each says; null where that cannot be worked out. */
  why(question: WhyAsked): Promise<Why | null>;
}

/** Whom a record is shared with. */
export type SharedWith =
  | { readonly kind: 'identity'; readonly name: string }
  | { readonly kind: 'role'; readonly role: string }
  | { readonly kind: 'audience'; readonly audience: 'people' | 'everybody' };

export interface SeenRecord {
  readonly shown: ReadonlyMap<string, Value>;
  readonly withheld: readonly string[];
}

/** What speaks against an invariant, where anything was found. */
export interface Against {
  readonly found: {
    /** What the caller may do, in words. */
    readonly actual: string;
    readonly question: WhyAsked;
  } | null;
  /** Null: everything was covered. */
  readonly notCovered: string | null;
  /** The caller can do what the invariant speaks of to no record that there is. */
  readonly idle: boolean;
}

/** What a write would have done. `denied`: a rule was lacking; `failed`: something else stood in the way. */
export type Rehearsal =
  | {
      readonly kind: 'done';
      readonly values: ReadonlyMap<string, Value>;
      /** Of a deletion: the labels of what goes along, by collection. */
      readonly along?: ReadonlyMap<string, readonly string[]>;
    }
  | { readonly kind: 'denied' | 'failed'; readonly reason: string };

export interface WhyAsked {
  readonly operation: Operation;
  readonly collection: string;
  /** The record as it is; null for a create. */
  readonly id: string | null;
  readonly values: ReadonlyMap<string, Value>;
  /** Of a read: the fields that it is about. */
  readonly fields?: readonly string[];
}
