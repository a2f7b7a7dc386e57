import { collectionOf } from '../../types/schema.ts';
import type { AdviceKind } from './kind.ts';
import { coversAudience } from '../../check/audiences.ts';
import { isUnconditional } from './questions.ts';

export const uniqueTells: AdviceKind = {
  code: 'A013',
  title: 'a unique field whose clash tells of hidden records',
  explanation:
    'Whoever supplies a value that another record has is refused with 409, also where they may not read that record, and so learns that the value is there. Let the service choose the value, or live with it where values are no secret.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role keeper
rules hives { keeper may read (all), create (code) when keeper = me stamp keeper = me }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    const told = new Set<string>();
    for (const rule of rulebook.rules) {
      const { fields } = collectionOf(rulebook.schema, rule.collection);
      const supplied = [...(rule.operations.get('create') ?? []), ...(rule.operations.get('update') ?? [])];
      const readsAll = rulebook.rules.some(
        (other) =>
          other.collection === rule.collection &&
          other.operations.has('read') &&
          isUnconditional(other) &&
          coversAudience(rulebook.roles, other.audience, rule.audience),
      );
      for (const field of new Set(supplied)) {
        const key = `${rule.collection}.${field}`;
        if (readsAll || !fields.get(field)!.unique || told.has(key)) continue;
        told.add(key);
        yield {
          span: rule.span,
          message: `${key} is unique, and is supplied by people who do not read all ${rule.collection}`,
        };
      }
    }
  },
};
