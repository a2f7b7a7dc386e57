import type { RecordValues } from '../../core/decide/caller.ts';
import type { Access } from '../../core/sql/access.ts';
import { commaList, sql } from '../../core/sql/fragment.ts';
import { column, recordKey } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';

/** A record with full sight. Never for an answer to a caller. */
export async function fullRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
): Promise<RecordValues | null> {
  const fields = [...collectionOf(access.rulebook.schema, collection).fields.keys()];
  const [row] = await run<Record<string, Value>>(
    on,
    sql`select ${commaList(fields.map((field) => column('r', field)))} from ${relation(access.rulebook.schema, collection)} as r where r.id = ${recordKey(id)}`,
  );
  return row ?? null;
}
