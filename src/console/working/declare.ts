import type {
  CollectionDeclaration,
  Declaration,
  FenceSentence,
  FieldDeclaration,
  RuleSentence,
  TypeName,
} from '../../core/language/ast.ts';
import { isKeyword } from '../../core/language/tokens.ts';
import { quoted } from '../../core/language/quoted.ts';
import { parsed } from './parsed.ts';
import type { Text } from './texts.ts';

/** What the texts declare, as pages show it, and declarations that pages write into them: ordinary text, read and edited like all else. */
export interface DeclaredField {
  readonly name: string;
  readonly title: string | null;
  readonly type: string;
  readonly marks: readonly string[];
  /** What a new record begins with, as it is written; null: nothing. */
  readonly default: string | null;
}

export interface DeclaredCollection {
  readonly name: string;
  readonly title: string | null;
  readonly fields: readonly DeclaredField[];
  readonly owners: readonly string[];
  readonly label: string | null;
  readonly file: string;
}

/** One sentence of a collection, for the grid of who may do what. */
export interface GridSentence {
  readonly kind: 'rule' | 'fence';
  readonly who: readonly string[];
  readonly operations: readonly string[];
  readonly always: boolean;
  readonly text: string;
}

interface Parsed extends Text {
  readonly declarations: readonly Declaration[];
}

function declarationsOf(texts: readonly Text[]): Parsed[] {
  return texts.map((each) => ({ ...each, declarations: parsed(each.name, each.text).declarations }));
}

export function collectionsOf(texts: readonly Text[]): DeclaredCollection[] {
  const found = declarationsOf(texts).flatMap(({ name, text, declarations }) =>
    declarations.flatMap((each) => (each.kind === 'collection' ? [declared(each, name, text)] : [])),
  );
  if (found.some(({ name }) => name === 'people')) return found;
  return [...found, { name: 'people', title: null, fields: [], owners: ['id'], label: 'email', file: '' }];
}

function declared(of: CollectionDeclaration, file: string, text: string): DeclaredCollection {
  const fields = of.fields.map((field) => declaredField(field, text));
  return {
    name: of.name.text,
    title: of.title,
    fields,
    owners: of.owners.map(({ span }) => text.slice(span.start, span.end)),
    label: fields.find(({ marks }) => marks.includes('label'))?.name ?? null,
    file,
  };
}

function declaredField(field: FieldDeclaration, text: string): DeclaredField {
  return {
    name: field.name.text,
    title: field.title,
    type: typeText(field.type),
    marks: [
      ...field.marks.map(({ mark }) => mark),
      ...(field.most === null ? [] : [`up to ${field.most.count}`]),
    ],
    default: field.default === null ? null : text.slice(field.default.span.start, field.default.span.end),
  };
}

function typeText(type: TypeName): string {
  switch (type.kind) {
    case 'simple':
      return type.name.text;
    case 'one of':
      return `one of (${type.values.map(({ value }) => quoted(value)).join(', ')})`;
    case 'ref':
      return `ref ${type.collection.text}`;
    case 'list':
      return `list of ${typeText(type.of)}`;
  }
}

export function rolesOf(texts: readonly Text[]): { readonly name: string; readonly title: string | null }[] {
  return declarationsOf(texts).flatMap(({ declarations }) =>
    declarations.flatMap((each) =>
      each.kind === 'role' ? [{ name: each.name.text, title: each.title }] : [],
    ),
  );
}

export function identitiesOf(
  texts: readonly Text[],
): { readonly name: string; readonly roles: readonly string[] }[] {
  return declarationsOf(texts).flatMap(({ declarations }) =>
    declarations.flatMap((each) =>
      each.kind === 'identity'
        ? [{ name: each.name.text, roles: each.roles.map(({ role }) => role.text) }]
        : [],
    ),
  );
}

export function trialCount(texts: readonly Text[]): number {
  return declarationsOf(texts)
    .flatMap(({ declarations }) => declarations)
    .filter(({ kind }) => kind === 'trial' || kind === 'invariant').length;
}

/** Who may do what with a collection, sentence by sentence. */
export function gridOf(texts: readonly Text[], collection: string): GridSentence[] {
  return declarationsOf(texts).flatMap(({ text, declarations }) =>
    declarations.flatMap((each): GridSentence[] => {
      if (each.kind !== 'rules' || !each.collections.some((of) => of.text === collection)) return [];
      return [...each.sentences, ...each.fences].map((sentence) => gridSentence(sentence, text));
    }),
  );
}

function gridSentence(sentence: RuleSentence | FenceSentence, text: string): GridSentence {
  const isFence = 'but' in sentence;
  return {
    kind: isFence ? 'fence' : 'rule',
    who: isFence
      ? sentence.but.map((role) => role.text)
      : sentence.who.map((each) => (each.kind === 'role' ? each.name.text : each.kind)),
    operations: sentence.operations.map(({ operation }) => operation),
    always: isFence ? sentence.unless === null : sentence.when === null,
    text: text.slice(sentence.core.start, sentence.core.end).replaceAll(/\s+/g, ' '),
  };
}

export interface NewField {
  readonly name: string;
  /** What people call it; empty: nothing is said. */
  readonly title: string;
  readonly type: string;
  readonly required: boolean;
  readonly unique: boolean;
  readonly sensitive: boolean;
  readonly label: boolean;
}

