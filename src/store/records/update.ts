import { driveAsync, type Steps } from '../../core/decide/steps/asking.ts';
import { acting, updating } from '../../core/decide/steps/change.ts';
import { meetingOf } from '../../core/decide/turns.ts';
import type { Verdict } from '../../core/decide/steps/verdict.ts';
import { plain } from '../../core/evaluate/decider.ts';
import type { Action } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { updateSql } from '../../core/sql/writes.ts';
import { collectionOf, tooLong } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import type { Executor } from '../connection.ts';
import { storeDriver, type Precondition } from './driver.ts';
import { done, refusalOf, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { readRecord, writeAndRead } from './read.ts';
import { refers, writing, type Meetings, type Supplied, type Writer } from './writing.ts';

/**
 * Changes a record: see `core/decide/steps/change.ts` for what is asked, and in which order. Answers the record as the
 * caller sees it now; null where the change took it out of their sight.
 */
export async function updateRecord(
  on: Executor,
  who: Writer,
  collection: string,
  id: string,
  supplied: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const { fields } = collectionOf(who.rulebook.schema, collection);
  const { rulebook } = who;
  const meetings: Meetings = (caller) =>
    meetingOf(rulebook, caller, collection, ['update'], refers(fields, supplied));
  return changing(on, who, collection, id, supplied, meetings, precondition, (access) =>
    updating(access.rulebook, access.permission('update', collection), supplied, plain),
  );
}

/** Carries out an action of the application's own. `given` holds the parameters, each of its type. */
export async function actOn(
  on: Executor,
  who: Writer,
  action: Action,
  id: string,
  given: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const { collection, name, parameters } = action;
  const { rulebook } = who;
  const meetings: Meetings = (caller) =>
    meetingOf(rulebook, caller, collection, [name, 'update'], refers(parameters, given));
  return changing(on, who, collection, id, new Map(), meetings, precondition, (access) =>
    acting(access.rulebook, access.permission(name, collection), action, given, plain),
  );
}

async function changing(
  on: Executor,
  who: Writer,
  collection: string,
  id: string,
  supplied: Supplied,
  meetings: Meetings,
  precondition: Precondition,
  steps: (access: Access) => Steps<Value, Verdict<Value>>,
): Promise<Outcome<VisibleRecord | null>> {
  return writing(on, collection, supplied, who, meetings, async (transaction, access) => {
    const driver = storeDriver(transaction, access, collection, id, precondition);
    const verdict = await driveAsync(steps(access), driver);
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    const definition = collectionOf(access.rulebook.schema, collection);
    const long = tooLong(definition, verdict.values);
    if (long.length > 0)
      return refuse({ kind: 'value too large', fields: long.filter((name) => supplied.has(name)) });
    if (verdict.values.size === 0) return done(await readRecord(transaction, access, collection, id));
    const update = updateSql(definition, id, verdict.values);
    return done(await writeAndRead(transaction, access, update, collection, id));
  });
}
