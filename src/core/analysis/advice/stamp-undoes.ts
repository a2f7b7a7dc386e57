import type { AdviceKind } from './kind.ts';
import { askedOf, beforeInstead, isMadeFalse } from './possible.ts';

export const stampUndoes: AdviceKind = {
  code: 'A017',
  title: 'a rule that its own stamp makes false',
  explanation:
    'The condition is asked of the record as it is and as it becomes, with everything filled in. What the rule fills in makes it false, so it never lets anybody do anything. Where only the record before the change is meant, write “old.” before the field.',
  example: `collection hives { code text required label  notes text  signed_by ref people }
rules hives {
  people may read
  people may update (notes) when signed_by is missing stamp signed_by = me
}
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      const changes = [...rule.operations.keys()].some(
        (operation) =>
          (operation === 'update' && rule.operations.size === 1) ||
          rulebook.actions.has(`${rule.collection}.${operation}`),
      );
      const filledIn = new Map(rule.stamps.map(({ field, value }) => [field, value]));
      if (!changes || filledIn.size === 0 || !isMadeFalse(askedOf(rule), filledIn)) continue;
      const names = [...filledIn.keys()];
      yield {
        span: rule.span,
        message: `with ${names.join(', ')} filled in, this is never true${beforeInstead(rule.when, names)}`,
      };
    }
  },
};
