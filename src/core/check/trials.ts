import { suggestion } from '../diagnostics/suggest.ts';
import type {
  Assignment,
  ExpectationSentence,
  GivenSentence,
  IdentityDeclaration,
  Name,
  TrialDeclaration,
} from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import {
  actionKey,
  type Expectation,
  type GivenValue,
  type Identity,
  type Role,
  type Trial,
} from '../ir/rulebook.ts';
import { PEOPLE, collectionOf, type Collection, type Schema } from '../types/schema.ts';
import { simpleTypes, type Type } from '../types/types.ts';
import { parseValue } from '../types/values.ts';
import { checkCondition } from './conditions.ts';
import { withoutRepeats, writtenAt, type Findings } from './context.ts';
import type { Known } from './known.ts';
import { isLiteral, literalValue } from './literals.ts';
import { unknownOperation } from './roles.ts';
import { unknownCollection } from './schema.ts';

/** All test identities. Their e-mail addresses differ, since people are unique by address. */
export function checkIdentities(
  declarations: readonly IdentityDeclaration[],
  roles: ReadonlyMap<string, Role>,
  schema: Schema,
  findings: Findings,
): Map<string, Identity> {
  const declared = withoutRepeats(declarations, (each) => each.name, 'test identity', findings);
  const people = collectionOf(schema, PEOPLE);
  const identities = new Map<string, Identity>();
  const addresses = new Map<string, string>();
  for (const declaration of declared.values()) {
    const held = declaration.roles.map((holding) => {
      if (!roles.has(holding.role.text)) {
        findings.add(
          'N003',
          `nobody declared a role “${holding.role.text}”`,
          holding.role.span,
          suggestion(holding.role.text, roles.keys()),
        );
      } else if (roles.get(holding.role.text)!.when !== null) {
        findings.add(
          'R015',
          `“${holding.role.text}” is held by whoever meets its condition`,
          holding.role.span,
          'leave it out, and give the identity what the condition asks for',
        );
      }
      return {
        role: holding.role.text,
        until: holding.until === null ? null : momentOf(holding.until, findings),
      };
    });
    const fields = new Map<string, GivenValue>();
    for (const assignment of declaration.fields) {
      const value = givenValue(assignment, fieldFor(assignment, people, findings), schema, nobody, findings);
      if (value !== null) fields.set(assignment.field.text, value);
    }
    const address = fields.get('email');
    const email = address?.kind === 'value' ? (address.value as string) : null;
    if (email !== null) {
      const other = addresses.get(email);
      if (other !== undefined) {
        findings.add('N005', `the address ${email} belongs to “${other}” already`, declaration.name.span);
      }
      addresses.set(email, declaration.name.text);
    }
    identities.set(declaration.name.text, {
      name: declaration.name.text,
      email,
      deactivated: declaration.deactivated,
      roles: held,
      fields,
    });
  }
  return identities;
}

/** A time, or a date, which means the first moment of that day in UTC. */
function momentOf(written: { value: string; span: Span }, findings: Findings): string | null {
  const text = /^\d{4}-\d{2}-\d{2}$/.test(written.value) ? `${written.value}T00:00:00Z` : written.value;
  const parsed = parseValue(simpleTypes.timestamp, text);
  if (parsed.ok) return parsed.value as string;
  findings.add(
    'T002',
    'this must be a date, or a time with its zone',
    written.span,
    'such as "2026-06-30T12:00:00Z"',
  );
  return null;
}

/** All trials, every name in them resolved as far as it can be without the data. */
export function checkTrials(
  declarations: readonly TrialDeclaration[],
  identities: ReadonlySet<string>,
  known: Known,
  findings: Findings,
): Trial[] {
  const declared = withoutRepeats(
    declarations,
    (each) => ({ text: each.title.value, span: each.title.span }),
    'trial',
    findings,
  );
  return [...declared.values()].map((declaration) => {
    const given = declaration.given
      .map((sentence) => checkGiven(sentence, { identities, me: false }, known, findings))
      .filter((each) => each !== null);
    const parts = declaration.parts.map((part) => {
      if (part.as !== null) knownIdentity(part.as, identities, findings);
      const names = { identities, me: part.as !== null };
      const expectations = part.expectations
        .map((sentence) => checkExpectation(sentence, names, known, findings))
        .filter((each) => each !== null);
      return {
        identity: part.as?.text ?? null,
        at: part.at === null ? null : momentOf(part.at, findings),
        expectations,
      };
    });
    return { title: declaration.title.value, given, parts, span: declaration.span };
  });
}

function knownIdentity(name: Name, identities: ReadonlySet<string>, findings: Findings): boolean {
  if (identities.has(name.text)) return true;
  findings.add(
    'N004',
    `there is no test identity “${name.text}”`,
    name.span,
    suggestion(name.text, identities),
  );
  return false;
}

/** In the block of an identity nobody else can be named. */
const nobody = { identities: new Set<string>(), me: false };

