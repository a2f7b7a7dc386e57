import { suggestion } from '../diagnostics/suggest.ts';
import type {
  Assignment,
  ExpectationSentence,
  IdentityDeclaration,
  Name,
  TrialDeclaration,
} from '../language/ast.ts';
import type { Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import type { Expectation, GivenValue, Identity, Trial } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf, type Collection, type Schema } from '../types/schema.ts';
import { simpleTypes } from '../types/types.ts';
import { parseValue } from '../types/values.ts';
import { checkCondition } from './conditions.ts';
import { withoutRepeats, type Findings } from './context.ts';
import { isLiteral, literalValue } from './literals.ts';
import type { ScopeMaker } from './lets.ts';
import { unknownCollection } from './schema.ts';

/** All test identities. Their e-mail addresses differ, since people are unique by address. */
export function checkIdentities(
  declarations: readonly IdentityDeclaration[],
  schema: Schema,
  roles: ReadonlySet<string>,
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
          suggestion(holding.role.text, roles),
        );
      }
      return {
        role: holding.role.text,
        until: holding.until === null ? null : momentOf(holding.until, findings),
      };
    });
    const fields = new Map<string, GivenValue>();
    for (const assignment of declaration.fields) {
      const value = givenValue(assignment, people, schema, { identities: new Set(), me: false }, findings);
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
  schema: Schema,
  identities: ReadonlySet<string>,
  sources: readonly Source[],
  scopeOf: ScopeMaker,
  findings: Findings,
): Trial[] {
  const declared = withoutRepeats(
    declarations,
    (each) => ({ text: each.title.value, span: each.title.span }),
    'trial',
    findings,
  );
  return [...declared.values()].map((declaration) => {
    const text = sources.find((source) => source.name === declaration.span.source)?.text ?? '';
    const parts = declaration.parts.map((part) => {
      if (part.as !== null) knownIdentity(part.as, identities, findings);
      const names = { identities, me: part.as !== null };
      const expectations = part.expectations
        .map((sentence) => checkExpectation(sentence, schema, names, text, scopeOf, findings))
        .filter((each) => each !== null);
      return {
        identity: part.as?.text ?? null,
        at: part.at === null ? null : momentOf(part.at, findings),
        expectations,
      };
    });
    return { title: declaration.title.value, parts, span: declaration.span };
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

interface NamesInTrial {
  readonly identities: ReadonlySet<string>;
  readonly me: boolean;
}

function checkExpectation(
  sentence: ExpectationSentence,
  schema: Schema,
  names: NamesInTrial,
  source: string,
  scopeOf: ScopeMaker,
  findings: Findings,
): Expectation | null {
  const collection = schema.get(sentence.collection.text);
  if (collection === undefined) {
    unknownCollection(sentence.collection, schema.keys(), findings);
    return null;
  }
  const text = source.slice(sentence.span.start, sentence.span.end).replace(/\s+/g, ' ');
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
      const where = checkCondition(sentence.where, { ...scopeOf(), record: collection.name }, findings);
      return where === null ? null : { ...common, kind: 'reads only where', where };
    }
    case 'read':
    case 'delete':
      label(sentence.record.span);
      return { ...common, kind: sentence.kind, allowed: sentence.allowed, label: sentence.record.label };
    case 'update':
      label(sentence.record.span);
      return {
        ...common,
        kind: 'update',
        allowed: sentence.allowed,
        label: sentence.record.label,
        values: values(sentence.values),
      };
    case 'create': {
      if (!sentence.allowed && sentence.giving.length > 0) {
        findings.add('E002', 'what may not be created gives nothing', sentence.giving[0]!.field.span);
      }
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
): Map<string, GivenValue> {
  const values = new Map<string, GivenValue>();
  for (const assignment of assignments) {
    if (values.has(assignment.field.text)) {
      findings.add('N005', `“${assignment.field.text}” is given twice`, assignment.field.span);
    }
    const value = givenValue(assignment, collection, schema, names, findings);
    if (value !== null) values.set(assignment.field.text, value);
  }
  return values;
}

/** A value as written in a trial: a literal, a record by its label, an identity by its name, me, now, missing. */
function givenValue(
  assignment: Assignment,
  collection: Collection,
  schema: Schema,
  names: NamesInTrial,
  findings: Findings,
): GivenValue | null {
  const { value } = assignment;
  const field = collection.fields.get(assignment.field.text);
  if (field === undefined) {
    unknownField(assignment.field, collection, findings);
    return null;
  }
  if (field.system) {
    findings.add('R003', `the service alone fills in “${field.name}”`, assignment.field.span);
    return null;
  }
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
