import { actionsOn, type Action, type Rulebook } from '../../core/ir/rulebook.ts';
import type { Collection } from '../../core/types/schema.ts';
import type { ScalarType, Type } from '../../core/types/types.ts';
import { namesOf, suppliedBy } from './names.ts';
import { couldBeWithheld } from './withheld.ts';

/**
 * The collections in force as TypeScript, for `firmgate/client`: what could be withheld is optional, references are told apart by the
 * collection that they point at, decimals are texts. The same rulebook gives the same text.
 */
export function typescriptOf(rulebook: Rulebook): string {
  const collections = [...rulebook.schema.values()];
  const names = namesOf(rulebook);
  const parts = collections.map((collection) => declarations(rulebook, collection, names));
  return `// Written by “firmgate types” for version ${rulebook.version ?? 0} of the rulebook. Write it anew rather than change it.
import type { Key } from 'firmgate/client';

/** For \`writtenFor\` of the client. */
export const rulebook = ${rulebook.version ?? 0};

${parts.join('\n')}
/** Every collection, for \`new GateClient<Collections>(…)\`. */
export interface Collections {
${collections.map((collection) => entry(rulebook, collection, names)).join('\n')}
}
`;
}

type Names = ReadonlyMap<string, string>;

function declarations(rulebook: Rulebook, collection: Collection, names: Names): string {
  const name = names.get(collection.name)!;
  const fields = [...collection.fields.values()];
  const seen = fields.map((field) => {
    const withheld = field.name !== 'id' && couldBeWithheld(rulebook, collection.name, field.name);
    const type = orMissing(field.type, field.required);
    const line = member(`readonly ${field.name}${withheld ? '?' : ''}: ${type};`);
    return field.title === null ? line : `${member(comment(field.title))}\n${line}`;
  });
  const { create, update } = suppliedBy(rulebook, collection);
  const created = create.map(({ field, required }) =>
    member(`readonly ${field.name}${required ? '' : '?'}: ${orMissing(field.type, field.required)};`),
  );
  const updated = update.map((field) =>
    member(`readonly ${field.name}?: ${orMissing(field.type, field.required)};`),
  );
  return `${comment(collection.title ?? collection.name)}
export interface ${name}Record ${body(seen)}

export type ${name}Create = ${supplying(created)};

export type ${name}Update = ${supplying(updated)};
`;
}

function body(members: readonly string[]): string {
  return `{\n${members.join('\n')}\n}`;
}

/** Where nobody may supply anything, not even a field by mistake. */
function supplying(members: readonly string[]): string {
  return members.length === 0 ? 'Record<string, never>' : body(members);
}

function entry(rulebook: Rulebook, { name, fields }: Collection, names: Names): string {
  const type = names.get(name)!;
  const actions = actionsOn(rulebook, name).map(
    (action) => `      readonly ${action.name}: (given: ${parametersOf(action)}) => ${type}Record;`,
  );
  const references = [...fields.values()].flatMap(({ name: field, type: of, system }) =>
    of.kind === 'ref' && !system ? [`      readonly ${field}: ${text(of.collection)};`] : [],
  );
  return `  readonly ${name}: {
    readonly record: ${type}Record;
    readonly create: ${type}Create;
    readonly update: ${type}Update;
    readonly actions: ${block(actions)};
    readonly references: ${block(references)};
  };`;
}

function block(lines: readonly string[]): string {
  return lines.length === 0 ? 'object' : `{\n${lines.join('\n')}\n    }`;
}

function parametersOf({ parameters }: Action): string {
  if (parameters.size === 0) return 'object';
  const members = [...parameters].map(
    ([name, { type, required }]) => `readonly ${name}${required ? '' : '?'}: ${orMissing(type, required)}`,
  );
  return `{ ${members.join('; ')} }`;
}

function orMissing(type: Type, required: boolean): string {
  return required ? typeOf(type) : `${typeOf(type)} | null`;
}

function typeOf(type: Type): string {
  switch (type.kind) {
    case 'list': {
      const of = scalarOf(type.of);
      return `readonly ${of.includes(' | ') ? `(${of})` : of}[]`;
    }
    case 'json':
      return 'unknown';
    case 'text':
    case 'integer':
    case 'decimal':
    case 'boolean':
    case 'date':
    case 'timestamp':
    case 'uuid':
    case 'one of':
    case 'ref':
      return scalarOf(type);
  }
}

function scalarOf(type: ScalarType): string {
  switch (type.kind) {
    case 'integer':
      return 'number';
    case 'boolean':
      return 'boolean';
    case 'one of':
      return type.values.map(text).join(' | ');
    case 'ref':
      return `Key<${text(type.collection)}>`;
    case 'text':
    case 'decimal':
    case 'date':
    case 'timestamp':
    case 'uuid':
      return 'string';
  }
}

function member(line: string): string {
  return `  ${line}`;
}

function text(value: string): string {
  return JSON.stringify(value).replaceAll('\u2028', '\\u2028').replaceAll('\u2029', '\\u2029');
}

/** Titles are anybody's words: none may end the comment. */
function comment(title: string): string {
  return `/** ${title.replaceAll('*/', '* /').replaceAll(/\s+/g, ' ')} */`;
}
