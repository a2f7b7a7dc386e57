import { sql } from '../core/sql/fragment.ts';
import { peopleTable } from '../core/sql/identifiers.ts';
import { relation } from '../core/sql/relations.ts';
import { ownedSql } from '../core/sql/owners.ts';
import { collectionOf, type Schema } from '../core/types/schema.ts';
import { run, type Executor } from './connection.ts';

/** The people behind the test identities, by name. */
export async function identityPeople(on: Executor): Promise<Map<string, { id: string; active: boolean }>> {
  const rows = await run<{ id: string; name: string; active: boolean }>(
    on,
    sql`select id, _identity as name, _active as active from ${peopleTable} where _identity is not null`,
  );
  return new Map(rows.map(({ name, id, active }) => [name, { id, active }]));
}

/** How many records have no owner by any of the paths of `owned by`; 0 where the rulebook names none. */
export async function countOwnerless(on: Executor, schema: Schema, collection: string): Promise<number> {
  const { owners } = collectionOf(schema, collection);
  if (owners.length === 0) return 0;
  const [row] = await run<{ count: number }>(
    on,
    sql`select count(*) as count from ${relation(schema, collection)} as r where not ${ownedSql(schema, collection, 'r')}`,
  );
  return row!.count;
}
