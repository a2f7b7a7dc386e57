import type { AdviceKind } from './kind.ts';
import { collectionOf } from '../../types/schema.ts';
import { speaksOfCaller } from '../grounds.ts';
import { groundsOfRule, isMeant } from './questions.ts';

export const sensitiveOpen: AdviceKind = {
  code: 'A007',
  title: 'a sensitive field open to everybody',
  explanation:
    'A field that is marked sensitive is shown to all people, or to visitors, and the condition does not ask who they are. Leave it out, or put up a fence.',
  example: `collection hives { code text required label  price decimal sensitive }
rules hives { people may read }
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (!rule.audience.people && !rule.audience.everybody && !rule.audience.visitors) continue;
      const { fields } = collectionOf(rulebook.schema, rule.collection);
      const open = [...(rule.operations.get('read') ?? [])].filter((field) => fields.get(field)!.sensitive);
      if (groundsOfRule(rule).every(speaksOfCaller)) continue;
      const unfenced = open.filter(
        (field) =>
          !isMeant(rulebook, rule, 'read', field) &&
          !rulebook.fences.some(
            (fence) =>
              fence.collection === rule.collection && fence.operations.get('read')?.has(field) === true,
          ),
      );
      if (unfenced.length > 0)
        yield {
          span: rule.span,
          message: `${unfenced.join(', ')} is sensitive, and this shows it to all who come`,
        };
    }
  },
};
