import type { AdviceKind } from './kind.ts';
import { isMeant, ownerFieldsOf, ties } from './questions.ts';

export const inAnothersName: AdviceKind = {
  code: 'A004',
  title: 'a create rule with which one may create in another’s name',
  explanation:
    'The owner is among the fields that callers supply, and no condition says that it must be themselves. Stamp it, ask for it in the condition, or say with “accept” that it is meant.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role keeper
rules hives { keeper may read, create }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      for (const field of ownerFieldsOf(rulebook, rule.collection)) {
        if (rule.operations.get('create')?.has(field) !== true || ties(rule, field)) continue;
        if (isMeant(rulebook, rule, 'create', field)) continue;
        yield {
          span: rule.span,
          message: `${field} says whose a record is, and the caller chooses it freely`,
        };
      }
    }
  },
};
