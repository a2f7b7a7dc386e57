import { allowsWhole, grantsFor } from '../../core/evaluate/combine.ts';
import { shareableCollections } from '../../core/evaluate/shares.ts';
import type { Access } from '../../core/sql/access.ts';
import { asking, recordFlagsSql } from '../../core/sql/writes.ts';
import type { Executor } from '../connection.ts';
import { forgetShares } from '../shares/toward.ts';
import { deleteWithReferrers, takesAlong } from './cascade.ts';
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
  const serializable =
    takesAlong(access.rulebook) || needsSerializable(access, collection, ['delete'], new Map());

  return writing(on, collection, new Map(), serializable, async (transaction) => {
    const before = await lockRecord(transaction, access, collection, id);
    if (before === null) return refuse({ kind: 'not found' });
    if (!precondition(before)) return refuse({ kind: 'changed meanwhile' });
    const holds = await truthOf(transaction, recordFlagsSql(access, asking(grants), collection, id), [
      'before',
    ]);
    if (!allowsWhole(grants, 'delete', holds)) return refuse({ kind: 'not allowed', fields: [] });
    if (!(await deleteWithReferrers(transaction, access, collection, id)))
      return refuse({ kind: 'still referenced' });
    if (shareableCollections(access.rulebook).has(collection))
      await forgetShares(transaction, collection, id);
    return done(null);
  });
}
