import { collectionOf } from '../../types/schema.ts';
import type { AdviceKind } from './kind.ts';
import { ownerFieldsOf } from './questions.ts';

export const ownerUnset: AdviceKind = {
  code: 'A016',
  title: 'a create rule that leaves the owner empty',
  explanation:
    'The owner is neither stamped nor supplied, so these records belong to nobody, and whoever made them may not even see them.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role keeper
rules hives { keeper may read when keeper = me  keeper may create (code) }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      const fields = rule.operations.get('create');
      const [owner, ...others] = ownerFieldsOf(rulebook, rule.collection);
      if (fields === undefined || owner === undefined || others.length > 0) continue;
      const isSet = fields.has(owner) || rule.stamps.some((stamp) => stamp.field === owner);
      const { fields: declared } = collectionOf(rulebook.schema, rule.collection);
      if (isSet || declared.get(owner)!.default !== null) continue;
      const { audience, stamps, because } = rule;
      const isPlain = stamps.length === 0 && because === null && !audience.visitors && !audience.everybody;
      yield {
        span: rule.span,
        message: `${owner} says whose a record is, and stays empty`,
        ...(isPlain
          ? {
              fix: {
                description: `stamp ${owner} = me`,
                span: { ...rule.span, start: rule.span.end },
                text: ` stamp ${owner} = me`,
              },
            }
          : {}),
      };
    }
  },
};
