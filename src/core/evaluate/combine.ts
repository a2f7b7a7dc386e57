import type { OperationName } from '../language/ast.ts';
import type { Rule, Rulebook, Stamp } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import { speaksOf, type Caller } from './caller.ts';

/**
 * Many rules to one answer. Everything that decides goes through here: lists in SQL take the same sets of rules,
 * writes and the closures take these functions as they are.
 *
 * - The default is no: where no rule is exactly true, nothing is allowed. There is no rule that forbids.
 * - Rules are never mixed: a field is allowed by one rule that covers it and is true for that very record.
 * - `holds` says of a rule whether its condition is true; unknown is not true. It may be asked more than once.
 *
 * Not protected here: who the caller is (service/identity), and which records exist for them (core/sql/access).
 */
export type Holds = (rule: Rule) => boolean;

/** The rules that name the operation and speak of the caller, in the order of the rulebook. */
export function rulesFor(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
  operation: OperationName,
): Rule[] {
  return rulebook.rules.filter(
    (rule) =>
      rule.collection === collection && rule.operations.has(operation) && speaksOf(rule.audience, caller),
  );
}

/** Those of `rules` that cover a field in an operation. The id comes with every readable record. */
export function covering(rules: readonly Rule[], operation: OperationName, field: string): readonly Rule[] {
  if (operation === 'read' && field === 'id') return rules;
  return rules.filter((rule) => rule.operations.get(operation)!.has(field));
}

/** The fields that a caller sees of a record; null where the record is not readable at all. */
export function shownFields(
  rules: readonly Rule[],
  fields: Iterable<string>,
  holds: Holds,
): Set<string> | null {
  const real = rules.filter(holds);
  // Default deny, in sight: no true rule, no record.
  if (real.length === 0) return null;
  const shown = new Set<string>();
  for (const field of fields) if (covering(real, 'read', field).length > 0) shown.add(field);
  return shown;
}

/** Which of the supplied fields no rule speaks of, whatever the record: what a refusal may name at once. */
export function uncoveredByName(
  rules: readonly Rule[],
  operation: 'create' | 'update',
  supplied: readonly string[],
): string[] {
  return supplied.filter((field) => covering(rules, operation, field).length === 0);
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
  rules: readonly Rule[],
  operation: 'create' | 'update',
  supplied: readonly string[],
  holds: Holds,
): { readonly allowed: boolean; readonly refused: readonly string[] } {
  const real = rules.filter(holds);
  const refused = uncoveredByName(real, operation, supplied);
  return { allowed: real.length > 0 && refused.length === 0, refused };
}

/** May the record be deleted? Default deny: one rule must be true. */
export function allowsDelete(rules: readonly Rule[], holds: Holds): boolean {
  return rules.some(holds);
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
    .filter((group) => uncoveredByName(group.rules, 'create', supplied).length === 0);
}

/** The supplied fields that no group could take: covered by none, or stamped wherever they are covered. */
export function refusedByName(rules: readonly Rule[], supplied: readonly string[]): string[] {
  return supplied.filter((field) =>
    rules.every(
      (rule) =>
        !rule.operations.get('create')!.has(field) || rule.stamps.some((stamp) => stamp.field === field),
    ),
  );
}
