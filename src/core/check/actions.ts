import { suggestion } from '../diagnostics/suggest.ts';
import type { ActionDeclaration, Assignment } from '../language/ast.ts';
import { actionKey, isBuiltIn, type Action } from '../ir/rulebook.ts';
import type { Collection, Field, Schema } from '../types/schema.ts';
import { typeName, type Type } from '../types/types.ts';
import { withoutRepeats, type Findings } from './context.ts';
import { checkType, unknownCollection } from './schema.ts';
import { plainScope, type Scope } from './scope.ts';
import { fixedValue, holdsValueOf } from './stamps.ts';

/** All actions: each sets fields of its collection to values, to parameters, or to nothing. */
export function checkActions(
  declarations: readonly ActionDeclaration[],
  schema: Schema,
  zone: string,
  attributes: Scope['attributes'],
  findings: Findings,
): Map<string, Action> {
  const scope = { ...plainScope(schema, zone), attributes };
  const declared = withoutRepeats(
    declarations,
    ({ name, collection }) => ({ text: actionKey(collection.text, name.text), span: name.span }),
    'action',
    findings,
  );
  const actions = new Map<string, Action>();
  for (const [key, declaration] of declared) {
    const collection = schema.get(declaration.collection.text);
    if (collection === undefined) {
      unknownCollection(declaration.collection, schema.keys(), findings);
      continue;
    }
    if (isBuiltIn(declaration.name.text)) {
      findings.add(
        'N006',
        `“${declaration.name.text}” is an operation that every collection has`,
        declaration.name.span,
        'choose another name',
      );
      continue;
    }
    const parameters = new Map<string, { type: Type; required: boolean }>();
    for (const each of withoutRepeats(
      declaration.parameters,
      ({ name }) => name,
      'parameter',
      findings,
    ).values()) {
      const type = checkType(each.type, schema, findings);
      if (type !== null) parameters.set(each.name.text, { type, required: each.required });
    }
    const sets = new Map<string, Sets>();
    for (const assignment of withoutRepeats(
      declaration.sets,
      ({ field }) => field,
      'field',
      findings,
    ).values()) {
      const field = settable(assignment, collection, findings);
      const value = field === null ? null : setValue(assignment, field, parameters, scope, findings);
      if (field !== null && value !== null) sets.set(field.name, value);
    }
    actions.set(key, {
      name: declaration.name.text,
      collection: collection.name,
      parameters,
      sets,
      span: declaration.span,
    });
  }
  return actions;
}

type Sets = Action['sets'] extends ReadonlyMap<string, infer T> ? T : never;

function settable({ field: name }: Assignment, collection: Collection, findings: Findings): Field | null {
  const field = collection.fields.get(name.text);
  if (field === undefined) {
    const hint = suggestion(name.text, collection.fields.keys());
    findings.add('N002', `${collection.name} has no field “${name.text}”`, name.span, hint);
    return null;
  }
  if (!field.system) return field;
  findings.add('R003', `the service alone fills in “${name.text}”`, name.span);
  return null;
}

function setValue(
  { value }: Assignment,
  field: Field,
  parameters: Action['parameters'],
  scope: Scope,
  findings: Findings,
): Sets | null {
  if (value.kind === 'none') return { kind: 'missing' };
  const name =
    value.kind === 'path' && value.root === 'bare' && value.steps.length === 1 ? value.steps[0]! : null;
  if (name === null) {
    const operand = fixedValue(value, field, scope, findings);
    return operand === null ? null : { kind: 'value', operand };
  }
  const parameter = parameters.get(name.text);
  if (parameter === undefined) {
    const hint = suggestion(name.text, parameters.keys());
    findings.add('N002', `the action has no parameter “${name.text}”`, name.span, hint);
    return null;
  }
  if (holdsValueOf(field.type, parameter.type)) return { kind: 'parameter', name: name.text };
  const types = `${typeName(field.type)}, and ${name.text} is ${typeName(parameter.type)}`;
  findings.add('T002', `“${field.name}” is ${types}`, name.span);
  return null;
}
