import type { Completion } from '@codemirror/autocomplete';
import type { Overview } from '../../../client/desk.ts';
import { keywords } from '../../../core/language/tokens.ts';

/** What can be written in a sentence of a collection: words of the language, its fields, roles, collections, and what is known of the caller. */
export function wordsFor(
  overview: Overview,
  collection: string,
  roles: readonly string[],
  lets: readonly string[],
): Completion[] {
  const fields = overview.collections.find(({ name }) => name === collection)?.fields ?? [];
  const people = overview.collections.find(({ name }) => name === 'people')?.fields ?? [];
  return [
    ...fields.map(({ name, type }) => ({ label: name, type: 'property', detail: type, boost: 3 })),
    ...roles.map((name) => ({ label: name, type: 'class', detail: 'role', boost: 2 })),
    ...lets.map((name) => ({ label: name, type: 'function', detail: 'let', boost: 1 })),
    ...people.map(({ name, type }) => ({ label: `me.${name}`, type: 'variable', detail: type })),
    ...overview.collections.map(({ name }) => ({ label: name, type: 'type', detail: 'collection' })),
    { label: 'mine', type: 'keyword', detail: 'owned by me' },
    ...keywords.map((label) => ({ label, type: 'keyword' })),
  ];
}
