import { suggestion } from '../diagnostics/suggest.ts';
import type { CollectionDeclaration, FieldDeclaration, TypeName } from '../language/ast.ts';
import {
  MOST_CHARACTERS,
  PEOPLE,
  peopleFields,
  systemFieldNames,
  systemFields,
  type Collection,
  type Field,
  type Schema,
} from '../types/schema.ts';
import { simpleTypes, typeName, type Scalar, type Type } from '../types/types.ts';
import { withoutRepeats, type Findings } from './context.ts';
import { isLiteral, literalValue } from './literals.ts';
import { resolvePath } from './paths.ts';
import { plainScope } from './scope.ts';

/** All collections of a rulebook; `people` is always among them. What is wrong is reported and left out. */
export function checkSchema(declarations: readonly CollectionDeclaration[], findings: Findings): Schema {
  const declared = withoutRepeats(declarations, (each) => each.name, 'collection', findings);
  const names = new Set([PEOPLE, ...declared.keys()]);
  const fields = new Map<string, Map<string, Field>>();
  for (const name of names) {
    fields.set(name, checkFields(name, declared.get(name) ?? null, names, findings));
  }
  const schema = new Map<string, Collection>();
  for (const name of names) {
    const declaration = declared.get(name) ?? null;
    schema.set(name, {
      name,
      title: declaration?.title ?? null,
      fields: fields.get(name)!,
      label: name === PEOPLE ? 'email' : checkLabel(declaration!, findings),
      tree: checkTree(name, declaration, fields.get(name)!, findings),
      owners: [],
      table: name,
    });
  }
  // Owners are paths through other collections, so they come when all fields are known.
  const complete = new Map(schema);
  for (const declaration of declared.values()) {
    const collection = schema.get(declaration.name.text)!;
    complete.set(collection.name, { ...collection, owners: checkOwners(declaration, schema, findings) });
  }
  // A person's record is their own, whatever else the rulebook says of people.
  complete.set(PEOPLE, { ...complete.get(PEOPLE)!, owners: [['id']] });
  return complete;
}

function checkFields(
  collection: string,
  declaration: CollectionDeclaration | null,
  collections: ReadonlySet<string>,
  findings: Findings,
): Map<string, Field> {
  const own = systemFields(collection);
  const fields = new Map<string, Field>([['id', own.id]]);
  const builtIn = collection === PEOPLE ? peopleFields : [];
  for (const field of builtIn) fields.set(field.name, field);
  const taken = new Set([...systemFieldNames, ...builtIn.map((field) => field.name)]);
  for (const field of withoutRepeats(
    declaration?.fields ?? [],
    (each) => each.name,
    'field',
    findings,
  ).values()) {
    if (taken.has(field.name.text)) {
      findings.add(
        'N006',
        `${collection} has “${field.name.text}” already: the service provides it`,
        field.name.span,
        'leave the line out, or choose another name',
      );
      continue;
    }
    const type = checkType(field.type, collections, findings);
    if (type === null) continue;
    const marks = new Set(field.marks.map((each) => each.mark));
    if (marks.has('self set') && collection !== PEOPLE) {
      const { span } = field.marks.find((each) => each.mark === 'self set')!;
      findings.add('T011', '“self set” is about fields of people', span, 'leave it out');
    }
    const onDelete = checkOnDelete(field, type, marks.has('required'), findings);
    if ((type.kind === 'list' || type.kind === 'json') && marks.has('unique')) {
      findings.add('T011', `“unique” is not for ${typeName(type)}`, field.name.span, 'leave it out');
    }
    if (type.kind === 'list' && type.of.kind === 'ref') {
      findings.add(
        'T014',
        'a field cannot hold references to many records: nothing would keep them whole',
        field.span,
        'make a collection whose records link the two',
      );
    }
    fields.set(field.name.text, {
      name: field.name.text,
      title: field.title,
      type,
      required: marks.has('required'),
      unique: marks.has('unique') || marks.has('label'),
      sensitive: marks.has('sensitive'),
      selfSet: marks.has('self set'),
      default: checkDefault(field, type, findings),
      most: checkMost(field, type, findings),
      onDelete,
      system: false,
      column: field.name.text,
    });
  }
  fields.set('created_at', own.created_at).set('updated_at', own.updated_at);
  return fields;
}

/** How long a text of the field may be. */
function checkMost(
  { most, default: standard }: FieldDeclaration,
  type: Type,
  findings: Findings,
): number | null {
  if (type.kind !== 'text') {
    if (most !== null) findings.add('T011', '“up to” is about texts', most.span, 'leave it out');
    return null;
  }
  const count = most?.count ?? MOST_CHARACTERS;
  if (most !== null && (count === 0 || count > MOST_BODY))
    findings.add('T011', `a text can be bounded to 1 to ${MOST_BODY} characters`, most.span);
  if (standard?.kind === 'text' && Array.from(standard.value).length > count)
    findings.add(
      'T011',
      `the default is longer than ${count} characters`,
      standard.span,
      'shorten it, or say “up to”',
    );
  return count;
}

/** Longer than a request may be. */
const MOST_BODY = 1_000_000;