function nameText(name: string): string {
  return isKeyword(name) ? `\`${name}\`` : name;
}

/** Behind the name of what it is the title of; nothing where there is none. */
function titleText(title: string): string {
  return title.trim() === '' ? '' : ` ${quoted(title.trim())}`;
}

export function fieldText({ name, title, type, required, unique, sensitive, label }: NewField): string {
  const marks = [required && 'required', unique && 'unique', label && 'label', sensitive && 'sensitive'];
  return [nameText(name) + titleText(title), type, ...marks.filter((each) => each !== false)].join(' ');
}

/** With one more collection, in a text of its own. */
export function withCollection(
  texts: readonly Text[],
  { name, title, fields, owner }: { name: string; title: string; fields: readonly NewField[]; owner: string },
): Text[] {
  const lines = [...fields.map(fieldText), ...(owner === '' ? [] : [`owned by ${owner}`])];
  const text = `collection ${nameText(name)}${titleText(title)} {\n${lines.map((line) => `  ${line}`).join('\n')}\n}\n`;
  const kept = texts.filter((each) => each.text.trim() !== '' || texts.length > 1);
  return [...kept, { name: freeName(kept, name), text }];
}

function freeName(texts: readonly Text[], name: string): string {
  return ['', ...Array.from({ length: 500 }, (_, n) => `-${n + 2}`)]
    .map((suffix) => `${name}${suffix}.gate`)
    .find((file) => !texts.some((each) => each.name === file))!;
}

/** With one more field, behind the others of its collection; of people, in a block that is made where there is none. */
export function withField(texts: readonly Text[], collection: string, field: NewField): Text[] {
  for (const { name, text, declarations } of declarationsOf(texts)) {
    const block = declarations.find((each) => each.kind === 'collection' && each.name.text === collection);
    if (block?.kind !== 'collection') continue;
    const last = block.fields.at(-1)?.span.end ?? text.indexOf('{', block.span.start) + 1;
    const put = `${text.slice(0, last)}\n  ${fieldText(field)}${text.slice(last)}`;
    return texts.map((each) => (each.name === name ? { name, text: put } : each));
  }
  return withDeclaration(texts, 'people.gate', `people {\n  ${fieldText(field)}\n}`);
}

export function withRole(texts: readonly Text[], name: string, title: string): Text[] {
  return withDeclaration(texts, 'people.gate', `role ${nameText(name)}${titleText(title)}`);
}

export function withIdentity(
  texts: readonly Text[],
  { name, email, roles }: { name: string; email: string; roles: readonly string[] },
): Text[] {
  const held = roles.length === 0 ? '' : `  roles ${roles.join(', ')}`;
  const shown = name.charAt(0).toUpperCase() + name.slice(1);
  const own = email.trim() === '' ? '' : `  email ${quoted(email.trim())}`;
  return withDeclaration(
    texts,
    'trials.gate',
    `test identity ${nameText(name)} { name ${quoted(shown)}${own}${held} }`,
  );
}

/** The test identity holds these roles, too. */
export function withRolesHeld(texts: readonly Text[], name: string, roles: readonly string[]): Text[] {
  for (const { name: file, text, declarations } of declarationsOf(texts)) {
    const of = declarations.find((each) => each.kind === 'identity' && each.name.text === name);
    if (of?.kind !== 'identity') continue;
    const last = of.roles.at(-1);
    // Where nothing is held yet, first of all: at the end a comment may stand.
    const [at, put] =
      last === undefined
        ? [text.indexOf('{', of.name.span.end) + 1, ` roles ${roles.join(', ')}`]
        : [(last.until ?? last.role).span.end, `, ${roles.join(', ')}`];
    return texts.map((each) =>
      each.name === file ? { ...each, text: `${text.slice(0, at)}${put}${text.slice(at)}` } : each,
    );
  }
  return [...texts];
}

/** The test identity has this value, as it is written, whatever it had before. */
export function withValueHeld(texts: readonly Text[], name: string, field: string, words: string): Text[] {
  for (const { name: file, text, declarations } of declarationsOf(texts)) {
    const of = declarations.find((each) => each.kind === 'identity' && each.name.text === name);
    if (of?.kind !== 'identity') continue;
    const before = of.fields.find((each) => each.field.text === field)?.value.span;
    const at = before?.start ?? text.indexOf('{', of.name.span.end) + 1;
    const put = before === undefined ? ` ${nameText(field)} ${words}` : words;
    return texts.map((each) =>
      each.name === file
        ? { ...each, text: `${text.slice(0, at)}${put}${text.slice(before?.end ?? at)}` }
        : each,
    );
  }
  return [...texts];
}

/** Behind whatever stands in that text, which is made where there is none. */
function withDeclaration(texts: readonly Text[], file: string, said: string): Text[] {
  const kept = texts.filter((each) => each.text.trim() !== '' || texts.length > 1);
  if (!kept.some(({ name }) => name === file)) return [...kept, { name: file, text: `${said}\n` }];
  return kept.map((each) =>
    each.name === file ? { ...each, text: `${each.text.trimEnd()}\n${said}\n` } : each,
  );
}
