import type { Condition, Operand, PathOperand } from '../../ir/conditions.ts';
import { folded } from '../../ir/fold.ts';
import { rewriteCondition } from '../../ir/rewrite.ts';
import type { Audience } from '../../ir/rulebook.ts';
import { plainGroundsOf } from '../grounds.ts';
import { seenFrom, type Overlay } from '../sides.ts';
import { contradicts } from './never-true.ts';
import { literalKey } from './questions.ts';

/** A condition, and whom it is asked of. */
export interface AskedOf {
  readonly when: Condition;
  readonly roles: ReadonlySet<string>;
  /** Is nobody a visitor whom it is asked of? */
  readonly isPerson: boolean;
}

export function askedOf({ when, audience }: { when: Condition; audience: Audience }): AskedOf {
  return { when, roles: audience.roles, isPerson: !audience.visitors && !audience.everybody };
}

/** Could it be true of the record as it is, and not once these are filled in, on one of the sides that it is asked on? */
export function isMadeFalse(asked: AskedOf, filledIn: Overlay): boolean {
  if (!isPossibleOn(asked, 'before', new Map())) return false;
  return !isPossibleOn(asked, 'before', filledIn) || !isPossibleOn(asked, 'after', filledIn);
}

/** What to write where the record before the change was meant; nothing where these fields are not read by their names alone. */
export function beforeInstead(when: Condition, fields: readonly string[]): string {
  const bare = fields.filter((name) => readsBare(when, name));
  return bare.length === 0
    ? ''
    : `: write ${bare.map((name) => `old.${name}`).join(', ')} for the record before the change`;
}

/** Could it be true on this side of a change, once these are filled in? */
export function isPossibleOn(
  { when, roles, isPerson }: AskedOf,
  side: 'before' | 'after',
  filledIn: Overlay,
): boolean {
  const seen = withoutSelf(seenFrom(when, side, filledIn), isPerson);
  return plainGroundsOf(seen, roles).some((ground) => !contradicts(ground));
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
      if (part.kind === 'missing' && isThere(part.operand)) return { kind: 'constant', value: false };
      if (part.kind === 'missing' && part.operand.kind === 'nothing')
        return { kind: 'constant', value: true };
      // Unknown, and not true; its opposite is taken for possible, though it is unknown, too.
      if (part.kind === 'equal' && (part.left.kind === 'nothing' || part.right.kind === 'nothing'))
        return { kind: 'constant', value: false };
      return folded(part);
    },
  });
}

/** Is there always something? */
function isThere({ kind }: Operand): boolean {
  return kind === 'literal' || kind === 'now' || kind === 'today';
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
