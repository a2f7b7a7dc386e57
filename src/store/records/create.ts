import { v7 as uuid } from 'uuid';
import { driveAsync } from '../../core/decide/steps/asking.ts';
import { creating } from '../../core/decide/steps/create.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { meetingOf } from '../../core/decide/turns.ts';
import { plain } from '../../core/evaluate/decider.ts';
import { insertSql } from '../../core/sql/writes.ts';
import { collectionOf, tooLong } from '../../core/types/schema.ts';
import type { Access } from '../../core/sql/access.ts';
import type { Executor } from '../connection.ts';
import { storeDriver } from './driver.ts';
import { done, refusalOf, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { writeAndRead } from './read.ts';
import type { Write } from './single.ts';
import { refers, written, type Supplied, type Writer } from './writing.ts';

/** A record that was made; null where the caller may make it and may not read it. */
export interface Created {
  readonly id: string;
  readonly record: VisibleRecord | null;
}

/** Makes a record: see `core/decide/steps/create.ts` for what is asked, and in which order. */
export async function createRecord(
  on: Executor,
  who: Writer,
  collection: string,
  supplied: Supplied,
): Promise<Outcome<Created>> {
  const { rulebook } = who;
  const write = createOf(rulebook, collection, supplied);
  const { id } = write;
  const oneByOne = async (transaction: Executor, access: Access): Promise<Outcome<Created>> => {
    const verdict = await driveAsync(
      write.steps(access, supplied, id, plain),
      storeDriver(transaction, access, collection, null, () => true),
    );
    if (!verdict.allowed) return refuse(refusalOf(verdict));
    const definition = collectionOf(rulebook.schema, collection);
    // What comes by HTTP has been measured; what a trial supplies has not, and a stamp may be longer, too.
    const long = tooLong(definition, verdict.values);
    if (long.length > 0)
      return refuse({ kind: 'value too large', fields: long.filter((name) => supplied.has(name)) });
    const insert = insertSql(definition, verdict.values);
    return done({ id, record: await writeAndRead(transaction, access, insert, collection, id) });
  };
  return written(on, who, write, oneByOne, ({ record }) => ({ id, record }));
}

/** With an id of its own each time. */
export function createOf(rulebook: Rulebook, collection: string, supplied: Supplied): Write {
  const { fields } = collectionOf(rulebook.schema, collection);
  return {
    operation: 'create',
    collection,
    id: uuid(),
    supplied,
    types: fields,
    meetings: (caller) => meetingOf(rulebook, caller, collection, ['create'], refers(fields, supplied)),
    steps: (access, values, key, held) =>
      creating(rulebook, access.permission('create', collection), values, key, held),
  };
}
