import type { Operand } from '../../ir/conditions.ts';
import type { Rule, Rulebook } from '../../ir/rulebook.ts';
import type { AdviceKind } from './kind.ts';
import { literalKey } from './questions.ts';

export const stampsDiffer: AdviceKind = {
  code: 'A018',
  title: 'rules that fill in a field differently for the same change',
  explanation:
    'Where both rules are true, the change is refused, since nobody can say which value was meant. Somebody who holds both roles may do less than with one of them. Make the conditions exclude each other, or let one rule speak of both.',
  example: `collection notices { title text required label  body text  signed_for text }
role keeper
role steward
rules notices {
  people may read
  keeper may update (body) stamp signed_for = "the keepers"
  steward may update (body) stamp signed_for = "the district"
}
test identity ada { roles keeper, steward }`,
  *find({ rulebook }) {
    const stamping = rulebook.rules.filter(
      (rule) => rule.stamps.length > 0 && changing(rulebook, rule).length > 0,
    );
    for (const [index, rule] of stamping.entries())
      for (const other of stamping.slice(index + 1)) {
        if (other.collection !== rule.collection) continue;
        const both = changing(rulebook, rule).filter((operation) =>
          changing(rulebook, other).includes(operation),
        );
        const meets = both.some(
          (operation) =>
            operation !== 'update' ||
            [...rule.operations.get('update')!].some((field) => other.operations.get('update')!.has(field)),
        );
        const differing = rule.stamps.filter(({ field, value }) =>
          other.stamps.some((each) => each.field === field && stampKey(each.value) !== stampKey(value)),
        );
        if (!meets || differing.length === 0) continue;
        const names = differing.map(({ field }) => field).join(', ');
        yield {
          span: other.span,
          message: `${rule.id} fills in ${names} differently: where both are true, the change is refused`,
        };
      }
  },
};

function stampKey(value: Operand): string {
  return value.kind === 'literal' ? JSON.stringify(['literal', literalKey(value)]) : JSON.stringify(value);
}

/** The operations of a rule in which its stamps are set on a record that is there. */
function changing(rulebook: Rulebook, { operations, collection }: Rule): string[] {
  return [...operations.keys()].filter(
    (operation) =>
      (operation === 'update' && operations.size === 1) || rulebook.actions.has(`${collection}.${operation}`),
  );
}
