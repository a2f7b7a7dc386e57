import type { Expression } from '../language/ast.ts';
import type { Condition } from '../ir/conditions.ts';
import { typeName } from '../types/types.ts';
import type { Asking } from './asking.ts';
import type { Findings } from './context.ts';
import type { Scope } from './scope.ts';

/** Both sides are records of one collection, and that is a tree; on the right a list of such may stand, too. */
export function checkWithin(
  asking: Asking,
  expression: Expression & { kind: 'within' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const left = asking.operand(expression.left, scope, findings);
  const right = asking.operand(expression.right, scope, findings);
  if (left === null || right === null) return null;
  const above = right.type.kind === 'list' ? right.type.of : right.type;
  if (left.type.kind !== 'ref' || above.kind !== 'ref' || left.type.collection !== above.collection) {
    const types = `${typeName(left.type)} and ${typeName(right.type)}`;
    findings.add(
      'T001',
      `“within” is about two records of one tree, and these are ${types}`,
      expression.span,
    );
    return null;
  }
  const { collection } = left.type;
  const { tree } = scope.schema.get(collection)!;
  if (tree !== null) return { kind: 'within', left, right, parent: { collection, field: tree } };
  findings.add(
    'T013',
    `${collection} is no tree`,
    expression.span,
    `say so in its block, such as: tree by parent`,
  );
  return null;
}
