import type { Attribute, Rulebook } from '../ir/rulebook.ts';
import type { ListType, Scalar, Value } from '../types/types.ts';
import { compareValues, parseValue } from '../types/values.ts';
import type { Caller, RecordValues } from '../decide/caller.ts';
import { compilePredicate, evaluateEvery, evaluateOperand, type Circumstances } from './closures.ts';

/** What a caller's token says, by claim. */
export type Claims = Readonly<Record<string, unknown>>;

/**
 * The caller with all attributes and all roles that are held by a condition, by the closures; `core/sql/arrival.ts`
 * is the other engine. `person` holds the fields of people, `assigned` the roles given by hand.
 */
export function workOutCaller(
  rulebook: Rulebook,
  person: RecordValues & { readonly id: string },
  assigned: Iterable<string>,
  claims: Claims,
  world: Pick<Circumstances, 'now' | 'look' | 'all'>,
): Caller {
  const values: Record<string, Value> = { ...person };
  const caller: Caller = { person: { id: person.id, values }, roles: new Set() };
  const circumstances: Circumstances = { ...world, caller, roles: new Set(), may: () => false };
  // In their order, so that each finds those that it is worked out from.
  for (const attribute of rulebook.attributes.values())
    values[attribute.name] = valueOf(attribute, claims, circumstances);
  const roles = new Set([...assigned].filter((name) => isGivenByHand(rulebook, name)));
  for (const { name, when } of rulebook.roles.values()) {
    if (when !== null && compilePredicate(when)(none, circumstances) === true) roles.add(name);
  }
  return { ...caller, roles };
}

/** A role comes from one source alone: one that has a condition is not held because somebody was given it. */
export function isGivenByHand(rulebook: Pick<Rulebook, 'roles'>, role: string): boolean {
  return rulebook.roles.get(role)?.when === null;
}

/** The claim as the value of its type; of the wrong type it is missing. */
export function claimValue(attribute: Attribute, claims: Claims): Value {
  if (attribute.source.kind !== 'claim' || !Object.hasOwn(claims, attribute.source.claim)) return null;
  const parsed = parseValue(attribute.type, claims[attribute.source.claim]);
  return parsed.ok ? parsed.value : null;
}

const none = Object.create(null) as RecordValues;

function valueOf(attribute: Attribute, claims: Claims, circumstances: Circumstances): Value {
  const { source, type } = attribute;
  switch (source.kind) {
    case 'claim':
      return claimValue(attribute, claims);
    case 'value':
      return evaluateOperand(source.operand, circumstances);
    case 'every':
      return eachOnce(evaluateEvery(source, circumstances), type as ListType);
  }
}

function eachOnce(values: readonly Scalar[], { of }: ListType): Scalar[] {
  const sorted = values.toSorted((a, b) => compareValues(of.kind, a, b));
  return sorted.filter(
    (each, index) => index === 0 || compareValues(of.kind, sorted[index - 1]!, each) !== 0,
  );
}
