import { collectionOf, fieldOf, type Schema } from '../types/schema.ts';
import { anyOf, sql, type Fragment } from './fragment.ts';
import { column } from './identifiers.ts';
import { relation } from './relations.ts';

/** For each path of `owned by`: whom it leads to from the record under the alias; null where something on it is missing. */
export function ownersSql(schema: Schema, collection: string, alias: string): Fragment[] {
  return collectionOf(schema, collection).owners.map((path) => ownerSql(schema, collection, path, alias));
}

/** Has the record an owner by any of the paths? */
export function ownedSql(schema: Schema, collection: string, alias: string): Fragment {
  return anyOf(ownersSql(schema, collection, alias).map((owner) => sql`${owner} is not null`));
}

function ownerSql(schema: Schema, collection: string, path: readonly string[], alias: string): Fragment {
  let reached = column(alias, path[0]!);
  let here = collection;
  for (const [index, step] of path.slice(1).entries()) {
    const { type } = fieldOf(schema, here, path[index]!)!;
    here = (type as { collection: string }).collection;
    reached = sql`(select ${column('o', step)} from ${relation(schema, here)} as o where o.id = ${reached})`;
  }
  return reached;
}
