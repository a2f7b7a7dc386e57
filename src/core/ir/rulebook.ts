import type { OperationName } from '../language/ast.ts';
import type { Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import type { Schema } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import type { Condition, Operand } from './conditions.ts';

/** A checked rulebook: what the engines, the store and the trials work from. */
export interface Rulebook {
  readonly sources: readonly Source[];
  readonly schema: Schema;
  readonly roles: ReadonlyMap<string, Role>;
  readonly rules: readonly Rule[];
  readonly fences: readonly Fence[];
  /** Fields of people that some rule reads through `me`: on their own record callers change only those `self set`. */
  readonly readThroughMe: ReadonlySet<string>;
  readonly identities: ReadonlyMap<string, Identity>;
  readonly trials: readonly Trial[];
}

export interface Role {
  readonly name: string;
  readonly title: string | null;
  /** Itself, and every role that it brings along, over any number of steps. */
  readonly includes: ReadonlySet<string>;
}

/** Whom a rule speaks of: any of them is enough. */
export interface Audience {
  readonly everybody: boolean;
  readonly people: boolean;
  readonly visitors: boolean;
  readonly roles: ReadonlySet<string>;
}

export interface Stamp {
  readonly field: string;
  readonly value: Operand;
}

/** One sentence of the rulebook. */
export interface Rule {
  /** Stable within one version: the collection and the sentence's place in it, such as `hives/2`. */
  readonly id: string;
  readonly collection: string;
  readonly audience: Audience;
  /** The fields that each operation covers; delete covers the record. */
  readonly operations: ReadonlyMap<OperationName, ReadonlySet<string>>;
  readonly when: Condition;
  /** Sorted by field. Empty unless the sentence speaks of create. */
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
  readonly operations: ReadonlyMap<OperationName, ReadonlySet<string> | null>;
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
  | { readonly kind: 'read' | 'delete'; readonly allowed: boolean; readonly label: string }
  | {
      readonly kind: 'update';
      readonly allowed: boolean;
      readonly label: string;
      readonly values: GivenValues;
    }
  | {
      readonly kind: 'create';
      readonly allowed: boolean;
      readonly values: GivenValues;
      readonly giving: GivenValues;
    }
  | { readonly kind: 'withheld' | 'shows'; readonly label: string; readonly fields: readonly string[] }
);
