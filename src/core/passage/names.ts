import type { Rulebook } from '../ir/rulebook.ts';
import type { Collection, Field } from '../types/schema.ts';

/**
 * What the names of one version stand for: tables and columns, which keep the names that they were made with, and identities by which
 * things of two versions are paired, whatever they are called. Kept with each version.
 */
export interface Names {
  readonly collections: Readonly<Record<string, CollectionNames>>;
  /** By name: the identity. */
  readonly roles: Readonly<Record<string, string>>;
  readonly attributes: Readonly<Record<string, string>>;
}

export interface CollectionNames {
  /** Also the identity of the collection. */
  readonly table: string;
  readonly fields: Readonly<Record<string, { readonly id: string; readonly column: string }>>;
}

/** The names of a version that was published before anything could be renamed: each stands for itself. */
export function plainNames({ schema, roles, attributes }: Rulebook): Names {
  const own = (names: Iterable<string>) => Object.fromEntries([...names].map((name) => [name, name]));
  return {
    collections: Object.fromEntries(
      [...schema.values()].map(({ name, fields }) => [
        name,
        {
          table: name,
          fields: Object.fromEntries([...fields.keys()].map((each) => [each, { id: each, column: each }])),
        },
      ]),
    ),
    roles: own(roles.keys()),
    attributes: own(attributes.keys()),
  };
}

/** The rulebook with each collection and field where these names say that it is kept. */
export function placed(rulebook: Rulebook, names: Names): Rulebook {
  return withPlaces(rulebook, (collection) => {
    const known = own(names.collections, collection.name);
    return {
      table: known?.table ?? collection.name,
      columnOf: ({ name }) => own(known?.fields, name)?.column ?? name,
    };
  });
}

/** The rulebook with each collection and field where another one over the same collections has it. */
export function placedAs(rulebook: Rulebook, other: Rulebook): Rulebook {
  return withPlaces(rulebook, ({ name, table }) => {
    const known = other.schema.get(name);
    return {
      table: known === undefined ? table : known.table,
      columnOf: (field) => known?.fields.get(field.name)?.column ?? field.column,
    };
  });
}

/** The rulebook with other places for what its collections hold. */
export function withPlaces(
  rulebook: Rulebook,
  placesOf: (collection: Collection) => {
    readonly table: Collection['table'];
    readonly columnOf: (field: Field) => Field['column'];
  },
): Rulebook {
  const schema = new Map(
    [...rulebook.schema].map(([name, collection]) => {
      const { table, columnOf } = placesOf(collection);
      const fields = new Map(
        [...collection.fields].map(([each, field]) => [each, { ...field, column: columnOf(field) }]),
      );
      return [name, { ...collection, table, fields }];
    }),
  );
  return { ...rulebook, schema };
}

/** The value of a name; never a property that the object happens to inherit. */
export function own<T>(of: Readonly<Record<string, T>> | undefined, name: string): T | undefined {
  return of !== undefined && Object.hasOwn(of, name) ? of[name] : undefined;
}
