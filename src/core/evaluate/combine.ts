import type { Action, Fence, Operation, Rule, Rulebook, Stamp } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import { rolesFor, speaksOf, type Caller } from './caller.ts';
import { compilePredicate, type Circumstances, type MayDecider, type Predicate } from './closures.ts';

/**
 * Many rules to one answer. Everything that decides goes through here: lists in SQL take the same sets of rules,
 * writes and the closures take these functions as they are.
 *
 * - The default is no: where no rule is exactly true, nothing is allowed.
 * - Rules are never mixed: a field is allowed by one rule that covers it and is true for that very record.
 * - Rules are joined by “or”: each is a reason to allow. Fences come after all rules and are joined by “and”: each that
 *   concerns the caller must be passed, and no rule can outvote one.
 * - `holds` says of a rule or a fence whether its condition is true; unknown is not true. It may be asked more than once.
 *
 * Not protected here: who the caller is (service/identity), and which records exist for them (core/sql/access).
 */
export type Holds = (asked: Asked) => boolean;

/** What has a condition to be asked for. */
export type Asked = Rule | Fence;

/** Everything that decides one operation of one caller on one collection. */
export interface Grants {
  /** The rules that name the operation and speak of the caller, in the order of the rulebook. */
  readonly rules: readonly Rule[];
  /** Those that do not exempt the caller. */
  readonly fences: readonly Fence[];
  /** The roles that count for this operation on this collection. */
  readonly roles: ReadonlySet<string>;
}

export function grantsFor(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  operation: Operation,
): Grants {
  const roles = rolesFor(rulebook, caller, operation, collection);
  const rules = rulebook.rules.filter(
    (rule) =>
      rule.collection === collection &&
      rule.operations.has(operation) &&
      speaksOf(rule.audience, caller, roles),
  );
  // A share is one more reason to allow; fences come after it like after any other.
  const shared = (caller.shared ?? []).filter(
    (rule) => rule.collection === collection && rule.operations.has(operation),
  );
  const fences = rulebook.fences.filter(
    (fence) =>
      fence.collection === collection &&
      fence.operations.has(operation) &&
      ![...roles].some((role) => fence.exempt.has(role)),
  );
  return { rules: shared.length === 0 ? rules : [...rules, ...shared], fences, roles };
}

/** The fences that are about the record as a whole. */
export function recordFences({ fences }: Grants, operation: Operation): readonly Fence[] {
  return fences.filter((fence) => fence.operations.get(operation) === null);
}

/** The fences that are about a field. None is about the id of a readable record. */
export function fieldFences({ fences }: Grants, operation: Operation, field: string): readonly Fence[] {
  if (operation === 'read' && field === 'id') return [];
  return fences.filter((fence) => fence.operations.get(operation)?.has(field) === true);
}

/** A fence without `unless`: nobody whom it concerns passes. */
function isClosed(fence: Fence): boolean {
  return fence.when.kind === 'constant' && !fence.when.value;
}

/** Those of `rules` that cover a field in an operation. The id comes with every readable record. */
export function covering(rules: readonly Rule[], operation: Operation, field: string): readonly Rule[] {
  if (operation === 'read' && field === 'id') return rules;
  return rules.filter((rule) => rule.operations.get(operation)!.has(field));
}

/** The fields that a caller sees of a record; null where the record is not readable at all. */
export function shownFields(grants: Grants, fields: Iterable<string>, holds: Holds): Set<string> | null {
  const real = grants.rules.filter(holds);
  // Default deny, in sight: no true rule, no record.
  if (real.length === 0 || !recordFences(grants, 'read').every(holds)) return null;
  const shown = new Set<string>();
  for (const field of fields) {
    const allowed = covering(real, 'read', field).length > 0;
    if (allowed && fieldFences(grants, 'read', field).every(holds)) shown.add(field);
  }
  return shown;
}

/** Which of the supplied fields nobody like the caller may supply, whatever the record: what a refusal may name. */
export function uncoveredByName(
  grants: Grants,
  operation: 'create' | 'update',
  supplied: readonly string[],
): string[] {
  return supplied.filter(
    (field) =>
      covering(grants.rules, operation, field).length === 0 ||
      fieldFences(grants, operation, field).some(isClosed),
  );
}

/**
 * Fields that a person may not change on their own record: rules read them through `me`, so changing one would be
 * giving oneself what it opens. `self set` in the rulebook makes an exception.
 */
export function promotesItself(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  id: string,
  supplied: readonly string[],
): string[] {
  if (collection !== PEOPLE || caller.person?.id !== id) return [];
  const { fields } = collectionOf(rulebook.schema, PEOPLE);
  return supplied.filter((field) => rulebook.readThroughMe.has(field) && !fields.get(field)!.selfSet);
}

/**
 * May these fields be supplied? Each must be covered by a rule that is true. With nothing supplied, one true rule
 * is still needed: an empty change is not a way to learn that a record could be changed.
 */
