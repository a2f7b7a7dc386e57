import type { AdviceKind } from './kind.ts';
import { nodesOf, type Operand } from '../../ir/conditions.ts';

export const ownerByName: AdviceKind = {
  code: 'A005',
  title: 'people compared by name or e-mail address',
  explanation:
    'Names are shared and addresses change hands: two people of one name are the same here. Point at the person with a reference, and compare it with “me”.',
  example: `collection hives { code text required label  keeper_name text }
role keeper
rules hives { keeper may read when keeper_name = me.name }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    for (const { when, span } of [...rulebook.rules, ...rulebook.fences]) {
      for (const node of nodesOf(when)) {
        if (node.kind !== 'equal') continue;
        const pair = [node.left, node.right];
        const mine = pair.find((operand) => personal(operand, 'me'));
        if (mine === undefined || !pair.some((operand) => operand !== mine && operand.kind === 'path'))
          continue;
        yield { span, message: `this asks who somebody is by ${personal(mine, 'me')}` };
      }
    }
  },
};

function personal(operand: Operand, root: 'me'): string | null {
  if (operand.kind !== 'path' || operand.root !== root || operand.steps.length > 1) return null;
  const { field } = operand.steps[0]!;
  return field === 'name' || field === 'email' ? `me.${field}` : null;
}
