import type { Action, Fence, Rule } from '../ir/rulebook.ts';
import type { Node, Pair, TrueOf } from './nodes.ts';

/**
 * What decides one operation on one collection: a formula for the record, and one for each field. A request on the fields
 * S is allowed where the record's holds and each field's of S does; so with nothing supplied one rule must still be true.
 *
 * - The default is no: where no rule is exactly true, nothing is allowed.
 * - Rules are never mixed: a field is allowed by one rule that covers it and is true for that very record.
 * - Rules are joined by “any”: each is a reason to allow. Fences come after all rules and are joined by “all”: each that
 *   concerns the caller must be passed, and no rule can outvote one.
 *
 * Not in it, but in the steps (`steps/`): the order of refusals, stamps, groups of create rules, what follows a deletion.
 */
export interface Permission {
  readonly pair: Pair;
  /** The action, where the operation is one. */
  readonly action: Action | null;
  /** The rules, each with when it is a reason to allow. In the order of the rulebook; shares come last. */
  readonly grounds: readonly Ground[];
  readonly barriers: readonly Barrier[];
  /** One of the grounds holds. */
  readonly granted: Node;
  /** Every fence on the record is passed. */
  readonly fenced: Node;
  /** All that the record is asked. */
  readonly record: Node;
  /** All that a field is asked besides. Cost: made when it is first asked for. */
  readonly field: (name: string) => FieldPermission;
}

export interface FieldPermission {
  /** The rules that cover the field. The very same node as that of the record where all of them do. */
  readonly granted: Node;
  /** The fences on the field alone. */
  readonly fenced: Node;
  readonly whole: Node;
}

/** A rule as a reason to allow. */
export interface Ground {
  readonly rule: Rule;
  /** Its own condition; `node` holds only where this is true. */
  readonly leaf: TrueOf;
  readonly node: Node;
}

/** A fence as something to pass. */
export interface Barrier {
  readonly fence: Fence;
  /** The fields that it is about; null: the record. */
  readonly about: ReadonlySet<string> | null;
  readonly node: Node;
}