/** What becomes of the record when the one that it points at is deleted: refused, unless it is said. */
function checkOnDelete(
  field: FieldDeclaration,
  type: Type,
  required: boolean,
  findings: Findings,
): Field['onDelete'] {
  if (field.onDelete === null) return 'refuse';
  const { rule, span } = field.onDelete;
  if (type.kind !== 'ref') findings.add('T011', '“on delete” is about references', span, 'leave it out');
  if (rule === 'clear' && required) {
    findings.add('T011', 'a required reference cannot be cleared', span, 'use refuse or remove');
  }
  return rule;
}

/** A type as it is written; null where there is none such. */
export function checkType(
  type: TypeName,
  collections: { has(name: string): boolean; keys(): Iterable<string> },
  findings: Findings,
): Type | null {
  switch (type.kind) {
    case 'simple': {
      const known = Object.hasOwn(simpleTypes, type.name.text);
      if (known) return simpleTypes[type.name.text as keyof typeof simpleTypes];
      findings.add(
        'T009',
        `there is no type “${type.name.text}”`,
        type.name.span,
        suggestion(type.name.text, [...Object.keys(simpleTypes), 'ref', 'one of', 'list of']),
      );
      return null;
    }
    case 'one of':
      for (const [index, { value, span }] of type.values.entries()) {
        if (type.values.findIndex((other) => other.value === value) < index) {
          findings.add('N005', `the value ${JSON.stringify(value)} stands in the list twice`, span);
        }
        if (value.includes('\u0000'))
          findings.add('T002', 'a value cannot contain the character U+0000', span);
      }
      return { kind: 'one of', values: type.values.map((each) => each.value) };
    case 'ref':
      if (collections.has(type.collection.text)) return { kind: 'ref', collection: type.collection.text };
      unknownCollection(type.collection, collections.keys(), findings);
      return null;
    case 'list': {
      const of = checkType(type.of, collections, findings);
      if (of === null) return null;
      if (of.kind !== 'list' && of.kind !== 'json') return { kind: 'list', of };
      findings.add('T014', `there are no lists of ${typeName(of)}`, type.span, 'a list holds plain values');
      return null;
    }
  }
}

/** Reports a collection that nobody declared. */
export function unknownCollection(
  name: { text: string; span: CollectionDeclaration['span'] },
  known: Iterable<string>,
  findings: Findings,
): void {
  findings.add('N001', `there is no collection “${name.text}”`, name.span, suggestion(name.text, known));
}

function checkDefault(field: FieldDeclaration, type: Type, findings: Findings): Field['default'] {
  const expression = field.default;
  if (expression === null) return null;
  if (expression.kind === 'now' && type.kind === 'timestamp') return { kind: 'now' };
  if (!isLiteral(expression) || type.kind === 'ref' || type.kind === 'list' || type.kind === 'json') {
    findings.add(
      'T006',
      `the default of ${field.name.text} must be a plain value of its type`,
      expression.span,
      'a value that depends on the caller is a stamp, in the rule that creates',
    );
    return null;
  }
  const value = literalValue(expression, type, findings);
  return value === null ? null : { kind: 'value', value: value as Scalar };
}

function checkLabel(declaration: CollectionDeclaration, findings: Findings): string | null {
  const labels = declaration.fields.filter((field) => field.marks.some((each) => each.mark === 'label'));
  if (labels.length > 1) {
    findings.add(
      'T007',
      `${declaration.name.text} has more than one label`,
      labels[1]!.name.span,
      undefined,
      {
        span: labels[0]!.name.span,
        message: 'the first is here',
      },
    );
  }
  const label = labels[0];
  if (label === undefined) return null;
  if (label.type.kind === 'simple' && label.type.name.text === 'text') return label.name.text;
  findings.add('T007', 'a label is a text', label.name.span);
  return null;
}

/** The field of `tree by FIELD`: a reference to the collection itself. */
function checkTree(
  collection: string,
  declaration: CollectionDeclaration | null,
  fields: ReadonlyMap<string, Field>,
  findings: Findings,
): string | null {
  const name = declaration?.tree ?? null;
  if (name === null) return null;
  const field = fields.get(name.text);
  if (field?.type.kind === 'ref' && field.type.collection === collection && !field.system) return name.text;
  findings.add(
    'T013',
    '“tree by” names a reference to the collection itself',
    name.span,
    `such as: parent ref ${collection}`,
  );
  return null;
}

function checkOwners(declaration: CollectionDeclaration, schema: Schema, findings: Findings): string[][] {
  const scope = { ...plainScope(schema), record: declaration.name.text };
  const owners: string[][] = [];
  for (const owner of declaration.owners) {
    const path = resolvePath(owner, scope, findings);
    if (path === null || path.kind !== 'path') continue;
    if (path.type.kind === 'ref' && path.type.collection === PEOPLE) {
      owners.push(path.steps.map((step) => step.field));
    } else {
      findings.add(
        'T008',
        '“owned by” must lead to a person',
        owner.span,
        'name a field of type ref people, or a path to one',
      );
    }
  }
  return owners;
}
