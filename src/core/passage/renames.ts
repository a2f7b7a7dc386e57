import type { Rulebook } from '../ir/rulebook.ts';
import type { Was } from '../ir/succession.ts';
import type { Names } from './names.ts';

/** What is called otherwise than before: old names with the new ones. What keeps its name is left out. */
export interface Renames {
  readonly collections: ReadonlyMap<string, string>;
  /** By the new name of the collection. */
  readonly fields: ReadonlyMap<string, ReadonlyMap<string, string>>;
  readonly roles: ReadonlyMap<string, string>;
  readonly attributes: ReadonlyMap<string, string>;
}

/** By which things of two versions are paired, whatever they are called: by name, the identity. */
export interface Identities {
  readonly collections: Readonly<
    Record<string, { readonly id: string; readonly fields: Readonly<Record<string, string>> }>
  >;
  readonly roles: Readonly<Record<string, string>>;
  readonly attributes: Readonly<Record<string, string>>;
}

export function identitiesOf({ collections, roles, attributes }: Names): Identities {
  const own = Object.entries(collections).map(([name, { table, fields }]) => [
    name,
    { id: table, fields: Object.fromEntries(Object.entries(fields).map(([field, { id }]) => [field, id])) },
  ]);
  return { collections: Object.fromEntries(own) as Identities['collections'], roles, attributes };
}

/** What is called otherwise in one version than in another, by the identities of both, whichever came first. */
export function renamesBetween(before: Identities, after: Identities): Renames {
  const ids = (of: Identities) =>
    Object.fromEntries(Object.entries(of.collections).map(([name, { id }]) => [name, id]));
  const fields = Object.entries(after.collections).map(([name, { id, fields: is }]) => {
    const was = Object.values(before.collections).find((each) => each.id === id)?.fields ?? {};
    return [name, differing(byIdentity(was), byIdentity(is))] as const;
  });
  return {
    collections: differing(byIdentity(ids(before)), byIdentity(ids(after))),
    fields: new Map(fields.filter(([, names]) => names.size > 0)),
    roles: differing(byIdentity(before.roles), byIdentity(after.roles)),
    attributes: differing(byIdentity(before.attributes), byIdentity(after.attributes)),
  };
}

function byIdentity(of: Readonly<Record<string, string>>): Map<string, string> {
  return new Map(Object.entries(of).map(([name, id]) => [id, name]));
}

function differing(was: ReadonlyMap<string, string>, is: ReadonlyMap<string, string>): Map<string, string> {
  return new Map(
    [...was].flatMap(([id, name]) => {
      const now = is.get(id);
      return now === undefined || now === name ? [] : [[name, now] as const];
    }),
  );
}

/** What a rulebook itself says of another one before it, where nothing is known of identities. */
export function renamesSaid(before: Rulebook, after: Rulebook): Renames {
  const { collections, fields, roles, attributes } = after.succession;
  const said = (names: ReadonlyMap<string, Was>, was: ReadonlyMap<string, unknown>) =>
    new Map(
      [...names].flatMap(([now, { name }]) => (was.has(name) && !was.has(now) ? [[name, now] as const] : [])),
    );
  const byCollection = said(collections, before.schema);
  const oldOf = new Map([...byCollection].map(([old, now]) => [now, old]));
  return {
    collections: byCollection,
    fields: new Map(
      [...fields].flatMap(([name, names]) => {
        const was = before.schema.get(oldOf.get(name) ?? name)?.fields;
        const found = was === undefined ? new Map<string, string>() : said(names, was);
        return found.size === 0 ? [] : [[name, found] as const];
      }),
    ),
    roles: said(roles, before.roles),
    attributes: said(attributes, before.attributes),
  };
}

/** Where a field is now that was called so before. */
export function fieldNow(renames: Renames, collection: string, field: string): readonly [string, string] {
  const now = renames.collections.get(collection) ?? collection;
  return [now, renames.fields.get(now)?.get(field) ?? field];
}
