import type { Condition, Operand, PathOperand } from '../../ir/conditions.ts';
import { folded } from '../../ir/fold.ts';
import { rewriteCondition } from '../../ir/rewrite.ts';
import type { Rule, Stamp } from '../../ir/rulebook.ts';
import { plainGroundsOf } from '../grounds.ts';
import { seenFrom, type Overlay } from '../sides.ts';
import type { AdviceKind } from './kind.ts';
import { contradicts } from './never-true.ts';
import { literalKey } from './questions.ts';

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
      if (!changes || rule.stamps.length === 0 || !isPossible(rule, 'before', [])) continue;
      if (isPossible(rule, 'before', rule.stamps) && isPossible(rule, 'after', rule.stamps)) continue;
      const names = rule.stamps.map(({ field }) => field);
      const bare = names.filter((name) => readsBare(rule.when, name));
      const hint =
        bare.length === 0
          ? ''
          : `: write ${bare.map((name) => `old.${name}`).join(', ')} for the record before the change`;
      yield { span: rule.span, message: `with ${names.join(', ')} filled in, this is never true${hint}` };
    }
  },
};

/** Could the rule be true on this side, with these stamps? */
function isPossible(rule: Rule, side: 'before' | 'after', stamps: readonly Stamp[]): boolean {
  const overlay: Overlay = new Map(stamps.map(({ field, value }) => [field, value]));
  const seen = seenFrom(rule.when, side, overlay);
  return plainGroundsOf(
    withoutSelf(seen, !rule.audience.visitors && !rule.audience.everybody),
    rule.audience.roles,
  ).some((ground) => !contradicts(ground));
}

/** Whoever calls is there, where no visitor can; and what is compared with itself is the same. */
function withoutSelf(condition: Condition, isPerson: boolean): Condition {
  return rewriteCondition(condition, {
    condition(part) {
      if (part.kind === 'missing' && isPerson && isMe(part.operand))
        return { kind: 'constant', value: false };
      if (part.kind === 'equal' && isPerson && isMe(part.left) && isMe(part.right))
        return { kind: 'constant', value: true };
      if (part.kind === 'equal' && part.left.kind === 'literal' && part.right.kind === 'literal')
        return { kind: 'constant', value: literalKey(part.left) === literalKey(part.right) };
      if (part.kind === 'missing' && part.operand.kind === 'literal')
        return { kind: 'constant', value: false };
      return folded(part);
    },
  });
}

function isMe(operand: Operand): boolean {
  return (
    operand.kind === 'path' &&
    operand.root === 'me' &&
    operand.steps.length === 1 &&
    operand.steps[0]!.field === 'id'
  );
}

function readsBare(condition: Condition, field: string): boolean {
  let found = false;
  rewriteCondition(condition, {
    path(path: PathOperand) {
      found ||= path.root === 'record' && path.steps[0]!.field === field;
      return path;
    },
  });
  return found;
}
