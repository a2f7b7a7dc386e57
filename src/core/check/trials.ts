import { suggestion } from '../diagnostics/suggest.ts';
import type {
  Assignment,
  ExpectationSentence,
  GivenSentence,
  Name,
  TrialDeclaration,
} from '../language/ast.ts';
import type { Span } from '../language/span.ts';
import { actionKey, type Expectation, type Trial } from '../ir/rulebook.ts';
import { checkCondition } from './conditions.ts';
import { withoutRepeats, writtenAt, type Findings } from './context.ts';
import {
  givenParameters,
  givenValues,
  knownIdentity,
  momentOf,
  unknownField,
  type NamesInTrial,
} from './given-values.ts';
import type { Known } from './known.ts';
import { unknownOperation } from './roles.ts';
import { unknownCollection } from './schema.ts';

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
        at: part.at === null ? null : momentOf(part.at, known.timeZone, findings),
        expectations,
      };
    });
    return { title: declaration.title.value, given, parts, span: declaration.span };
  });
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
      label(sentence.record.span);
      return { ...common, kind: 'read', allowed: sentence.allowed, label: sentence.record.label };
    case 'delete': {
      label(sentence.record.span);
      const { allowed, record, takes } = sentence;
      if (!allowed && takes !== null)
        findings.add('E002', 'what may not be done takes nothing along', takes[0]!.collection.span);
      for (const { collection: along } of takes ?? []) checkAlong(along, schema, findings);
      return {
        ...common,
        kind: 'delete',
        allowed,
        label: record.label,
        takes:
          takes?.map((each) => ({
            collection: each.collection.text,
            labels: each.records.map((one) => one.label),
          })) ?? null,
      };
    }
    case 'share': {
      label(sentence.record.span);
      const { allowed, record, operations, target } = sentence;
      const to = sharedWith(target, names, known, findings);
      const shared = operations.map((operation) => operation.text as 'read' | 'update' | 'delete');
      return to === null
        ? null
        : { ...common, kind: 'share', allowed, label: record.label, target: to, operations: shared };
    }
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

/** What goes along is named by label, too. */
function checkAlong(name: Name, schema: Known['schema'], findings: Findings): void {
  const collection = schema.get(name.text);
  if (collection === undefined) unknownCollection(name, schema.keys(), findings);
  else if (collection.label === null)
    findings.add(
      'E001',
      `${name.text} has no label, so its records cannot be named`,
      name.span,
      `mark a text field of ${name.text} with “label”`,
    );
}

/** A test identity before a role: of both one name is enough for people to be confused, so it is told. */
function sharedWith(
  { kind, name }: (ExpectationSentence & { kind: 'share' })['target'],
  { identities }: NamesInTrial,
  { roles }: Known,
  findings: Findings,
): (Expectation & { kind: 'share' })['target'] | null {
  if (kind !== 'named') return { kind: 'audience', audience: kind };
  if (identities.has(name.text)) return { kind: 'identity', name: name.text };
  if (roles.has(name.text)) return { kind: 'role', role: name.text };
  const hint = suggestion(name.text, [...identities, ...roles]);
  findings.add('N004', `there is no test identity and no role “${name.text}”`, name.span, hint);
  return null;
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
