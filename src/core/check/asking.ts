import type { Expression } from '../language/ast.ts';
import type { Condition, Operand } from '../ir/conditions.ts';
import type { Findings } from './context.ts';
import type { Scope } from './scope.ts';

/**
 * Checks what stands inside: each family of conditions has a file of its own and asks through this for its parts,
 * which may be of any family again. `conditions.ts` holds the only one.
 */
export interface Asking {
  condition(expression: Expression, scope: Scope, findings: Findings): Condition | null;
  operand(expression: Expression, scope: Scope, findings: Findings): Operand | null;
}
