/** What the steps of an operation come to. `V`: how a value is held. */
export type Verdict<V> =
  | {
      readonly allowed: true;
      /** What is written: every field of a new record, the changed ones of another; `updated_at` among them. */
      readonly values: ReadonlyMap<string, V>;
      /** What follows from a deletion. */
      readonly follows: Follows;
    }
  | {
      readonly allowed: false;
      readonly refusedBy: RefusedBy;
      /** The fields that it is about, where it is about some. */
      readonly fields: readonly string[];
      /** What would have been written, where the steps came so far. */
      readonly values: ReadonlyMap<string, V> | null;
    };

/** Which of the checks said no, in their order; the first answers alone. */
export type RefusedBy =
  /** Not there, or not readable: the two are never told apart. */
  | 'not readable'
  | 'changed meanwhile'
  /** No rule lets this caller supply these fields, whatever the record. */
  | 'not covered'
  /** It would change what decides about the caller, on their own entry. */
  | 'own record'
  | 'reference not readable'
  /** Two rules would fill in different values, or a rule one that is supplied or set. */
  | 'stamps differ'
  /** A rule is no longer true when its own stamps, and those of others, are set. */
  | 'stamp undoes'
  | 'no rule'
  /** Sharing what is itself only shared with the caller. */
  | 'only shared'
  /** Two rules would make different records. */
  | 'unclear'
  /** A fence on a record that would go along, or lose its reference. */
  | 'follows fenced'
  // From here on nothing is refused by rules.
  | 'value required'
  | 'circle'
  | 'still referenced';

/** Refusals that are not about rules: what is asked for is allowed, and cannot be done. */
export const technical: ReadonlySet<RefusedBy> = new Set([
  'changed meanwhile',
  'value required',
  'circle',
  'still referenced',
]);

export interface Follows {
  /** Records that go along, by collection; the deleted one is not among them. */
  readonly removed: ReadonlyMap<string, readonly string[]>;
  readonly cleared: readonly Cleared[];
}

/** References that are taken away. */
export interface Cleared {
  readonly collection: string;
  readonly field: string;
  readonly ids: readonly string[];
  readonly targets: readonly string[];
}

export const nothingFollows: Follows = { removed: new Map(), cleared: [] };

export function refused(
  refusedBy: RefusedBy,
  fields: readonly string[] = [],
  values: ReadonlyMap<string, never> | null = null,
): {
  readonly allowed: false;
  readonly refusedBy: RefusedBy;
  readonly fields: readonly string[];
  readonly values: null;
} {
  return { allowed: false, refusedBy, fields, values: values as null };
}