export function allowsSupplied(
  grants: Grants,
  operation: 'create' | 'update',
  supplied: readonly string[],
  holds: Holds,
): { readonly allowed: boolean; readonly refused: readonly string[] } {
  const rules = grants.rules.filter(holds);
  const refused = supplied.filter(
    (field) =>
      covering(rules, operation, field).length === 0 || !fieldFences(grants, operation, field).every(holds),
  );
  const allowed = rules.length > 0 && refused.length === 0 && recordFences(grants, operation).every(holds);
  return { allowed, refused };
}

/**
 * What decides an action: the rules that name it, and every fence on the action, on updating the record, and on
 * updating a field that it sets. The `roles` are those that count for the action; a fence on update asks for those of
 * its own pair, which `grantsFor` has seen to.
 */
export function actionGrants(rulebook: Rulebook, caller: Caller, action: Action): ActionGrants {
  const own = grantsFor(rulebook, caller, action.collection, action.name);
  const updating = grantsFor(rulebook, caller, action.collection, 'update');
  const concerned = updating.fences.filter((fence) => {
    const about = fence.operations.get('update');
    return about === null || [...action.sets.keys()].some((field) => about!.has(field));
  });
  return { own, updating: { ...updating, rules: [], fences: concerned } };
}

/** Apart, since `me has role` means another pair in each. */
export interface ActionGrants {
  readonly own: Grants;
  readonly updating: Grants;
}

/**
 * The rules whose stamps would be set: those that create or act, and those about update alone that cover a supplied
 * field. Which of them are set is known only when they are seen to be true, with their stamps set.
 */
export function stampers(grants: Grants, operation: Operation, supplied: readonly string[]): Rule[] {
  return grants.rules.filter(
    (rule) =>
      rule.stamps.length > 0 &&
      (operation !== 'update' ||
        (rule.operations.size === 1 && supplied.some((field) => rule.operations.get('update')!.has(field)))),
  );
}

/** May the record be deleted, or shared? Default deny: one rule must be true, and every fence passed. */
export function allowsWhole(grants: Grants, operation: 'delete' | 'share', holds: Holds): boolean {
  return grants.rules.some(holds) && recordFences(grants, operation).every(holds);
}

/** Create rules with the very same stamps: they are tried together, and apart from all others. */
export interface CreateGroup {
  readonly stamps: readonly Stamp[];
  readonly rules: readonly Rule[];
}

/**
 * The groups of create rules that could take these supplied fields, by name alone: no supplied field is stamped by
 * the group, and each is covered by one of its rules.
 */
export function createGroups(rules: readonly Rule[], supplied: readonly string[]): CreateGroup[] {
  const groups = new Map<string, Rule[]>();
  for (const rule of rules) {
    const key = JSON.stringify(rule.stamps);
    groups.set(key, [...(groups.get(key) ?? []), rule]);
  }
  return [...groups.values()]
    .map((members) => ({ stamps: members[0]!.stamps, rules: members }))
    .filter(({ stamps }) => !stamps.some((stamp) => supplied.includes(stamp.field)))
    .filter((group) => supplied.every((field) => covering(group.rules, 'create', field).length > 0));
}

/** The supplied fields that no group could take: covered by none, stamped wherever they are covered, or fenced. */
export function refusedByName(grants: Grants, supplied: readonly string[]): string[] {
  const taken = (rule: Rule, field: string) =>
    rule.operations.get('create')!.has(field) && !rule.stamps.some((stamp) => stamp.field === field);
  return supplied.filter(
    (field) =>
      !grants.rules.some((rule) => taken(rule, field)) || fieldFences(grants, 'create', field).some(isClosed),
  );
}

/**
 * Answers `me may …` by the closures: readable, and then the operation itself, with the record as it is on both sides.
 * The checker has seen to it that this comes to an end.
 */
export function mayDecider(rulebook: Rulebook): MayDecider {
  const predicates = new WeakMap<Asked, Predicate>();
  return ({ operation, collection, fields }, record, circumstances) => {
    const { caller, look } = circumstances;
    const side = { record, look };
    const asking = ({ roles }: Grants): Holds => {
      const here: Circumstances = { ...circumstances, roles, old: side, new: side };
      return (asked) => {
        const predicate = predicates.get(asked) ?? compilePredicate(asked.when);
        predicates.set(asked, predicate);
        return predicate(record, here) === true;
      };
    };
    const reading = grantsFor(rulebook, caller, collection, 'read');
    if (shownFields(reading, [], asking(reading)) === null) return false;
    if (operation === 'read') return true;
    const grants = grantsFor(rulebook, caller, collection, operation);
    if (operation === 'delete') return allowsWhole(grants, 'delete', asking(grants));
    const own = promotesItself(rulebook, caller, collection, record.id as string, fields);
    return own.length === 0 && allowsSupplied(grants, 'update', fields, asking(grants)).allowed;
  };
}
