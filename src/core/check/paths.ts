import { suggestion } from '../diagnostics/suggest.ts';
import type { Expression } from '../language/ast.ts';
import type { Operand, Step } from '../ir/conditions.ts';
import { PEOPLE, collectionOf, fieldOf, type Schema } from '../types/schema.ts';
import { typeName } from '../types/types.ts';
import type { Findings } from './context.ts';

/** What the names in a condition can mean. */
export interface Scope {
  readonly schema: Schema;
  /** The collection whose record `this` and bare names speak of; null where there is none (a stamp). */
  readonly record: string | null;
  /** A filter comes from an end user and may not speak of `me`. */
  readonly filter: boolean;
}

/** A path with every step resolved, or null with what is wrong reported. */
export function resolvePath(
  path: Expression & { kind: 'path' },
  scope: Scope,
  findings: Findings,
): (Operand & { kind: 'path' }) | null {
  const root = path.root === 'me' ? 'me' : 'record';
  if (root === 'me' && scope.filter) {
    findings.add('R008', 'a filter cannot speak of “me”', path.span, 'compare with a value');
    return null;
  }
  let collection = root === 'me' ? PEOPLE : scope.record;
  if (collection === null) {
    findings.add(
      'N002',
      'there is no record here whose fields could be named',
      path.span,
      'use me, me.FIELD, now or a literal',
    );
    return null;
  }
  if (path.steps.length === 0) {
    const type = { kind: 'ref', collection } as const;
    return { kind: 'path', root, steps: [{ collection, field: 'id' }], type };
  }
  const steps: Step[] = [];
  for (const [index, name] of path.steps.entries()) {
    const field = fieldOf(scope.schema, collection, name.text);
    if (field === null) {
      const known = [...collectionOf(scope.schema, collection).fields.keys()];
      findings.add(
        'N002',
        `${collection} has no field “${name.text}”`,
        name.span,
        suggestion(name.text, known),
      );
      return null;
    }
    steps.push({ collection, field: name.text });
    if (index === path.steps.length - 1) return { kind: 'path', root, steps, type: field.type };
    if (field.type.kind !== 'ref') {
      const hint = `${name.text} is ${typeName(field.type)}`;
      findings.add(
        'T003',
        `a path goes on only through a reference, and ${collection}.${name.text} is none`,
        name.span,
        hint,
      );
      return null;
    }
    collection = field.type.collection;
  }
  return null;
}
