import type { Expression } from '../language/ast.ts';
import { negate, type Condition, type Operand } from '../ir/conditions.ts';
import { typeName } from '../types/types.ts';
import type { Asking } from './asking.ts';
import { comparable } from './comparable.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalBeside, type LiteralOperand } from './literals.ts';
import type { Scope } from './scope.ts';

/** `status in ("active", "resting")`: a list that is written out. */
export function checkAmong(
  asking: Asking,
  expression: Expression & { kind: 'in' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const operand = asking.operand(expression.operand, scope, findings);
  if (operand === null) return null;
  if (operand.type.kind === 'list' || operand.type.kind === 'json') {
    findings.add('T001', `${typeName(operand.type)} is not one of some values`, expression.operand.span);
    return null;
  }
  const values: LiteralOperand[] = [];
  let failed = false;
  for (const item of expression.items) {
    if (!isLiteral(item)) {
      findings.add('T001', 'the list after “in” holds plain values', item.span, 'join comparisons with “or”');
      failed = true;
      continue;
    }
    const value = literalBeside(item, operand.type, findings);
    if (value === null) failed = true;
    else values.push(value);
  }
  if (failed) return null;
  const among: Condition = { kind: 'among', operand, values };
  return expression.negated ? negate(among) : among;
}

/** `crew in me.crews`, and `me.crews contains crew`: a list that is a value itself. */
export function checkMember(
  asking: Asking,
  item: Expression,
  list: Expression,
  negated: boolean,
  scope: Scope,
  findings: Findings,
): Condition | null {
  const values = asking.operand(list, scope, findings);
  if (values === null) return null;
  if (values.type.kind !== 'list') {
    findings.add(
      'T001',
      `a list is needed here, and this is ${typeName(values.type)}`,
      list.span,
      'a list is written out in brackets: in ("a", "b")',
    );
    return null;
  }
  const { of } = values.type;
  const operand: Operand | null = isLiteral(item)
    ? literalBeside(item, of, findings)
    : asking.operand(item, scope, findings);
  if (operand === null) return null;
  if (!comparable(operand.type, of)) {
    findings.add('T001', `${typeName(operand.type)} cannot stand in ${typeName(values.type)}`, item.span);
    return null;
  }
  const member: Condition = { kind: 'member', operand, list: values };
  return negated ? negate(member) : member;
}
