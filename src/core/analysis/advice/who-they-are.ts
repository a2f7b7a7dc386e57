import { PEOPLE } from '../../types/schema.ts';
import type { AdviceKind } from './kind.ts';

export const whoTheyAre: AdviceKind = {
  code: 'A020',
  title: 'people who may change the address by which they are known',
  explanation:
    'Invitations and providers find people by their address, and me.email is compared in rules. One that somebody enters for themself is only a claim: it identifies nobody, is missing for rules until it is verified, and is taken away when its owner comes. If people are to keep an address for letters, give it a field of its own.',
  example: `people { phone text }
rules people { people may read (name), update (email, phone) when this = me }
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (rule.collection !== PEOPLE) continue;
      const writes = ['create', 'update'].filter((operation) => rule.operations.get(operation)?.has('email'));
      if (writes.length > 0)
        yield {
          span: rule.span,
          message: `this lets people ${writes.join(' and ')} email, by which people are known`,
        };
    }
    for (const action of rulebook.actions.values())
      if (action.collection === PEOPLE && action.sets.has('email'))
        yield { span: action.span, message: 'this action sets email, by which people are known' };
  },
};
