import type { Expression } from '../language/ast.ts';
import { suggestion } from '../diagnostics/suggest.ts';
import type { Condition } from '../ir/conditions.ts';
import { typeName } from '../types/types.ts';
import type { Findings } from './context.ts';
import { resolvePath } from './paths.ts';
import type { Scope } from './scope.ts';

/** `me may read hive`: the path leads to one record, and the fields are of its collection. */
export function checkMay(
  expression: Expression & { kind: 'may' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const { operation, target, fields } = expression;
  const path = resolvePath(target, scope, findings);
  if (path === null) return null;
  if (path.kind !== 'path' || path.type.kind !== 'ref') {
    findings.add(
      'T003',
      `“me may ${operation}” is about a record, and this is ${typeName(path.type)}`,
      target.span,
    );
    return null;
  }
  const { collection } = path.type;
  const known = scope.schema.get(collection)!.fields;
  for (const field of fields) {
    if (known.has(field.text)) continue;
    findings.add(
      'N002',
      `${collection} has no field “${field.text}”`,
      field.span,
      suggestion(field.text, known.keys()),
    );
    return null;
  }
  return { kind: 'may', operation, collection, target: path, fields: fields.map((field) => field.text) };
}
