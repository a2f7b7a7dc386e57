import { suggestion } from '../diagnostics/suggest.ts';
import type { Name, OperationClause, RuleSentence, RulesDeclaration } from '../language/ast.ts';
import { always } from '../ir/conditions.ts';
import type { Audience, Operation, Rule, Stamp } from '../ir/rulebook.ts';
import type { Collection, Field, Schema } from '../types/schema.ts';
import { checkCondition } from './conditions.ts';
import { writtenAt, type Findings } from './context.ts';
import type { Known } from './known.ts';
import { knownOperation, sidesOf, takesFields } from './operations.ts';
import { unknownCollection } from './schema.ts';
import { checkStamps } from './stamps.ts';

/** Every block with every collection that it is about: one that is named twice in a block is told. */
function eachCollection(
  declarations: readonly RulesDeclaration[],
  findings: Findings,
): { readonly declaration: RulesDeclaration; readonly name: Name }[] {
  return declarations.flatMap((declaration) =>
    declaration.collections.flatMap((name, index) => {
      if (declaration.collections.findIndex(({ text }) => text === name.text) === index)
        return [{ declaration, name }];
      findings.add('N005', `“${name.text}” stands here twice`, name.span, 'leave one out');
      return [];
    }),
  );
}

/** All sentences of all `rules` blocks, in the order of the files; a sentence with an error is left out. */
export function checkRules(
  declarations: readonly RulesDeclaration[],
  known: Known,
  findings: Findings,
): Rule[] {
  const { schema } = known;
  const rules: Rule[] = [];
  const places = new Map<string, number>();
  for (const { declaration, name } of eachCollection(declarations, findings)) {
    const collection = schema.get(name.text);
    if (collection === undefined) {
      unknownCollection(name, schema.keys(), findings);
      continue;
    }
    for (const sentence of declaration.sentences) {
      const place = (places.get(collection.name) ?? 0) + 1;
      places.set(collection.name, place);
      const rule = checkSentence(sentence, collection, known, findings);
      if (rule === null) continue;
      rules.push({
        ...rule,
        id: `${collection.name}/${place}`,
        text: writtenAt(known.sources, sentence.core),
      });
    }
  }
  checkRequiredCanBeFilled(rules, schema, findings);
  return rules;
}

function checkSentence(
  sentence: RuleSentence,
  collection: Collection,
  known: Known,
  findings: Findings,
): Omit<Rule, 'id' | 'text'> | null {
  const before = findings.diagnostics.length;
  const audience = checkAudience(sentence.who, known.roles, findings);
  const scope = { ...known.scopeOf(), record: collection.name, ...sidesOf(sentence.operations) };
  const stamps = checkStamps(sentence, collection, scope, findings);
  const operations = checkOperations(sentence, collection, stamps, known, findings);
  const when = sentence.when === null ? always : checkCondition(sentence.when, scope, findings);
  if (when === null || findings.diagnostics.length > before) return null;
  return {
    collection: collection.name,
    audience,
    operations,
    when,
    stamps,
    because: sentence.because,
    span: sentence.span,
  };
}

/** What everybody is called elsewhere. */
const foreignAudiences: Readonly<Record<string, string>> = Object.fromEntries(
  Object.entries({
    everybody: ['everyone', 'anyone', 'anybody', 'public', 'all', 'any'],
    people: ['users', 'user', 'members', 'authenticated', 'logged_in', 'signed_in'],
    visitors: ['guests', 'guest', 'anonymous', 'visitor', 'anon'],
  }).flatMap(([meant, words]) => words.map((word) => [word, `did you mean ${meant}?`])),
);

