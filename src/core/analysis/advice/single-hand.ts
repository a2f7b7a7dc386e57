import type { AdviceKind } from './kind.ts';
import { rolesFor, speaksOf } from '../../decide/caller.ts';

export const singleHand: AdviceKind = {
  code: 'A015',
  title: 'a collection that one person alone can run',
  explanation:
    'Of all test identities only one may change anything here. If that is so of the people, too, nobody is there when that one is away.',
  example: `collection lots { code text required label }
role steward
rules lots { people may read  steward may create, update, delete }
test identity stella { roles steward }
test identity ada { }`,
  *find({ rulebook }) {
    const people = [...rulebook.identities.values()].filter((identity) => !identity.deactivated);
    if (people.length < 2) return;
    for (const collection of rulebook.schema.keys()) {
      const writing = rulebook.rules.filter(
        (rule) =>
          rule.collection === collection &&
          [...rule.operations.keys()].some((operation) => operation !== 'read'),
      );
      if (writing.length === 0) continue;
      const able = people.filter(({ name, roles }) => {
        const caller = { person: { id: name, values: {} }, roles: new Set(roles.map((each) => each.role)) };
        return writing.some((rule) =>
          [...rule.operations.keys()].some(
            (operation) =>
              operation !== 'read' &&
              speaksOf(rule.audience, caller, rolesFor(rulebook, caller, operation, collection)),
          ),
        );
      });
      const [only] = able;
      // Roles with a condition may be held by others.
      const byCondition = writing.some(({ audience }) =>
        [...audience.roles].some((role) => rulebook.roles.get(role)!.when !== null),
      );
      if (able.length !== 1 || byCondition) continue;
      yield { span: writing[0]!.span, message: `only ${only!.name} may change anything in ${collection}` };
    }
  },
};
