import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { column } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { collectionOf, type Schema } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';

export interface Faults {
  readonly count: number;
  /** How many, as the subject of a sentence: “3 records have”. */
  readonly records: string;
  /** The first of them by what they are known by, in brackets; nothing where they are not to be named. */
  readonly first: string;
}

/** Named in a message. */
export const NAMED = 3;

/** The records of a collection for which a condition on `r` holds. Cost: one pass over it. */
export async function faults(
  on: Executor,
  schema: Schema,
  collection: string,
  where: Fragment,
  named: number,
): Promise<Faults> {
  const { label } = collectionOf(schema, collection);
  const known = label === null ? sql`r.id::text` : sql`coalesce(${column('r', label)}::text, r.id::text)`;
  const [row] = await run<{ count: number; first: string[] }>(
    on,
    sql`with found as materialized (select r.id, ${known} as known from ${relation(schema, collection)} as r where ${where})
      select (select count(*) from found) as count,
        array(select left(known, 60) from found order by id limit ${value(named)}::integer) as first`,
  );
  const { count, first } = row!;
  return {
    count,
    records: `${count} ${count === 1 ? 'record has' : 'records have'}`,
    first:
      named === 0 ? '' : ` (${first.map((each) => `“${each}”`).join(', ')}${count > named ? ', …' : ''})`,
  };
}
