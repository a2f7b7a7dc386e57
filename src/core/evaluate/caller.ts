import type { Audience, Rulebook } from '../ir/rulebook.ts';
import type { Value } from '../types/types.ts';

/** The values of one record by field; a field that is not there counts as missing. */
export type RecordValues = Readonly<Record<string, Value>>;

/** Who asks: a person with the roles held at this moment, or a visitor (`person` is null). */
export interface Caller {
  readonly person: { readonly id: string; readonly values: RecordValues } | null;
  /** Always empty for a visitor. Roles that the rulebook does not know are left out. */
  readonly roles: ReadonlySet<string>;
}

/** Does a rule for this audience speak of the caller? Rules for visitors do not apply to people. */
export function speaksOf(audience: Audience, caller: Caller): boolean {
  if (audience.everybody) return true;
  if (caller.person === null) return audience.visitors;
  if (audience.people) return true;
  for (const role of caller.roles) if (audience.roles.has(role)) return true;
  return false;
}

/**
 * The roles that a caller holds by those assigned: these, and all that they include. An assigned role that the
 * rulebook does not know gives nothing.
 */
export function heldRoles(rulebook: Pick<Rulebook, 'roles'>, assigned: Iterable<string>): Set<string> {
  const held = new Set<string>();
  for (const name of assigned) for (const role of rulebook.roles.get(name)?.includes ?? []) held.add(role);
  return held;
}
