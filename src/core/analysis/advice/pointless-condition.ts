import type { AdviceKind } from './kind.ts';
import { coversAudience } from '../../check/audiences.ts';
import { isUnconditional } from './questions.ts';

export const pointlessCondition: AdviceKind = {
  code: 'A001',
  title: 'a condition that another rule makes pointless',
  explanation:
    'Another rule gives the same people the same operations and fields without any condition, so this condition keeps nobody out. One of the two says more than was meant.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role keeper
rules hives { keeper may read when keeper = me  people may read }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (isUnconditional(rule) || rule.stamps.length > 0) continue;
      const wider = [...rule.operations].map(([operation, fields]) =>
        rulebook.rules.find(
          (other) =>
            other !== rule &&
            other.collection === rule.collection &&
            isUnconditional(other) &&
            other.stamps.length === 0 &&
            coversAudience(rulebook.roles, other.audience, rule.audience) &&
            other.operations.has(operation) &&
            [...fields].every((field) => other.operations.get(operation)!.has(field)),
        ),
      );
      if (wider.some((other) => other === undefined)) continue;
      const named = [...new Set(wider.map((other) => other!.id))].join(', ');
      yield { span: rule.span, message: `${named} allows all of this without a condition` };
    }
  },
};
