import type { z } from 'zod';
import type { RehearsedDocument, rehearseRequestSchema } from '../../client/schemas/rehearse.ts';
import { actionKey, type Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { JsonDocument, type Value } from '../../core/types/types.ts';
import { arrive } from '../../store/callers.ts';
import { passing, type Database, type Executor } from '../../store/connection.ts';
import { holdIdentities, syncIdentities, writingIdentities, type Tried } from '../../store/publish/index.ts';
import { createRecord } from '../../store/records/create.ts';
import { deleteRecord } from '../../store/records/delete.ts';
import type { Outcome, VisibleRecord } from '../../store/records/outcome.ts';
import { actOn, updateRecord } from '../../store/records/update.ts';
import { rolledBackAnew } from '../../store/roll-back.ts';
import { sameIdentities } from '../../store/trials/index.ts';
import { Problem } from '../problems/problem.ts';
import { recordDocument, refusalProblem } from './records.ts';
import { credentialsOf } from './who.ts';
import { knownName, whyQuestion } from './why.ts';

type Asked = Omit<z.infer<typeof rehearseRequestSchema>, 'files'>;

/**
 * A write as a test identity, by the functions that serve real requests, answered as it goes over HTTP and taken back; or, where it
 * `stays`, carried out. `shows`: is the record shown that comes of it? By a draft it may be what nobody sees in force.
 */
export async function rehearsalAnswer(
  database: Database,
  { rulebook, enter, left }: Tried,
  inForce: Rulebook,
  { as, stays = false, ...asked }: Asked,
  shows: boolean,
): Promise<RehearsedDocument> {
  knownName('as', as, [...rulebook.identities.keys(), 'visitor'], 'test identity');
  const { operation } = asked;
  if (operation === 'read' || operation === 'share')
    throw new Problem('malformed-request', {
      errors: [
        {
          message: `${operation} is not rehearsed: name create, update, delete or an action`,
          field: 'operation',
        },
      ],
    });
  const { id, values, collection } = await whyQuestion(database, rulebook, asked);
  const work = async (on: Executor): Promise<Pick<RehearsedDocument, 'status' | 'body' | 'hidden'>> => {
    const arrival = await arrive(on, rulebook, credentialsOf(as), { holding: stays });
    if (arrival === null) return refused(new Problem('invalid-token'));
    // What stays is decided by the rules in force, and by no others.
    if (stays && arrival.version !== rulebook.version) throw new Problem('other-version');
    const access = new Access(rulebook, arrival.caller, arrival.now);
    const outcome = await write(on, access, { operation, collection, id, values });
    if (!outcome.ok) return refused(refusalProblem(outcome.refusal));
    const { status, record, made } = outcome.value;
    if (record === null) return { status, body: made === null ? null : { id: made }, hidden: false };
    if (shows) return { status, body: recordDocument(record), hidden: false };
    return {
      status,
      body: { fields: [...record.shown.keys()], _withheld: [...record.withheld] },
      hidden: true,
    };
  };
  const others = !sameIdentities(rulebook, inForce);
  const answer = stays
    ? await database.transaction(work)
    : await writingIdentities(database, others, () =>
        rolledBackAnew(rulebook === inForce ? database : passing(database), async (on) => {
          if (others) await holdIdentities(on);
          await enter(on);
          if (others) await syncIdentities(on, rulebook);
          return work(on);
        }),
      );
  return { ...answer, request: requestOf({ operation, collection, id, values }), left: [...left] };
}

function refused(problem: Problem) {
  return { status: problem.status, body: { ...problem.document(undefined) }, hidden: false };
}

interface Write {
  readonly operation: string;
  readonly collection: string;
  readonly id: string | null;
  readonly values: ReadonlyMap<string, Value>;
}

async function write(
  on: Executor,
  access: Access,
  { operation, collection, id, values }: Write,
): Promise<Outcome<{ status: number; record: VisibleRecord | null; made: string | null }>> {
  const answered = (status: number, record: VisibleRecord | null, made: string | null = null) =>
    ({ ok: true, value: { status, record, made } }) as const;
  switch (operation) {
    case 'create': {
      const outcome = await createRecord(on, access, collection, values);
      return outcome.ok ? answered(201, outcome.value.record, outcome.value.id) : outcome;
    }
    case 'update': {
      const outcome = await updateRecord(on, access, collection, id!, values);
      return outcome.ok ? answered(outcome.value === null ? 204 : 200, outcome.value) : outcome;
    }
    case 'delete': {
      const outcome = await deleteRecord(on, access, collection, id!);
      return outcome.ok ? answered(204, null) : outcome;
    }
    default: {
      const action = access.rulebook.actions.get(actionKey(collection, operation))!;
      const outcome = await actOn(on, access, action, id!, values);
      return outcome.ok ? answered(outcome.value === null ? 204 : 200, outcome.value) : outcome;
    }
  }
}

/** What a program would send. */
function requestOf({ operation, collection, id, values }: Write): RehearsedDocument['request'] {
  const body = Object.fromEntries(
    [...values].map(([name, value]) => [name, value instanceof JsonDocument ? value.json : value]),
  );
  const of = `/v1/records/${collection}`;
  switch (operation) {
    case 'create':
      return { method: 'POST', path: of, body };
    case 'update':
      return { method: 'PATCH', path: `${of}/${id}`, body };
    case 'delete':
      return { method: 'DELETE', path: `${of}/${id}`, body: null };
    default:
      return { method: 'POST', path: `${of}/${id}/actions/${operation}`, body };
  }
}
