import { allowsDelete, grantsFor } from '../../core/evaluate/combine.ts';
import type { Access } from '../../core/sql/access.ts';
import { recordFlagsSql, deleteSql } from '../../core/sql/writes.ts';
import { run, type Executor } from '../connection.ts';
import { done, refuse, type Outcome } from './outcome.ts';
import { lockRecord } from './read.ts';
import type { Precondition } from './update.ts';
import { needsSerializable, truthOf, writing } from './writing.ts';

/** Removes a record: readable, precondition, a delete rule that is true, and nothing that points at it. */
export async function deleteRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  precondition: Precondition = () => true,
): Promise<Outcome<null>> {
  const grants = grantsFor(access.rulebook, access.caller, collection, 'delete');
  const serializable = needsSerializable(access, collection, 'delete', new Map());

  return writing(on, collection, new Map(), serializable, async (transaction) => {
    const before = await lockRecord(transaction, access, collection, id);
    if (before === null) return refuse({ kind: 'not found' });
    if (!precondition(before)) return refuse({ kind: 'changed meanwhile' });
    const holds = await truthOf(
      transaction,
      recordFlagsSql(access, [...grants.rules, ...grants.fences], collection, id),
      ['before'],
    );
    if (!allowsDelete(grants, holds)) return refuse({ kind: 'not allowed', fields: [] });
    await run(transaction, deleteSql(collection, id));
    return done(null);
  });
}
