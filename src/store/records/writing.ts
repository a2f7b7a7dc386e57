import type { Access } from '../../core/sql/access.ts';
import type { RuleFlags } from '../../core/sql/writes.ts';
import { looksAtOthers, referencesSql } from '../../core/sql/writes.ts';
import type { Holds } from '../../core/evaluate/combine.ts';
import { grantsFor } from '../../core/evaluate/combine.ts';
import type { Operation } from '../../core/ir/rulebook.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Type, Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
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
  if (suppliedReferences(types, supplied).length > 0) return true;
  const asked = ['read', ...operations].flatMap((each) => {
    const { rules, fences } = grantsFor(access.rulebook, access.caller, collection, each);
    return [...rules, ...fences];
  });
  return looksAtOthers(asked.map((each) => each.when));
}

/** The supplied references that point at nothing the caller may read. */
export async function unreadableReferences(
  on: Executor,
  access: Access,
  types: Types,
  supplied: Supplied,
): Promise<string[]> {
  const references = suppliedReferences(types, supplied);
  if (references.length === 0) return [];
  const [found] = await run<Record<string, boolean>>(on, referencesSql(access, references));
  return references
    .filter((_, index) => found![`found_${index}`] !== true)
    .map((reference) => reference.field);
}

/** The types of what can be supplied: fields, or the parameters of an action. */
type Types = ReadonlyMap<string, { readonly type: Type }>;

function suppliedReferences(types: Types, supplied: Supplied) {
  return [...supplied].flatMap(([name, id]) => {
    const { type } = types.get(name)!;
    return type.kind === 'ref' && id !== null
      ? [{ field: name, collection: type.collection, id: id as string }]
      : [];
  });
}

/** Asks the database which rules and fences are true. One counts where every one of `sides` is true for it. */
export async function truthOf(
  on: Executor,
  flags: RuleFlags,
  sides: readonly ('before' | 'after')[],
): Promise<Holds> {
  if (flags.asked.length === 0) return () => false;
  const [row] = await run<Record<string, boolean>>(on, flags.statement);
  const real = new Set(
    flags.asked.filter((_, index) => sides.every((side) => row?.[`${side}_${index}`] === true)),
  );
  return (asked) => real.has(asked);
}
