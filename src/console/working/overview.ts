import type { Overview } from '../../client/desk.ts';
import { collectionsOf, identitiesOf, rolesOf } from './declare.ts';
import type { Text } from './texts.ts';

type Collection = Overview['collections'][number];

/** What is in force with what the draft makes of it: collections, roles and identities that are only written yet are there, too. */
export function withDraft(overview: Overview, texts: readonly Text[]): Overview {
  const drafted = collectionsOf(texts).map(({ name, title, owners, label, fields }): Collection => {
    const known = overview.collections.find((each) => each.name === name);
    const own = fields.map((field) => ({
      name: field.name,
      title: field.title,
      type: field.type,
      reference: /^ref (\w+)$/.exec(field.type)?.[1] ?? null,
      sensitive: field.marks.includes('sensitive'),
      system: false,
    }));
    if (known === undefined) return { name, title, label, owners: [...owners], fields: own, actions: [] };
    const added = own.filter((field) => !known.fields.some((each) => each.name === field.name));
    if (name === 'people') return { ...known, fields: [...known.fields, ...added] };
    return { ...known, title, label, owners: [...owners], fields: [...known.fields, ...added] };
  });
  const gone = overview.collections.filter(({ name }) => !drafted.some((each) => each.name === name));
  const fresh = identitiesOf(texts).filter(
    ({ name }) => !overview.identities.some((each) => each.name === name),
  );
  return {
    ...overview,
    collections: [...drafted, ...gone],
    roles: rolesOf(texts).map(({ name, title }) => ({ name, title })),
    identities: [
      ...overview.identities,
      ...fresh.map(({ name, roles }) => ({ name, id: null, email: null, roles: [...roles], active: true })),
    ],
  };
}
