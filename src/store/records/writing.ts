import { leavesOf } from '../../core/decide/nodes.ts';
import { collectionsRead } from '../../core/ir/conditions.ts';
import type { Access } from '../../core/sql/access.ts';
import type { Operation } from '../../core/ir/rulebook.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Type, Value } from '../../core/types/types.ts';
import type { Executor } from '../connection.ts';
import { DatabaseUnavailable, classify } from '../failures.ts';
import { fieldOfConstraint } from '../publish/names.ts';
import { refuse, type Outcome } from './outcome.ts';

/** What the caller wants written: values by field, each of its type. */
export type Supplied = ReadonlyMap<string, Value>;

/** How often a write that met another one at the same moment is tried before it is given up. */
const ATTEMPTS = 8;

/** Thrown to leave a transaction with nothing written; carries the answer out. */
class Refused<T> extends Error {
  readonly outcome: Outcome<T>;

  constructor(outcome: Outcome<T>) {
    super('refused');
    this.outcome = outcome;
  }
}

/**
 * Carries out one write: all of it or nothing. Where its conditions look at other records it runs serializable, so
 * that no two writes can be right alone and wrong together; what PostgreSQL turns back is tried again.
 * Within a transaction (a rehearsal) the work is done as it is, and whoever asked takes it back, whatever the answer.
 * There must be no savepoint around it that is released: whoever waits for a row that was locked in one would wait
 * for the end of the whole transaction, also after everything was taken back.
 */
export async function writing<T>(
  on: Executor,
  collection: string,
  supplied: Supplied,
  serializable: boolean,
  work: (transaction: Executor) => Promise<Outcome<T>>,
): Promise<Outcome<T>> {
  const inner = on.isTransaction === true;
  for (let attempt = 1; ; attempt++) {
    try {
      if (inner) return await work(on);
      return await on.transaction(
        async (transaction) => {
          const outcome = await work(transaction);
          if (!outcome.ok) throw new Refused(outcome);
          return outcome;
        },
        serializable ? { isolationLevel: 'serializable' } : {},
      );
    } catch (error) {
      if (error instanceof Refused) return error.outcome as Outcome<T>;
      const failure = classify(error);
      switch (failure.kind) {
        case 'conflict':
          if (inner || attempt >= ATTEMPTS)
            throw new DatabaseUnavailable('too many writes at the same moment');
          await new Promise((resolve) => setTimeout(resolve, 2 ** attempt * Math.random()));
          continue;
        case 'unique': {
          const field = fieldOfConstraint(collection, failure.constraint);
          // A field that the caller did not supply is not named: its value came from a stamp or a default.
          return refuse({
            kind: 'value taken',
            fields: field !== null && supplied.has(field) ? [field] : [],
          });
        }
        case 'required':
          // Only what the service fills in itself can come to this: a stamp that is missing.
          return refuse({ kind: 'value required', fields: [failure.constraint] });
        case 'reference': {
          const field = fieldOfConstraint(collection, failure.constraint);
          if (field !== null && supplied.has(field))
            return refuse({ kind: 'reference not found', fields: [field] });
          return refuse({ kind: 'still referenced' });
        }
        default:
          throw error;
      }
    }
  }
}

/** Must a write of this kind run serializable? Where any condition that decides it looks beyond the record. */
export function needsSerializable(
  access: Access,
  collection: string,
  operations: readonly Operation[],
  supplied: Supplied,
  types: Types = collectionOf(access.rulebook.schema, collection).fields,
): boolean {
  const refers = [...supplied].some(([name, id]) => types.get(name)!.type.kind === 'ref' && id !== null);
  if (refers) return true;
  return ['read', ...operations].some((operation) => {
    const { grounds, barriers } = access.permission(operation, collection);
    const asked = leavesOf([...grounds, ...barriers].map(({ node }) => node));
    return asked.some(({ when }) => collectionsRead(when).size > 0);
  });
}

/** The types of what can be supplied: fields, or the parameters of an action. */
type Types = ReadonlyMap<string, { readonly type: Type }>;
