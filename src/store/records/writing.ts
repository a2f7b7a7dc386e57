import type { Caller } from '../../core/decide/caller.ts';
import { suffices, type Meeting } from '../../core/decide/turns.ts';
import { isBuiltIn, type Rulebook } from '../../core/ir/rulebook.ts';
import { collectionOf, type Collection } from '../../core/types/schema.ts';
import type { Access } from '../../core/sql/access.ts';
import { JsonPatch, type Type, type Value } from '../../core/types/types.ts';
import type { Database, Executor } from '../connection.ts';
import { DatabaseUnavailable, classify } from '../failures.ts';
import { tallies } from '../tallies.ts';
import { fieldOfConstraint } from '../publish/names.ts';
import { done, refuse, type Outcome } from './outcome.ts';
import { writtenAtOnce, type Guess, type Write, type Written } from './single.ts';
import { inTurn } from './turns.ts';

/** What the caller wants written: values by field, each of its type. */
export type Supplied = ReadonlyMap<string, Value>;

/** How often a write that met another one at the same moment is tried before it is given up. */
const ATTEMPTS = 12;
/** And before it waits for its turn, where it need not from the start. */
const ATTEMPTS_OUT_OF_TURN = 3;

/** Thrown to leave a transaction with nothing written; carries the answer out. */
class Refused<T> extends Error {
  readonly outcome: Outcome<T>;

  constructor(outcome: Outcome<T>) {
    super('refused');
    this.outcome = outcome;
  }
}

/**
 * Who writes: somebody who is known already (within a transaction that sees nothing new), or somebody to be asked anew in the
 * transaction of the write: whether they are active, their roles, their attributes, what is shared with them, and by whom.
 * `before`: who they were when last asked, by which it is guessed what the write may meet.
 */
export type Writer =
  | Access
  | {
      readonly rulebook: Rulebook;
      readonly before: Caller;
      /** The same, to write as them while it is found out whether they are so still. */
      readonly guess?: Guess | null;
      /** Holds the version in force, too, before anything of it is looked at. */
      readonly arrive: (transaction: Executor) => Promise<Access>;
    };

/** Whoever writes, as they are within this transaction. */
export async function arrivedIn(transaction: Executor, who: Writer): Promise<Access> {
  if (!('arrive' in who)) return who;
  return who.arrive(transaction);
}

/** What a write may meet, by who asks. */
export type Meetings = (caller: Caller) => Meeting;

/**
 * Carries out a write: at once, where it is guessed who writes, and otherwise step by step. `atOnce`: what comes of it then; null where
 * there is more to be asked of the record than its rules.
 */
export async function written<T>(
  on: Executor,
  who: Writer,
  write: Write,
  work: (transaction: Executor, access: Access) => Promise<Outcome<T>>,
  atOnce: ((written: Written) => T) | null,
): Promise<Outcome<T>> {
  const guess = 'arrive' in who ? (who.guess ?? null) : null;
  if (guess !== null && atOnce !== null && on.isTransaction !== true) {
    const made = await writtenAtOnce(on, guess, write);
    if (made !== null) return done(atOnce(made));
  }
  tallies.writes.byStep++;
  // Of an action nothing is a field that the caller supplied.
  const supplied: Supplied = isBuiltIn(write.operation) ? write.supplied : new Map();
  return writing(on, write.collection, supplied, who, write.meetings, work);
}

/**
 * Carries out one write step by step: all of it or nothing. Where its conditions look at other records it runs serializable, so
 * that no two writes can be right alone and wrong together; what PostgreSQL turns back is tried again. Writes that would often
 * turn each other back take turns, and so do those that were turned back: see `turns.ts`.
 * Within a transaction (a rehearsal) the work is done as it is, and whoever asked takes it back, whatever the answer.
 * There must be no savepoint around it that is released: whoever waits for a row that was locked in one would wait
 * for the end of the whole transaction, also after everything was taken back.
 */
