import { collectionOf } from '../../core/types/schema.ts';
import { driveAsync } from '../../core/decide/steps/asking.ts';
import { deleting } from '../../core/decide/steps/delete.ts';
import type { Follows, Verdict } from '../../core/decide/steps/verdict.ts';
import { shareableCollections } from '../../core/decide/shares.ts';
import { meetingOf } from '../../core/decide/turns.ts';
import type { Access } from '../../core/sql/access.ts';
import { sql } from '../../core/sql/fragment.ts';
import { clearSql, deleteSql } from '../../core/sql/writes.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { forgetShares } from '../shares/toward.ts';
import { storeDriver, type Precondition } from './driver.ts';
import { done, refusalOf, refuse, type Outcome } from './outcome.ts';
import { writing, type Meetings, type Writer } from './writing.ts';

/**
 * Removes a record, with what `on delete` says of those that point at it: see `core/decide/steps/delete.ts`. Answers what
 * followed.
 */
export async function deleteRecord(
  on: Executor,
  who: Writer,
  collection: string,
  id: string,
  precondition: Precondition = () => true,
): Promise<Outcome<Follows>> {
  const meetings: Meetings = (of) => meetingOf(who.rulebook, of, collection, ['delete'], false);
  return writing(on, collection, new Map(), who, meetings, async (transaction, access) => {
    const { rulebook, caller } = access;
    const steps = deleting<Value>(rulebook, caller, access.permission('delete', collection), id);
    const driver = storeDriver(transaction, access, collection, id, precondition);
    const verdict: Verdict<Value> = await driveAsync(steps, driver);
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    await carryOut(transaction, access, collection, id, verdict.follows);
    return done(verdict.follows);
  });
}

async function carryOut(
  on: Executor,
  { rulebook, now }: Access,
  collection: string,
  id: string,
  { removed, cleared }: Follows,
): Promise<void> {
  const follows = [...removed.values()].some((ids) => ids.length > 0);
  // Records that go together may point at each other in any order.
  if (follows) await run(on, sql`set constraints all deferred`);
  for (const { collection: holder, field, ids, targets } of cleared) {
    const definition = collectionOf(rulebook.schema, holder);
    await run(on, clearSql(definition, definition.fields.get(field)!, ids, targets, now));
  }
  const shareable = shareableCollections(rulebook);
  for (const [holder, others] of [...removed].toReversed()) {
    const ids = holder === collection ? [...others, id] : others;
    await run(on, deleteSql(collectionOf(rulebook.schema, holder), ids));
    if (shareable.has(holder)) await forgetShares(on, holder, ids);
  }
  if (follows) await run(on, sql`set constraints all immediate`);
}
