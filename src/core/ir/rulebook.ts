import type { Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import type { Schema } from '../types/schema.ts';
import type { Type, Value } from '../types/types.ts';
import type { Condition, Operand, Range } from './conditions.ts';
import { noSuccession, type Succession } from './succession.ts';

/** A checked rulebook: what the engines, the store and the trials work from. */
export interface Rulebook {
  /** The published version that it is; null: a draft, or nothing yet. */
  readonly version: number | null;
  readonly sources: readonly Source[];
  readonly schema: Schema;
  /** Whose days count: a name of the IANA time zone database. */
  readonly timeZone: string;
  readonly roles: ReadonlyMap<string, Role>;
  /** Those that are worked out from others come after them. */
  readonly attributes: ReadonlyMap<string, Attribute>;
  /** By collection and name: see `actionKey`. */
  readonly actions: ReadonlyMap<string, Action>;
  readonly rules: readonly Rule[];
  readonly fences: readonly Fence[];
  /** What decides about whoever calls, by collection: see `check/of-the-caller.ts`. */
  readonly ofTheCaller: ReadonlyMap<string, ReadonlySet<string>>;
  readonly identities: ReadonlyMap<string, Identity>;
  readonly trials: readonly Trial[];
  readonly invariants: readonly Invariant[];
  /** What callers may do with others' records, where that is meant. */
  readonly acceptedReach: readonly AcceptedReach[];
  /** Collections whose records may lack an owner, with the reason. */
  readonly ownerless: ReadonlyMap<string, string>;
  readonly succession: Succession;
}

/** Before the first publication there are no collections and no rules: everything is closed. */
export const emptyRulebook: Rulebook = {
  version: null,
  sources: [],
  schema: new Map(),
  timeZone: 'UTC',
  roles: new Map(),
  attributes: new Map(),
  actions: new Map(),
  rules: [],
  fences: [],
  ofTheCaller: new Map(),
  identities: new Map(),
  trials: [],
  invariants: [],
  acceptedReach: [],
  ownerless: new Map(),
  succession: noSuccession,
};

/** The operations that every collection has. */
export const builtIn = ['read', 'create', 'update', 'delete', 'share'] as const;
export type BuiltIn = (typeof builtIn)[number];

/** One of those, or the name of an action of the collection. */
export type Operation = string;

export function isBuiltIn(operation: Operation): operation is BuiltIn {
  return (builtIn as readonly string[]).includes(operation);
}

export interface Role {
  readonly name: string;
  readonly title: string | null;
  /** Itself, and every role that it brings along, over any number of steps, each with what it is brought along for. */
  readonly includes: ReadonlyMap<string, Pairs>;
  /** Who holds it; null: whoever is given it by hand. */
  readonly when: Condition | null;
}

/** What a role is brought along for: everything, or these operations on these collections (see `pairKey`). */
export type Pairs = 'all' | ReadonlySet<string>;

export function pairKey(operation: Operation, collection: string): string {
  return `${operation} ${collection}`;
}

/** Something known of the caller, as `me.NAME`, beside the fields of their person record. */
export interface Attribute {
  readonly name: string;
  readonly type: Type;
  readonly source:
    | { readonly kind: 'claim'; readonly claim: string }
    | { readonly kind: 'value'; readonly operand: Operand }
    /** The present values of all records for which the condition is true, each once, in order. */
    | {
        readonly kind: 'every';
        readonly range: Range;
        readonly operand: Operand;
        readonly where: Condition;
      };
}

/** An operation of the application's own, which sets fields of a record. */
export interface Action {
  readonly name: string;
  readonly collection: string;
  readonly parameters: ReadonlyMap<string, { readonly type: Type; readonly required: boolean }>;
  readonly sets: ReadonlyMap<
    string,
    | { readonly kind: 'value'; readonly operand: Operand }
    | { readonly kind: 'parameter'; readonly name: string }
    | { readonly kind: 'missing' }
  >;
  readonly span: Span;
}

export function actionKey(collection: string, name: string): string {
  return `${collection}.${name}`;
}

/** Whoever may do this, the condition is true of the record. */
export interface Invariant {
  readonly title: string;
  readonly operation: Operation;
  readonly collection: string;
  /** The fields that it is about; null: the record. */
  readonly fields: readonly string[] | null;
  readonly only: Condition;
  readonly text: string;
  readonly span: Span;
}

/** Whom a rule speaks of: any of them is enough. */
export interface Audience {
  readonly everybody: boolean;
  readonly people: boolean;
  readonly visitors: boolean;
  readonly roles: ReadonlySet<string>;
}

/** `accept WHO may OPERATIONS on COLLECTION because "…"`: no finding for verification. */
export interface AcceptedReach {
  readonly audience: Audience;
  readonly collection: string;
  /** The fields that it is about; null: all of them. */
  readonly operations: ReadonlyMap<Operation, ReadonlySet<string> | null>;
  readonly because: string;
  readonly text: string;
  readonly span: Span;
}

export interface Stamp {
  readonly field: string;
  readonly value: Operand;
}

/** The actions of a collection, in the order of the rulebook. */
export function actionsOn({ actions }: Pick<Rulebook, 'actions'>, collection: string): Action[] {
  return [...actions.values()].filter((action) => action.collection === collection);
}

/** One sentence of the rulebook. */
export interface Rule {
  /** Stable within one version: the collection and the sentence's place in it, such as `hives/2`. */
  readonly id: string;
  readonly collection: string;
  readonly audience: Audience;
  /** The fields that each operation covers; delete covers the record. */
  readonly operations: ReadonlyMap<Operation, ReadonlySet<string>>;
  readonly when: Condition;
  /** Sorted by field. They are set on create and by actions, and on update by a sentence about update alone. */
  readonly stamps: readonly Stamp[];
  readonly because: string | null;
  /** Who may do what, and when, as it was written. */
  readonly text: string;
  readonly span: Span;
}

/** A sentence that no rule can overrule. */
export interface Fence {
  /** Such as `hives/fence-1`. */
  readonly id: string;
  readonly collection: string;
  /** Roles that it does not concern. */
  readonly exempt: ReadonlySet<string>;
  /** The fields that it is about in each operation; null: the record. */
  readonly operations: ReadonlyMap<Operation, ReadonlySet<string> | null>;
  /** Must be true for the record to pass: the fence's `unless`; never, where it has none. */
  readonly when: Condition;
  readonly because: string | null;
  /** Whom it stops, and unless what, as it was written. */
  readonly text: string;
  readonly span: Span;
}

export interface Identity {
  readonly name: string;
  readonly email: string | null;
  readonly deactivated: boolean;
  readonly roles: readonly { readonly role: string; readonly until: string | null }[];
  /** Fields of the person record; references by label. */
  readonly fields: ReadonlyMap<string, GivenValue>;
}

/** A value as a trial or an identity gives it: ready, or a record to be looked up with full sight. */
export type GivenValue =
  | { readonly kind: 'value'; readonly value: Value }
  | { readonly kind: 'now' }
  | { readonly kind: 'label'; readonly collection: string; readonly label: string }
  | { readonly kind: 'identity'; readonly name: string }
  | { readonly kind: 'me' };

export interface Trial {
  readonly title: string;
  /** Records that are there for this trial alone. */
  readonly given: readonly {
    readonly collection: string;
    readonly values: GivenValues;
    readonly span: Span;
  }[];
  readonly parts: readonly TrialPart[];
  readonly span: Span;
}

export interface TrialPart {
  /** null: the visitor. */
  readonly identity: string | null;
  /** The moment at which it is tried, as a timestamp value; null: now. */
  readonly at: string | null;
  readonly expectations: readonly Expectation[];
}

export type GivenValues = ReadonlyMap<string, GivenValue>;

export type Expectation = { readonly collection: string; readonly text: string; readonly span: Span } & (
  | { readonly kind: 'reads'; readonly labels: readonly string[]; readonly only: boolean }
  | { readonly kind: 'reads only where'; readonly where: Condition }
  | { readonly kind: 'reads none' }
  | { readonly kind: 'read'; readonly allowed: boolean; readonly label: string }
  | {
      readonly kind: 'delete';
      readonly allowed: boolean;
      readonly label: string;
      /** The records that go along, by label, and no others; null: nothing is said of them. */
      readonly takes: readonly { readonly collection: string; readonly labels: readonly string[] }[] | null;
    }
  | {
      readonly kind: 'share';
      readonly allowed: boolean;
      readonly label: string;
      readonly target:
        | { readonly kind: 'identity'; readonly name: string }
        | { readonly kind: 'role'; readonly role: string }
        | { readonly kind: 'audience'; readonly audience: 'people' | 'everybody' };
      readonly operations: readonly ('read' | 'update' | 'delete')[];
    }
  | {
      /** An update, or an action with its parameters. */
      readonly kind: 'update';
      readonly action: string | null;
      readonly allowed: boolean;
      readonly label: string;
      readonly values: GivenValues;
      readonly giving: GivenValues;
    }
  | {
      readonly kind: 'create';
      readonly allowed: boolean;
      readonly values: GivenValues;
      readonly giving: GivenValues;
    }
  | { readonly kind: 'withheld' | 'shows'; readonly label: string; readonly fields: readonly string[] }
);
