import { collectionOf } from '../../core/types/schema.ts';
import { driveAsync } from '../../core/decide/steps/asking.ts';
import { deleting } from '../../core/decide/steps/delete.ts';
import { nothingFollows, type Follows } from '../../core/decide/steps/verdict.ts';
import { plain } from '../../core/evaluate/decider.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { meetingOf } from '../../core/decide/turns.ts';
import type { Access } from '../../core/sql/access.ts';
import { sql } from '../../core/sql/fragment.ts';
import { recordKeys } from '../../core/sql/identifiers.ts';
import { clearSql, deleteSql, forgottenSql } from '../../core/sql/writes.ts';
import { askTogether, once } from '../batch.ts';
import type { Executor } from '../connection.ts';
import type { Value } from '../../core/types/types.ts';
import { noPrecondition, storeDriver, type Precondition } from './driver.ts';
import { done, refusalOf, refuse, type Outcome } from './outcome.ts';
import type { Write } from './single.ts';
import { written, type Supplied, type Writer } from './writing.ts';

/**
 * Removes a record, with what `on delete` says of those that point at it: see `core/decide/steps/delete.ts`. Answers what
 * followed.
 */
export async function deleteRecord(
  on: Executor,
  who: Writer,
  collection: string,
  id: string,
  precondition: Precondition = noPrecondition,
): Promise<Outcome<Follows>> {
  const write = deleteOf(who.rulebook, collection, id);
  const oneByOne = async (transaction: Executor, access: Access): Promise<Outcome<Follows>> => {
    const driver = storeDriver(transaction, access, collection, id, precondition);
    const verdict = await driveAsync(write.steps<Value>(access, nothing, id, plain), driver);
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    await carryOut(transaction, access, collection, id, verdict.follows);
    return done(verdict.follows);
  };
  return written(on, who, write, oneByOne, precondition === noPrecondition ? () => nothingFollows : null);
}

export function deleteOf(rulebook: Rulebook, collection: string, id: string): Write {
  return {
    operation: 'delete',
    collection,
    id,
    supplied: nothing,
    types: new Map(),
    meetings: (caller) => meetingOf(rulebook, caller, collection, ['delete'], false),
    steps: (access) => deleting(access.rulebook, access.caller, access.permission('delete', collection), id),
  };
}

const nothing: Supplied = new Map();

async function carryOut(
  on: Executor,
  { rulebook, now }: Access,
  collection: string,
  id: string,
  { removed, cleared }: Follows,
): Promise<void> {
  const gone = [...removed, [collection, [id]] as const];
  const statements = [
    // Records that go together may point at each other in any order.
    sql`set constraints all deferred`,
    ...cleared.map(({ collection: holder, field, ids, targets }) => {
      const definition = collectionOf(rulebook.schema, holder);
      return clearSql(definition, definition.fields.get(field)!, ids, targets, now);
    }),
    ...gone.flatMap(([holder, ids]) => [
      deleteSql(collectionOf(rulebook.schema, holder), ids),
      forgottenSql(holder, sql`select unnest(${recordKeys(ids)})`),
    ]),
    sql`set constraints all immediate`,
  ];
  await askTogether(on, statements.map(once));
}
