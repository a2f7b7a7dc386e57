import { suggestion } from '../diagnostics/suggest.ts';
import type { Assignment, RuleSentence } from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import type { Stamp } from '../ir/rulebook.ts';
import type { Collection, Field } from '../types/schema.ts';
import { simpleTypes, typeName, type Scalar, type Type } from '../types/types.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue } from './literals.ts';
import { resolvePath } from './paths.ts';
import type { Scope } from './scope.ts';

/**
 * The stamps of a sentence. They are set where it creates or acts; on update only where it is about nothing else, so
 * that it is plain when.
 */
export function checkStamps(
  sentence: RuleSentence,
  collection: Collection,
  scope: Scope,
  findings: Findings,
): Stamp[] {
  const [first] = sentence.stamps;
  const operations = sentence.operations.map((clause) => clause.operation);
  const sets = operations.some((each) => each !== 'read' && each !== 'update' && each !== 'delete');
  if (first !== undefined && !sets && (operations.length > 1 || operations[0] !== 'update')) {
    findings.add(
      'R004',
      'a stamp is set on create, by an action, or by a sentence about update alone',
      first.field.span,
      'move it to a sentence of its own',
    );
    return [];
  }
  const stamps = new Map<string, Stamp>();
  for (const assignment of sentence.stamps) {
    const { text: name, span } = assignment.field;
    const field = collection.fields.get(name);
    if (field === undefined) {
      const hint = suggestion(name, collection.fields.keys());
      findings.add('N002', `${collection.name} has no field “${name}”`, span, hint);
    } else if (field.system) {
      findings.add('R003', `the service alone fills in “${name}”`, span);
    } else if (stamps.has(name)) {
      findings.add('R006', `“${name}” is stamped twice`, span);
    } else {
      const value = stampValue(assignment, field, scope, findings);
      if (value !== null) stamps.set(name, { field: name, value });
    }
  }
  return [...stamps.values()].toSorted((a, b) => (a.field < b.field ? -1 : 1));
}

function stampValue({ value }: Assignment, field: Field, scope: Scope, findings: Findings): Operand | null {
  if (value.kind !== 'none') return fixedValue(value, field, scope, findings);
  findings.add('T002', 'a stamp needs a value', value.span, 'leave the field out to let it stay missing');
  return null;
}

/** A value that no caller chooses: me, me.FIELD, now, today or a plain value. */
export function fixedValue(
  value: Exclude<Assignment['value'], { kind: 'none' }>,
  field: Field,
  scope: Scope,
  findings: Findings,
): Operand | null {
  if (isLiteral(value)) {
    if (field.type.kind !== 'ref') {
      const literal = literalValue(value, field.type, findings);
      return literal === null ? null : { kind: 'literal', value: literal as Scalar, type: field.type };
    }
    findings.add('T002', `“${field.name}” is a reference: it takes me or me.FIELD`, value.span);
    return null;
  }
  let operand: Operand | null = null;
  if (value.kind === 'now') operand = { kind: 'now', type: simpleTypes.timestamp };
  else if (value.kind === 'today') operand = { kind: 'today', zone: scope.zone, type: simpleTypes.date };
  else if (value.kind === 'path') operand = resolvePath(value, { ...scope, record: null }, findings);
  else findings.add('T002', 'this must be me, me.FIELD, now, today or a plain value', value.span);
  if (operand === null || holdsValueOf(field.type, operand.type)) return operand;
  const types = `${typeName(field.type)}, and this is ${typeName(operand.type)}`;
  findings.add('T002', `“${field.name}” is ${types}`, value.span);
  return null;
}

/** Can every value of `given` be held by a field of type `field`, just as it is? */
export function holdsValueOf(field: Type, given: Type): boolean {
  if (field.kind === 'text') return given.kind === 'text' || given.kind === 'one of';
  if (field.kind === 'one of')
    return given.kind === 'one of' && given.values.every((each) => field.values.includes(each));
  return JSON.stringify(field) === JSON.stringify(given);
}
