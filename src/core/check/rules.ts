import { suggestion } from '../diagnostics/suggest.ts';
import type {
  Assignment,
  OperationClause,
  OperationName,
  RuleSentence,
  RulesDeclaration,
} from '../language/ast.ts';
import type { Source } from '../language/source.ts';
import { always, type Operand } from '../ir/conditions.ts';
import type { Audience, Rule, Stamp } from '../ir/rulebook.ts';
import type { Collection, Field, Schema } from '../types/schema.ts';
import { simpleTypes, typeName } from '../types/types.ts';
import { checkCondition } from './conditions.ts';
import type { Findings } from './context.ts';
import { isLiteral, literalValue } from './literals.ts';
import { resolvePath } from './paths.ts';
import type { ScopeMaker } from './lets.ts';
import { unknownCollection } from './schema.ts';
import { plainScope } from './scope.ts';

/** All sentences of all `rules` blocks, in the order of the files; a sentence with an error is left out. */
export function checkRules(
  declarations: readonly RulesDeclaration[],
  schema: Schema,
  roles: ReadonlySet<string>,
  sources: readonly Source[],
  scopeOf: ScopeMaker,
  findings: Findings,
): Rule[] {
  const rules: Rule[] = [];
  const places = new Map<string, number>();
  for (const declaration of declarations) {
    const collection = schema.get(declaration.collection.text);
    if (collection === undefined) {
      unknownCollection(declaration.collection, schema.keys(), findings);
      continue;
    }
    const text = sources.find((source) => source.name === declaration.span.source)?.text ?? '';
    for (const sentence of declaration.sentences) {
      const place = (places.get(collection.name) ?? 0) + 1;
      places.set(collection.name, place);
      const rule = checkSentence(sentence, collection, schema, roles, scopeOf, findings);
      if (rule === null) continue;
      const written = text.slice(sentence.core.start, sentence.core.end).replace(/\s+/g, ' ');
      rules.push({ ...rule, id: `${collection.name}/${place}`, text: written });
    }
  }
  checkRequiredCanBeFilled(rules, declarations, schema, findings);
  return rules;
}

function checkSentence(
  sentence: RuleSentence,
  collection: Collection,
  schema: Schema,
  roles: ReadonlySet<string>,
  scopeOf: ScopeMaker,
  findings: Findings,
): Omit<Rule, 'id' | 'text'> | null {
  const before = findings.diagnostics.length;
  const audience = checkAudience(sentence, roles, findings);
  const stamps = checkStamps(sentence, collection, schema, findings);
  const operations = checkOperations(sentence, collection, stamps, findings);
  // A sentence is about one condition for all its operations, so every one of them must have the side it names.
  const every = (...allowed: OperationName[]) =>
    sentence.operations.every((each) => allowed.includes(each.operation));
  const sides = { old: every('update', 'delete'), new: every('update') };
  const scope = { ...scopeOf(), record: collection.name, ...sides };
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

function checkAudience(sentence: RuleSentence, roles: ReadonlySet<string>, findings: Findings): Audience {
  const named = new Set<string>();
  for (const who of sentence.who) {
    if (who.kind !== 'role') continue;
    if (!roles.has(who.name.text)) {
      const hint = suggestion(who.name.text, [...roles, 'people', 'visitors', 'everybody']);
      findings.add(
        'N003',
        `nobody declared a role “${who.name.text}”`,
        who.name.span,
        hint ?? `declare it: role ${who.name.text}`,
      );
    }
    named.add(who.name.text);
  }
  const speaksOf = (kind: string) => sentence.who.some((who) => who.kind === kind);
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
  findings: Findings,
): Map<OperationName, ReadonlySet<string>> {
  const operations = new Map<OperationName, ReadonlySet<string>>();
  const withFields = sentence.operations.filter((clause) => clause.operation !== 'delete');
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
    if (clause.operation === 'delete' && clause.fields !== null) {
      findings.add('R001', 'a record is deleted whole: delete takes no field list', clause.fields.span);
    }
    if (clause.operation !== 'delete' && someList && clause.fields === null) {
      findings.add(
        'R002',
        `say which fields “${clause.operation}” is about, as the rest of the sentence does`,
        clause.span,
        `write ${clause.operation} (all) for every field`,
      );
    }
    operations.set(clause.operation, coveredFields(clause, collection, stamps, findings));
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
  if (operation === 'delete') return new Set();
  const stamped = new Set(operation === 'create' ? stamps.map((stamp) => stamp.field) : []);
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

function checkStamps(
  sentence: RuleSentence,
  collection: Collection,
  schema: Schema,
  findings: Findings,
): Stamp[] {
  const first = sentence.stamps[0];
  if (first !== undefined && !sentence.operations.some((clause) => clause.operation === 'create')) {
    findings.add(
      'R004',
      'a stamp is set when a record is created, and this sentence does not create',
      first.field.span,
      'move it to a sentence with create',
    );
    return [];
  }
  const stamps = new Map<string, Stamp>();
  for (const assignment of sentence.stamps) {
    const { text: name, span } = assignment.field;
    const field = collection.fields.get(name);
    if (field === undefined) {
      findings.add(
        'N002',
        `${collection.name} has no field “${name}”`,
        span,
        suggestion(name, collection.fields.keys()),
      );
    } else if (field.system) {
      findings.add('R003', `the service alone fills in “${name}”`, span);
    } else if (stamps.has(name)) {
      findings.add('R006', `“${name}” is stamped twice`, span);
    } else {
      const value = stampValue(assignment, field, schema, findings);
      if (value !== null) stamps.set(name, { field: name, value });
    }
  }
  return [...stamps.values()].toSorted((a, b) => (a.field < b.field ? -1 : 1));
}

function stampValue(
  assignment: Assignment,
  field: Field,
  schema: Schema,
  findings: Findings,
): Operand | null {
  const { value } = assignment;
  if (value.kind === 'none') {
    findings.add('T002', 'a stamp needs a value', value.span, 'leave the field out to let it stay missing');
    return null;
  }
  if (isLiteral(value)) {
    if (field.type.kind !== 'ref') {
      const literal = literalValue(value, field.type, findings);
      return literal === null ? null : { kind: 'literal', value: literal, type: field.type };
    }
    findings.add('T002', `“${field.name}” is a reference: stamp it with me or me.FIELD`, value.span);
    return null;
  }
  let operand: Operand | null = null;
  if (value.kind === 'now') operand = { kind: 'now', type: simpleTypes.timestamp };
  else if (value.kind === 'path') operand = resolvePath(value, plainScope(schema), findings);
  else findings.add('T002', 'a stamp is me, me.FIELD, now or a plain value', value.span);
  if (operand === null) return null;
  const same =
    operand.type.kind === 'ref' && field.type.kind === 'ref'
      ? operand.type.collection === field.type.collection
      : operand.type.kind === field.type.kind && operand.type.kind !== 'one of';
  if (same) return operand;
  findings.add(
    'T002',
    `“${field.name}” is ${typeName(field.type)}, and this is ${typeName(operand.type)}`,
    value.span,
  );
  return null;
}

/** Where anybody may create, every required field must be in some create rule's list or stamps, or have a default. */
function checkRequiredCanBeFilled(
  rules: readonly Rule[],
  declarations: readonly RulesDeclaration[],
  schema: Schema,
  findings: Findings,
): void {
  for (const collection of schema.values()) {
    const creating = rules.filter(
      (rule) => rule.collection === collection.name && rule.operations.has('create'),
    );
    const declaration = declarations.find((each) => each.collection.text === collection.name);
    if (creating.length === 0 || declaration === undefined) continue;
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
