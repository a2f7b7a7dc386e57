import type { AdviceKind } from './kind.ts';
import { isMeant } from './questions.ts';

export const visitorsWrite: AdviceKind = {
  code: 'A006',
  title: 'visitors who may write',
  explanation:
    'Anybody at all can do this, without being known, as often as they like. Speak of “people”, or say with “accept” that it is meant.',
  example: `collection notices { title text required label }
rules notices { everybody may read, create }
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (!rule.audience.visitors && !rule.audience.everybody) continue;
      const writes = [...rule.operations.keys()].filter(
        (operation) => operation !== 'read' && !isMeant(rulebook, rule, operation, null),
      );
      if (writes.length > 0) yield { span: rule.span, message: `visitors may ${writes.join(', ')}` };
    }
  },
};
