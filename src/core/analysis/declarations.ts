import type { Span } from '../language/span.ts';
import { parseFile } from '../language/parser/index.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { placeAt, wordsOf, type Place } from './places.ts';

/** One sentence or declaration of a rulebook as it was written, so that two rulebooks can be held against each other. */
export interface Declaration extends Place {
  /** Null: it is about no collection by itself, and counts where it is named. */
  readonly collection: string | null;
  /** What others name it by: a let, a role, an attribute, an action; or a test identity. */
  readonly name: string | null;
  readonly text: string;
}

/** What differs between two rulebooks. */
export interface Changed {
  readonly declaration: Declaration;
  readonly how: 'new' | 'changed since' | 'left out since';
}

/** Everything that can decide something: rules, fences, fields and their marks, lets, roles, attributes, actions, identities. */
export function declarationsOf(rulebook: Rulebook): Declaration[] {
  const found: Declaration[] = [];
  const textAt = ({ source, start, end }: Span) =>
    rulebook.sources
      .find(({ name }) => name === source)!
      .text.slice(start, end)
      .replaceAll(/\s+/g, ' ');
  const add = (
    what: string,
    collection: string | null,
    name: string | null,
    span: Span,
    text = textAt(span),
  ) => found.push({ ...placeAt(rulebook, what, span), collection, name, text });
  for (const { id, collection, span } of rulebook.rules) add(`rule ${id}`, collection, null, span);
  for (const { id, collection, span } of rulebook.fences) add(`fence ${id}`, collection, null, span);
  for (const declaration of rulebook.sources.flatMap((source) => parseFile(source).declarations))
    switch (declaration.kind) {
      case 'let':
      case 'role':
      case 'attribute':
      case 'claim':
      case 'action':
      case 'identity': {
        const { kind, name, span } = declaration;
        add(`${kind} ${name.text}`, null, name.text, span);
        break;
      }
      case 'collection': {
        const { name, span, fields, owners, tree } = declaration;
        for (const field of fields) add(`field ${name.text}.${field.name.text}`, name.text, null, field.span);
        const rest = [...owners.map((each) => textAt(each.span)), tree?.text ?? ''].join(' ');
        add(`collection ${name.text}`, name.text, null, span, rest);
        break;
      }
      case 'rules':
      case 'accept':
      case 'invariant':
      case 'trial':
      case 'time zone':
        break;
    }
  return found;
}

/**
 * What has changed from one rulebook to the other and bears on what a caller may do with a collection: its own sentences and
 * fields; what they name, over any number of steps; roles that bring such along; and the identity itself. Where nothing of
 * this has changed, whatever else has, since records decide about other records, too. Cost: once for each collection.
 */
export function bearing(
  before: readonly Declaration[],
  after: readonly Declaration[],
): (collection: string, caller: string) => Changed[] {
  const changed = changedBetween(before, after);
  const all = [...before, ...after];
  const named = new Map<string, Set<string>>();
  return (collection, caller) => {
    const near = named.get(collection) ?? namedBy(all, collection);
    named.set(collection, near);
    const found = changed.filter(({ declaration: each }) =>
      isIdentity(each)
        ? each.name === caller
        : each.collection === collection || (each.name !== null && near.has(each.name)),
    );
    return found.length > 0 ? found : changed.filter(({ declaration }) => !isIdentity(declaration));
  };
}

function isIdentity({ what }: Pick<Declaration, 'what'>): boolean {
  return what.startsWith('identity ');
}

/** Sentences are told apart by what they say: their numbers move when another is put before them. */
function changedBetween(before: readonly Declaration[], after: readonly Declaration[]): Changed[] {
  const keyOf = ({ collection, name, what, text }: Declaration) =>
    JSON.stringify([what.split(' ')[0], collection, name, text]);
  const [was, is] = [new Set(before.map(keyOf)), new Set(after.map(keyOf))];
  const gone = before.filter((each) => !is.has(keyOf(each)));
  const come = after.filter((each) => !was.has(keyOf(each)));
  const isThere = (all: readonly Declaration[], { what }: Declaration) =>
    all.some((each) => each.what === what);
  return [
    ...come.map((declaration): Changed => ({
      declaration,
      how: isThere(gone, declaration) ? 'changed since' : 'new',
    })),
    ...gone
      .filter((declaration) => !isThere(come, declaration))
      .map((declaration): Changed => ({ declaration, how: 'left out since' })),
  ];
}

/** The names that the sentences of a collection come down to, and the roles that bring one of them along. */
function namedBy(all: readonly Declaration[], collection: string): Set<string> {
  const named = new Set<string>();
  const words = new Set(
    all.filter((each) => each.collection === collection).flatMap(({ text }) => [...wordsOf(text)]),
  );
  for (let size = -1; size !== named.size;) {
    size = named.size;
    for (const { name, what, text } of all) {
      if (name === null || named.has(name) || isIdentity({ what })) continue;
      const own = wordsOf(text);
      const brings = what.startsWith('role ') && [...own].some((word) => named.has(word));
      if (!words.has(name) && !brings) continue;
      named.add(name);
      for (const word of own) words.add(word);
    }
  }
  return named;
}