export async function writing<T>(
  on: Executor,
  collection: string,
  supplied: Supplied,
  who: Writer,
  meetings: Meetings,
  work: (transaction: Executor, access: Access) => Promise<Outcome<T>>,
): Promise<Outcome<T>> {
  const definition = collectionOf(who.rulebook.schema, collection);
  if (on.isTransaction === true)
    return trying(definition, supplied, 1, async () => work(on, await arrivedIn(on, who)));
  const guessed = meetings('arrive' in who ? who.before : who.caller);
  const asKnown = async (transaction: Executor, meeting: Meeting) => {
    const access = await arrivedIn(transaction, who);
    // Somebody who holds another role by now may meet more than was thought: it starts over.
    const met = meetings(access.caller);
    if (!suffices(meeting, met)) throw new MeetsMore(met);
    return work(transaction, access);
  };
  for (let meeting = guessed; ;) {
    try {
      return await inTransaction(on, definition, supplied, meeting, asKnown);
    } catch (error) {
      if (!(error instanceof MeetsMore)) throw error;
      // Each time it is more, and there are three kinds.
      meeting = error.meeting;
    }
  }
}

/** The write meets more than its transaction was begun for. */
class MeetsMore extends Error {
  readonly meeting: Meeting;

  constructor(meeting: Meeting) {
    super('the write meets more');
    this.meeting = meeting;
  }
}

async function inTransaction<T>(
  on: Executor,
  collection: Collection,
  supplied: Supplied,
  meeting: Meeting,
  work: (transaction: Executor, meeting: Meeting) => Promise<Outcome<T>>,
): Promise<Outcome<T>> {
  const attempt = (connection: unknown) =>
    on.transaction(
      async (transaction) => {
        const outcome = await work(transaction, meeting);
        if (!outcome.ok) throw new Refused(outcome);
        return outcome;
      },
      {
        ...(meeting.kind === 'alone' ? {} : { isolationLevel: 'serializable' as const }),
        ...(connection === null ? {} : { connection }),
      },
    );
  if (meeting.kind === 'alone') return trying(collection, supplied, ATTEMPTS, () => attempt(null));
  if (meeting.kind === 'others')
    try {
      return await trying(collection, supplied, ATTEMPTS_OUT_OF_TURN, () => attempt(null));
    } catch (error) {
      if (!(error instanceof MetOthers)) throw error;
    }
  return inTurn(on as Database, meeting.group, (connection) =>
    trying(collection, supplied, ATTEMPTS, () => attempt(connection)),
  );
}

/** Every attempt met another write at the same moment. */
class MetOthers extends DatabaseUnavailable {}

async function trying<T>(
  collection: Collection,
  supplied: Supplied,
  attempts: number,
  work: () => Promise<Outcome<T>>,
): Promise<Outcome<T>> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await work();
    } catch (error) {
      if (error instanceof Refused) return error.outcome as Outcome<T>;
      const failure = classify(error);
      switch (failure.kind) {
        case 'conflict':
          if (attempt >= attempts) throw new MetOthers('too many writes at the same moment');
          await new Promise((resolve) => setTimeout(resolve, 2 ** attempt * Math.random()));
          continue;
        case 'unique':
          return refuse({ kind: 'value taken', fields: suppliedAmong(supplied, collection, failure) });
        case 'required':
          // Only what the service fills in itself can come to this: a stamp that is missing.
          return refuse({
            kind: 'value required',
            fields: [fieldOfConstraint(collection, failure)].flatMap((field) => field ?? []),
          });
        case 'reference': {
          const fields = suppliedAmong(supplied, collection, failure);
          return refuse(
            fields.length > 0 ? { kind: 'reference not found', fields } : { kind: 'still referenced' },
          );
        }
        case 'too large':
          return refuse({ kind: 'value too large', fields: largeOf(supplied) });
        default:
          throw error;
      }
    }
  }
}

/** The field that stood in the way; none where the caller did not supply it: its value came from a stamp or a default, and is not named. */
function suppliedAmong(
  supplied: Supplied,
  collection: Collection,
  failure: Parameters<typeof fieldOfConstraint>[1],
): string[] {
  const field = fieldOfConstraint(collection, failure);
  return [...supplied.keys()].filter((name) => name === field);
}

/** The fields of the caller’s own that are long enough to be what an index, or a JSON value, cannot hold. */
function largeOf(supplied: Supplied): string[] {
  const isLarge = (given: Value) =>
    given instanceof JsonPatch || (typeof given === 'string' && given.length > 600);
  return [...supplied].filter(([, given]) => isLarge(given)).map(([name]) => name);
}

/** Does a request give a reference? Then what it points at is looked at. */
export function refers(types: Types, supplied: Supplied): boolean {
  return [...supplied].some(([name, id]) => types.get(name)?.type.kind === 'ref' && id !== null);
}

/** The types of what can be supplied: fields, or the parameters of an action. */
type Types = ReadonlyMap<string, { readonly type: Type }>;
