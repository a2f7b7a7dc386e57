import type { AdviceKind } from './kind.ts';
import { isMeant, ownerFieldsOf, ties } from './questions.ts';

export const ownerChanges: AdviceKind = {
  code: 'A003',
  title: 'an update rule that lets the owner be changed',
  explanation:
    'Whoever may do this can hand a record over to somebody else, or take it. Leave the owner out of the fields, or say with “accept” that it is meant.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role steward
rules hives { steward may read, update }
test identity stella { roles steward }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      for (const field of ownerFieldsOf(rulebook, rule.collection)) {
        const fields = rule.operations.get('update');
        if (fields?.has(field) !== true || ties(rule, field)) continue;
        if (isMeant(rulebook, rule, 'update', field)) continue;
        yield { span: rule.span, message: `${field} says whose a record is, and this lets it be changed` };
      }
    }
  },
};
