import { driveAsync, type Steps } from '../../core/decide/steps/asking.ts';
import { acting, updating } from '../../core/decide/steps/change.ts';
import type { Verdict } from '../../core/decide/steps/verdict.ts';
import { plain } from '../../core/evaluate/decider.ts';
import type { Action } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { updateSql } from '../../core/sql/writes.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { storeDriver, type Precondition } from './driver.ts';
import { done, refusalOf, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { readRecord } from './read.ts';
import { needsSerializable, writing, type Supplied } from './writing.ts';

/**
 * Changes a record: see `core/decide/steps/change.ts` for what is asked, and in which order. Answers the record as the
 * caller sees it now; null where the change took it out of their sight.
 */
export async function updateRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  supplied: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const steps = () => updating(access.rulebook, access.permission('update', collection), supplied, plain);
  const serializable = needsSerializable(access, collection, ['update'], supplied);
  return changing(on, access, collection, id, supplied, serializable, precondition, steps);
}

/** Carries out an action of the application's own. `given` holds the parameters, each of its type. */
export async function actOn(
  on: Executor,
  access: Access,
  action: Action,
  id: string,
  given: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const { collection, name, parameters } = action;
  const steps = () => acting(access.rulebook, access.permission(name, collection), action, given, plain);
  const serializable = needsSerializable(access, collection, [name], given, parameters);
  return changing(on, access, collection, id, new Map(), serializable, precondition, steps);
}

async function changing(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  supplied: Supplied,
  serializable: boolean,
  precondition: Precondition,
  steps: () => Steps<Value, Verdict<Value>>,
): Promise<Outcome<VisibleRecord | null>> {
  return writing(on, collection, supplied, serializable, async (transaction) => {
    const verdict = await driveAsync(steps(), storeDriver(transaction, access, collection, id, precondition));
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    const definition = collectionOf(access.rulebook.schema, collection);
    if (verdict.values.size > 0) await run(transaction, updateSql(definition, id, verdict.values));
    return done(await readRecord(transaction, access, collection, id));
  });
}