/** Whom a sentence speaks of; a role that nobody declared is told. */
export function checkAudience(
  whom: RuleSentence['who'],
  roles: ReadonlySet<string>,
  findings: Findings,
): Audience {
  const named = new Set<string>();
  for (const who of whom) {
    if (who.kind !== 'role') continue;
    if (!roles.has(who.name.text)) {
      const hint =
        foreignAudiences[who.name.text] ??
        suggestion(who.name.text, [...roles, 'people', 'visitors', 'everybody']);
      findings.add(
        'N003',
        `nobody declared a role “${who.name.text}”`,
        who.name.span,
        hint ?? `declare it: role ${who.name.text}`,
      );
    }
    named.add(who.name.text);
  }
  const speaksOf = (kind: string) => whom.some((who) => who.kind === kind);
  return {
    everybody: speaksOf('everybody'),
    people: speaksOf('people'),
    visitors: speaksOf('visitors'),
    roles: named,
  };
}

function checkOperations(
  sentence: RuleSentence,
  collection: Collection,
  stamps: readonly Stamp[],
  known: Known,
  findings: Findings,
): Map<Operation, ReadonlySet<string>> {
  const operations = new Map<Operation, ReadonlySet<string>>();
  const withFields = sentence.operations.filter((clause) => takesFields.has(clause.operation));
  const someList = withFields.some((clause) => clause.fields !== null);
  for (const clause of sentence.operations) {
    if (operations.has(clause.operation)) {
      findings.add(
        'R007',
        `“${clause.operation}” stands twice in one sentence`,
        clause.span,
        'put the fields into one list',
      );
    }
    knownOperation(clause, collection, known, findings);
    if (takesFields.has(clause.operation) && someList && clause.fields === null) {
      findings.add(
        'R002',
        `say which fields “${clause.operation}” is about, as the rest of the sentence does`,
        clause.span,
        `write ${clause.operation} (all) for every field`,
      );
    }
    const stamped = clause.operation === 'create' || sentence.operations.length === 1 ? stamps : [];
    operations.set(clause.operation, coveredFields(clause, collection, stamped, findings));
  }
  return operations;
}

/** The fields that a clause covers; what callers never supply is left out of create and update. */
function coveredFields(
  clause: OperationClause,
  collection: Collection,
  stamps: readonly Stamp[],
  findings: Findings,
): ReadonlySet<string> {
  const { operation, fields: list } = clause;
  if (!takesFields.has(operation)) return new Set();
  const stamped = new Set(operation === 'read' ? [] : stamps.map((stamp) => stamp.field));
  const suppliable = (field: Field) => operation === 'read' || (!field.system && !stamped.has(field.name));
  const everything = [...collection.fields.values()].filter(suppliable).map((field) => field.name);
  const named = new Set<string>();
  for (const name of list?.names ?? []) {
    const field = collection.fields.get(name.text);
    if (field === undefined) {
      findings.add(
        'N002',
        `${collection.name} has no field “${name.text}”`,
        name.span,
        suggestion(name.text, collection.fields.keys()),
      );
    } else if (operation !== 'read' && field.system) {
      findings.add('R003', `the service alone fills in “${name.text}”`, name.span, 'take it out of the list');
    } else if (stamped.has(name.text) && list?.all === false) {
      findings.add(
        'R005',
        `“${name.text}” is stamped by this sentence, so callers cannot supply it`,
        name.span,
        'take it out of the list',
      );
    }
    named.add(name.text);
  }
  if (list === null || list.all) return new Set(everything.filter((name) => !named.has(name)));
  return named;
}

/** Where anybody may create, every required field must be in some create rule's list or stamps, or have a default. */
function checkRequiredCanBeFilled(rules: readonly Rule[], schema: Schema, findings: Findings): void {
  for (const collection of schema.values()) {
    const creating = rules.filter(
      (rule) => rule.collection === collection.name && rule.operations.has('create'),
    );
    if (creating.length === 0) continue;
    for (const field of collection.fields.values()) {
      if (!field.required || field.system || field.default !== null) continue;
      const filled = creating.some(
        (rule) =>
          rule.operations.get('create')!.has(field.name) ||
          rule.stamps.some((stamp) => stamp.field === field.name),
      );
      if (filled) continue;
      findings.add(
        'R009',
        `“${field.name}” is required, and no rule that creates lists or stamps it`,
        creating[0]!.span,
        `add ${field.name} to a create list, stamp it, or give it a default`,
      );
    }
  }
}
