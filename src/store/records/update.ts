import { driveAsync } from '../../core/decide/steps/asking.ts';
import { acting, updating } from '../../core/decide/steps/change.ts';
import { meetingOf } from '../../core/decide/turns.ts';
import { plain } from '../../core/evaluate/decider.ts';
import type { Action, Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { updateSql } from '../../core/sql/writes.ts';
import { collectionOf, tooLong } from '../../core/types/schema.ts';
import type { Executor } from '../connection.ts';
import { noPrecondition, storeDriver, type Precondition } from './driver.ts';
import { done, refusalOf, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { readRecord, writeAndRead } from './read.ts';
import type { Write } from './single.ts';
import { refers, written, type Supplied, type Writer } from './writing.ts';

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
  precondition: Precondition = noPrecondition,
): Promise<Outcome<VisibleRecord | null>> {
  return changing(on, who, precondition, updateOf(who.rulebook, collection, id, supplied));
}

export function updateOf(rulebook: Rulebook, collection: string, id: string, supplied: Supplied): Write {
  const { fields } = collectionOf(rulebook.schema, collection);
  return {
    operation: 'update',
    collection,
    id,
    supplied,
    types: fields,
    meetings: (caller) => meetingOf(rulebook, caller, collection, ['update'], refers(fields, supplied)),
    steps: (access, values, _, held) =>
      updating(access.rulebook, access.permission('update', collection), values, held),
  };
}

/** Carries out an action of the application's own. `given` holds the parameters, each of its type. */
export async function actOn(
  on: Executor,
  who: Writer,
  action: Action,
  id: string,
  given: Supplied,
  precondition: Precondition = noPrecondition,
): Promise<Outcome<VisibleRecord | null>> {
  return changing(on, who, precondition, actionOf(who.rulebook, action, id, given));
}

export function actionOf(rulebook: Rulebook, action: Action, id: string, given: Supplied): Write {
  const { collection, name, parameters } = action;
  return {
    operation: name,
    collection,
    id,
    supplied: given,
    types: parameters,
    meetings: (caller) =>
      meetingOf(rulebook, caller, collection, [name, 'update'], refers(parameters, given)),
    steps: (access, values, _, held) =>
      acting(access.rulebook, access.permission(name, collection), action, values, held),
  };
}

async function changing(
  on: Executor,
  who: Writer,
  precondition: Precondition,
  write: Write,
): Promise<Outcome<VisibleRecord | null>> {
  const { operation, collection, id, supplied } = write;
  const oneByOne = async (transaction: Executor, access: Access): Promise<Outcome<VisibleRecord | null>> => {
    const driver = storeDriver(transaction, access, collection, id, precondition);
    const verdict = await driveAsync(write.steps(access, supplied, id, plain), driver);
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    const definition = collectionOf(access.rulebook.schema, collection);
    const long = tooLong(definition, verdict.values);
    if (long.length > 0)
      return refuse({
        kind: 'value too large',
        // Of an action nothing is a field that the caller supplied.
        fields: operation === 'update' ? long.filter((name) => supplied.has(name)) : [],
      });
    if (verdict.values.size === 0) return done(await readRecord(transaction, access, collection, id));
    const update = updateSql(definition, id, verdict.values);
    return done(await writeAndRead(transaction, access, update, collection, id));
  };
  return written(on, who, write, oneByOne, precondition === noPrecondition ? ({ record }) => record : null);
}