interface NamesInTrial {
  readonly identities: ReadonlySet<string>;
  readonly me: boolean;
}

function checkExpectation(
  sentence: ExpectationSentence,
  names: NamesInTrial,
  known: Known,
  findings: Findings,
): Expectation | null {
  const { schema } = known;
  const collection = schema.get(sentence.collection.text);
  if (collection === undefined) {
    unknownCollection(sentence.collection, schema.keys(), findings);
    return null;
  }
  const text = writtenAt(known.sources, sentence.span);
  const common = { collection: collection.name, text, span: sentence.span };
  const label = (span: Span): boolean => {
    if (collection.label !== null) return true;
    findings.add(
      'E001',
      `${collection.name} has no label, so its records cannot be named`,
      span,
      `mark a text field of ${collection.name} with “label”`,
    );
    return false;
  };
  const values = (assignments: readonly Assignment[]) =>
    givenValues(assignments, collection, schema, names, findings);
  switch (sentence.kind) {
    case 'reads none':
      return { ...common, kind: 'reads none' };
    case 'reads':
      label(sentence.records[0]!.span);
      return {
        ...common,
        kind: 'reads',
        only: sentence.only,
        labels: sentence.records.map((each) => each.label),
      };
    case 'reads only where': {
      const where = checkCondition(sentence.where, { ...known.scopeOf(), record: collection.name }, findings);
      return where === null ? null : { ...common, kind: 'reads only where', where };
    }
    case 'read':
    case 'delete':
      label(sentence.record.span);
      return { ...common, kind: sentence.kind, allowed: sentence.allowed, label: sentence.record.label };
    case 'update':
    case 'act': {
      label(sentence.record.span);
      const { allowed, record } = sentence;
      const action = sentence.kind === 'act' ? sentence.action : null;
      const parameters =
        action === null ? null : known.actions.get(actionKey(collection.name, action.text))?.parameters;
      if (parameters === undefined) {
        const names_ = [...known.actions.values()].filter((each) => each.collection === collection.name);
        unknownOperation(
          action!,
          collection.name,
          names_.map((each) => each.name),
          findings,
        );
        return null;
      }
      givesNothing(sentence, findings);
      const given =
        parameters === null
          ? values(sentence.values)
          : givenParameters(sentence.values, parameters, schema, names, findings);
      const giving = values(sentence.giving);
      return {
        ...common,
        kind: 'update',
        action: action?.text ?? null,
        allowed,
        label: record.label,
        values: given,
        giving,
      };
    }
    case 'create': {
      givesNothing(sentence, findings);
      return {
        ...common,
        kind: 'create',
        allowed: sentence.allowed,
        values: values(sentence.values),
        giving: values(sentence.giving),
      };
    }
    case 'withheld':
    case 'shows': {
      label(sentence.record.span);
      for (const name of sentence.fields) {
        if (!collection.fields.has(name.text)) unknownField(name, collection, findings);
        else if (name.text === 'id')
          findings.add('E002', 'the id always comes with a readable record', name.span);
      }
      return {
        ...common,
        kind: sentence.kind,
        label: sentence.record.label,
        fields: sentence.fields.map((name) => name.text),
      };
    }
  }
}

function givesNothing(
  { allowed, giving }: { allowed: boolean; giving: readonly Assignment[] },
  findings: Findings,
): void {
  const [first] = giving;
  if (!allowed && first !== undefined)
    findings.add('E002', 'what may not be done gives nothing', first.field.span);
}

/** A record for one trial alone: with every value that its collection requires. */
function checkGiven(
  { collection: name, values: assignments, span }: GivenSentence,
  names: NamesInTrial,
  known: Known,
  findings: Findings,
): Trial['given'][number] | null {
  const collection = known.schema.get(name.text);
  if (collection === undefined) {
    unknownCollection(name, known.schema.keys(), findings);
    return null;
  }
  const values = givenValues(assignments, collection, known.schema, names, findings, new Set(['created_at']));
  for (const field of collection.fields.values()) {
    if (!field.required || field.system || field.default !== null || values.has(field.name)) continue;
    findings.add(
      'E003',
      `${collection.name} needs a value for “${field.name}”`,
      span,
      `add ${field.name} = …`,
    );
  }
  return { collection: collection.name, values, span };
}

function givenParameters(
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

function unknownField(name: Name, collection: Collection, findings: Findings): void {
  findings.add(
    'N002',
    `${collection.name} has no field “${name.text}”`,
    name.span,
    suggestion(name.text, collection.fields.keys()),
  );
}

function givenValues(
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

/** The field that a value is given to; callers and trials never give those that the service fills in. */
function fieldFor(
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

/** What takes a value: a field, or a parameter of an action. */
interface Place {
  readonly name: string;
  readonly type: Type;
}

/** A value as written in a trial: a literal, a record by its label, an identity by its name, me, now, missing. */
function givenValue(
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
