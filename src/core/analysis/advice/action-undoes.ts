import type { Operand } from '../../ir/conditions.ts';
import { actionKey, type Action } from '../../ir/rulebook.ts';
import { simpleTypes } from '../../types/types.ts';
import type { AdviceKind } from './kind.ts';
import { askedOf, beforeInstead, isMadeFalse } from './possible.ts';

export const actionUndoes: AdviceKind = {
  code: 'A022',
  title: 'a condition that the action itself makes false',
  explanation:
    'Rules and fences of an action are asked of the record as it is and as it becomes. What the action sets makes the condition false, so nobody can ever carry it out. Where only the record before the change is meant, write “old.” before the field.',
  example: `collection lots { code text required label  status one of ("offered", "sold") = "offered" }
role treasurer
action sell on lots sets status = "sold"
rules lots { people may read  treasurer may sell when status = "offered" }
test identity ivo { roles treasurer }`,
  *find({ rulebook }) {
    for (const each of [...rulebook.rules, ...rulebook.fences])
      for (const name of each.operations.keys()) {
        const action = rulebook.actions.get(actionKey(each.collection, name));
        if (action === undefined) continue;
        const isRule = 'stamps' in each;
        const filledIn = new Map(isRule ? each.stamps.map(({ field, value }) => [field, value]) : []);
        // Where what the rule fills in is enough, that is told by itself.
        const asked = isRule ? askedOf(each) : { when: each.when, roles: new Set<string>(), isPerson: false };
        if (filledIn.size > 0 && isMadeFalse(asked, filledIn)) continue;
        for (const [field, value] of setBy(action)) filledIn.set(field, value);
        if (!isMadeFalse(asked, filledIn)) continue;
        const names = [...action.sets.keys()];
        const so = isRule ? 'this is never true' : 'nobody passes this fence';
        yield {
          span: each.span,
          message: `with what ${name} sets (${names.join(', ')}), ${so}${beforeInstead(each.when, names)}`,
        };
      }
  },
};

/** A value that whoever asks chooses. */
export function givenBy(collection: string, name: string): Operand {
  return {
    kind: 'path',
    root: 'new',
    steps: [{ collection, field: `${name} that is given` }],
    type: simpleTypes.text,
  };
}

/** What an action puts into each field. A value that the caller chooses is known to be no other. */
export function setBy({ collection, sets }: Action): Map<string, Operand> {
  return new Map(
    [...sets].map(([field, set]): [string, Operand] => {
      switch (set.kind) {
        case 'value':
          return [field, set.operand];
        case 'missing':
          return [field, { kind: 'nothing', type: simpleTypes.text }];
        case 'parameter':
          return [field, givenBy(collection, set.name)];
      }
    }),
  );
}
