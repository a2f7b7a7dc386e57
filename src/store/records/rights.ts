import type { Access } from '../../core/sql/access.ts';
import { allowedSql } from '../../core/sql/counting.ts';
import { run, type Executor } from '../connection.ts';

/** What a caller may do with a record, as it is. */
export interface Rights {
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly actions: readonly string[];
}

/** The same for several records, by id. Cost: one statement. */
export async function rightsOn(
  on: Executor,
  access: Access,
  collection: string,
  ids: readonly string[],
): Promise<Record<string, Rights>> {
  if (ids.length === 0) return {};
  const { statement, names } = allowedSql(access, collection, ids);
  const rows = await run<Record<string, string | boolean | null>>(on, statement);
  return Object.fromEntries(
    rows.map((row) => {
      const allowed = names.filter(({ column }) => row[column] === true);
      return [
        row.id as string,
        {
          update: allowed.flatMap(({ operation, field }) => (operation === 'update' ? field! : [])),
          delete: allowed.some(({ operation }) => operation === 'delete'),
          actions: allowed.flatMap(({ operation }) =>
            operation === 'read' || operation === 'update' || operation === 'delete' ? [] : operation,
          ),
        },
      ];
    }),
  );
}
