import { suggestion } from '../diagnostics/suggest.ts';
import type { Assignment, Name } from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import type { GivenValue } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf, type Collection, type Schema } from '../types/schema.ts';
import { startOfDay } from '../types/time.ts';
import { simpleTypes, type Type } from '../types/types.ts';
import { parseValue } from '../types/values.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue } from './literals.ts';

/** Whom a value can name. */
export interface NamesInTrial {
  readonly identities: ReadonlySet<string>;
  readonly me: boolean;
}

/** In the block of an identity nobody else can be named. */
export const nobody = { identities: new Set<string>(), me: false };

export function givenValues(
  assignments: readonly Assignment[],
  collection: Collection,
  schema: Schema,
  names: NamesInTrial,
  findings: Findings,
  system: ReadonlySet<string> = new Set(),
): Map<string, GivenValue> {
  const values = new Map<string, GivenValue>();
  for (const assignment of assignments) {
    if (values.has(assignment.field.text)) {
      findings.add('N005', `“${assignment.field.text}” is given twice`, assignment.field.span);
    }
    const field = fieldFor(assignment, collection, findings, system);
    const value = givenValue(assignment, field, schema, names, findings);
    if (value !== null) values.set(assignment.field.text, value);
  }
  return values;
}

export function givenParameters(
  assignments: readonly Assignment[],
  parameters: ReadonlyMap<string, { readonly type: Type }>,
  schema: Schema,
  names: NamesInTrial,
  findings: Findings,
): Map<string, GivenValue> {
  const values = new Map<string, GivenValue>();
  for (const assignment of assignments) {
    const { field: name } = assignment;
    const parameter = parameters.get(name.text);
    if (values.has(name.text)) findings.add('N005', `“${name.text}” is given twice`, name.span);
    if (parameter === undefined) {
      const hint = suggestion(name.text, parameters.keys());
      findings.add('N002', `the action has no parameter “${name.text}”`, name.span, hint);
    }
    const place = parameter === undefined ? null : { name: name.text, type: parameter.type };
    const value = givenValue(assignment, place, schema, names, findings);
    if (value !== null) values.set(name.text, value);
  }
  return values;
}

/** What takes a value: a field, or a parameter of an action. */
export interface Place {
  readonly name: string;
  readonly type: Type;
}

/** The field that a value is given to; callers and trials never give those that the service fills in. */
export function fieldFor(
  { field: name }: Assignment,
  collection: Collection,
  findings: Findings,
  system: ReadonlySet<string> = new Set(),
): Place | null {
  const field = collection.fields.get(name.text);
  if (field === undefined) {
    unknownField(name, collection, findings);
    return null;
  }
  if (!field.system || system.has(name.text)) return field;
  findings.add('R003', `the service alone fills in “${field.name}”`, name.span);
  return null;
}

/** A value as written in a trial: a literal, a record by its label, an identity by its name, me, now, missing. */
export function givenValue(
  assignment: Assignment,
  field: Place | null,
  schema: Schema,
  names: NamesInTrial,
  findings: Findings,
): GivenValue | null {
  const { value } = assignment;
  if (field === null) return null;
  if (value.kind === 'none') return { kind: 'value', value: null };
  if (value.kind === 'now' && field.type.kind === 'timestamp') return { kind: 'now' };
  if (isLiteral(value) && (field.type.kind !== 'ref' || value.kind === 'text')) {
    if (field.type.kind === 'ref') {
      const target = collectionOf(schema, field.type.collection);
      if (target.label !== null)
        return {
          kind: 'label',
          collection: target.name,
          label: (value as typeof value & { kind: 'text' }).value,
        };
      findings.add(
        'E001',
        `${target.name} has no label, so its records cannot be named`,
        value.span,
        `mark a text field of ${target.name} with “label”`,
      );
      return null;
    }
    const literal = literalValue(value, field.type, findings);
    return literal === null ? null : { kind: 'value', value: literal };
  }
  const toPerson = field.type.kind === 'ref' && field.type.collection === PEOPLE;
  if (value.kind === 'path' && toPerson) {
    if (value.root === 'me' && value.steps.length === 0 && names.me) return { kind: 'me' };
    const name = value.steps[0];
    if (value.root === 'bare' && name !== undefined && value.steps.length === 1) {
      return knownIdentity(name, names.identities, findings) ? { kind: 'identity', name: name.text } : null;
    }
  }
  findings.add(
    'E002',
    `this is not a value that “${field.name}” can be given here`,
    value.span,
    toPerson ? 'name a test identity, or a person by e-mail in quotes' : 'give a plain value',
  );
  return null;
}

/** A time, or a date, which means the first moment of that day. */
export function momentOf(
  written: { value: string; span: Span },
  zone: string,
  findings: Findings,
): string | null {
  const day = parseValue(simpleTypes.date, written.value);
  const text = day.ok ? startOfDay(written.value, zone) : written.value;
  const parsed = parseValue(simpleTypes.timestamp, text ?? '');
  if (parsed.ok) return parsed.value as string;
  findings.add(
    'T002',
    'this must be a date, or a time with its zone',
    written.span,
    'such as "2026-06-30T12:00:00Z"',
  );
  return null;
}

/** Is there such a test identity? */
export function knownIdentity(name: Name, identities: ReadonlySet<string>, findings: Findings): boolean {
  if (identities.has(name.text)) return true;
  findings.add(
    'N004',
    `there is no test identity “${name.text}”`,
    name.span,
    suggestion(name.text, identities),
  );
  return false;
}

/** Reports a field that the collection does not have. */
export function unknownField(name: Name, collection: Collection, findings: Findings): void {
  findings.add(
    'N002',
    `${collection.name} has no field “${name.text}”`,
    name.span,
    suggestion(name.text, collection.fields.keys()),
  );
}
