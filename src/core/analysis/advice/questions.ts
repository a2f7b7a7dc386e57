import { coversAudience } from '../../check/audiences.ts';
import type { Condition, Operand } from '../../ir/conditions.ts';
import type { Rule, Rulebook } from '../../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../../types/schema.ts';
import type { Scalar, ScalarType } from '../../types/types.ts';
import { valueKey } from '../../types/values.ts';
import { plainGroundsOf } from '../grounds.ts';

/** The fields of the record itself that say whose it is. */
export function ownerFieldsOf(rulebook: Rulebook, collection: string): string[] {
  const { owners, fields } = collectionOf(rulebook.schema, collection);
  return owners
    .filter((path) => path.length === 1)
    .map(([field]) => field!)
    .filter((field) => {
      const { type } = fields.get(field)!;
      return type.kind === 'ref' && type.collection === PEOPLE;
    });
}

/** The ways in which a rule can be true, for people in general. */
export function groundsOfRule({ when, audience }: Pick<Rule, 'when' | 'audience'>): Condition[] {
  return plainGroundsOf(when, audience.roles);
}

/** The parts of a ground, all of which must be true. */
export function partsOf(ground: Condition): readonly Condition[] {
  return ground.kind === 'and' ? ground.operands.flatMap(partsOf) : [ground];
}

/** Can the rule be true only where this field of the record is the caller? */
export function ties(rule: Rule, field: string): boolean {
  return groundsOfRule(rule).every((ground) =>
    partsOf(ground).some(
      (part) =>
        part.kind === 'equal' &&
        ((isField(part.left, field) && isMe(part.right)) || (isField(part.right, field) && isMe(part.left))),
    ),
  );
}

function isField(operand: Operand, field: string): boolean {
  return (
    operand.kind === 'path' &&
    (operand.root === 'record' || operand.root === 'new') &&
    operand.steps.length === 1 &&
    operand.steps[0]!.field === field
  );
}

function isMe(operand: Operand): boolean {
  return operand.kind === 'path' && operand.root === 'me' && operand.steps[0]!.field === 'id';
}

/** Does the rulebook say that this reach is meant? */
export function isMeant(
  rulebook: Rulebook,
  { audience, collection }: Rule,
  operation: string,
  field: string | null,
): boolean {
  return rulebook.acceptedReach.some((each) => {
    if (each.collection !== collection || !each.operations.has(operation)) return false;
    const about = each.operations.get(operation) ?? null;
    return (
      (field === null || about === null || about.has(field)) &&
      coversAudience(rulebook.roles, each.audience, audience)
    );
  });
}

export function isUnconditional({ when }: Pick<Rule, 'when'>): boolean {
  return when.kind === 'constant' && when.value;
}

/** Every condition and value that a rulebook's sentences and declarations hold. */
export function bodiesOf(rulebook: Rulebook): (Condition | Operand)[] {
  return [
    ...[...rulebook.rules, ...rulebook.fences].map(({ when }) => when),
    ...rulebook.rules.flatMap(({ stamps }) => stamps.map(({ value }) => value)),
    ...rulebook.invariants.map(({ only }) => only),
    ...[...rulebook.roles.values()].flatMap(({ when }) => when ?? []),
    ...[...rulebook.attributes.values()].flatMap(({ source }) =>
      source.kind === 'claim'
        ? []
        : source.kind === 'every'
          ? [source.operand, source.where]
          : [source.operand],
    ),
    ...[...rulebook.actions.values()].flatMap(({ sets }) =>
      [...sets.values()].flatMap((each) => (each.kind === 'value' ? [each.operand] : [])),
    ),
  ];
}

/** The same for literals that are the same value. */
export function literalKey({ type, value }: Operand & { readonly kind: 'literal' }): Scalar {
  return valueKey(type.kind as ScalarType['kind'], value);
}
