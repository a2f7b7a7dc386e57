import type { Expression, Name } from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import { always, type Condition, type Range } from '../ir/conditions.ts';
import type { Asking } from './asking.ts';
import type { Findings } from './context.ts';
import { recordOperand } from './paths.ts';
import { unknownCollection } from './schema.ts';
import type { Scope } from './scope.ts';

/** The records gone through, what is asked of each, and the scope in which the variable is known. */
export interface CheckedRange {
  readonly range: Range;
  readonly condition: Condition;
  readonly inside: Scope;
}

/** `v in visits`, and a condition over it: the variable may hide no other name. */
export function rangeIn(
  asking: Asking,
  range: { readonly variable: Name; readonly collection: Name; readonly span: Span },
  body: Expression | null,
  scope: Scope,
  findings: Findings,
): CheckedRange | null {
  const { variable, collection } = range;
  if (!scope.schema.has(collection.text)) {
    unknownCollection(collection, scope.schema.keys(), findings);
    return null;
  }
  const isField = scope.record !== null && scope.schema.get(scope.record)!.fields.has(variable.text);
  if (isField || scope.variables.has(variable.text)) {
    findings.add(
      'N005',
      `“${variable.text}” has a meaning here already`,
      variable.span,
      'choose another name',
    );
    return null;
  }
  const depth = scope.depth + 1;
  const variables = new Map(scope.variables).set(variable.text, recordOperand(depth, collection.text));
  const inside = { ...scope, variables, depth };
  const condition = body === null ? always : asking.condition(body, inside, findings);
  return condition === null ? null : { range: { collection: collection.text, depth }, condition, inside };
}
