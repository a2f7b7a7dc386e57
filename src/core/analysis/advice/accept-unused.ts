import { coversAudience } from '../../check/audiences.ts';
import type { AcceptedReach, Rulebook } from '../../ir/rulebook.ts';
import type { AdviceKind } from './kind.ts';

export const acceptUnused: AdviceKind = {
  code: 'A019',
  title: 'an accept that covers nothing, or more than there is',
  explanation:
    'No rule gives these people what the sentence says is meant, so it hides nothing today, and would hide a mistake tomorrow: a rule that is too wide would be no finding. Take away what nobody has.',
  example: `collection hives { code text required label  keeper ref people  notes text  price decimal  owned by keeper }
role steward
rules hives { steward may read (all), update (notes) }
accept steward may update (notes, price) on hives because "A steward helps"
test identity stella { roles steward }`,
  *find({ rulebook }) {
    for (const accepted of rulebook.acceptedReach)
      for (const [operation, fields] of accepted.operations) {
        const given = givenTo(rulebook, accepted, operation);
        if (given === null) {
          yield { span: accepted.span, message: `nobody of these may ${operation} ${accepted.collection}` };
          continue;
        }
        const unused = [...(fields ?? [])].filter((field) => !given.has(field));
        if (unused.length > 0)
          yield {
            span: accepted.span,
            message: `nobody of these may ${operation} ${unused.join(', ')} of ${accepted.collection}`,
          };
      }
  },
};

/** The fields that rules give somebody of this audience; null: no rule gives them the operation at all. */
function givenTo(
  rulebook: Rulebook,
  { audience, collection }: AcceptedReach,
  operation: string,
): Set<string> | null {
  const rules = rulebook.rules.filter(
    (rule) =>
      rule.collection === collection &&
      rule.operations.has(operation) &&
      (coversAudience(rulebook.roles, audience, rule.audience) ||
        coversAudience(rulebook.roles, rule.audience, audience) ||
        sharesRole(rulebook, [...audience.roles], [...rule.audience.roles])),
  );
  // What follows when another record is deleted is reached by no rule of its own.
  const follows = [...rulebook.schema.get(collection)!.fields.values()].filter(
    ({ onDelete }) =>
      onDelete === (operation === 'delete' ? 'remove' : operation === 'update' ? 'clear' : 'refuse'),
  );
  const along = operation === 'delete' || operation === 'update' ? follows.map(({ name }) => name) : [];
  if (rules.length === 0 && along.length === 0) return null;
  // What is stamped or set is reached, too.
  return new Set([
    ...rules.flatMap((rule) => [
      ...rule.operations.get(operation)!,
      ...rule.stamps.map(({ field }) => field),
    ]),
    ...along,
  ]);
}

/** Does a role of the one bring along a role of the other? */
function sharesRole(rulebook: Rulebook, some: readonly string[], others: readonly string[]): boolean {
  const all = (roles: readonly string[]) =>
    new Set(roles.flatMap((role) => [role, ...(rulebook.roles.get(role)?.includes.keys() ?? [])]));
  const [one, other] = [all(some), all(others)];
  return [...one].some((role) => other.has(role));
}
