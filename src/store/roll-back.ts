import { sql } from '../core/sql/fragment.ts';
import { run, type Executor } from './connection.ts';
import { DatabaseUnavailable, classify } from './failures.ts';

/** Thrown to leave a transaction: everything that it did is taken back. */
class RollBack extends Error {}

/** How often work that met other work at the same records is done anew. */
const ATTEMPTS = 8;

/**
 * The same for work that may meet other such work: what locks the same records in another order is turned back by
 * PostgreSQL, and done anew.
 */
export async function rolledBackAnew<T>(
  on: Executor,
  work: (transaction: Executor) => Promise<T>,
  options: { readonly isolationLevel?: 'repeatable read' } = {},
): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await rolledBack(on, work, options);
    } catch (error) {
      const conflict = error instanceof DatabaseUnavailable || classify(error).kind === 'conflict';
      if (!conflict || attempt === ATTEMPTS) throw error;
      await new Promise((resolve) => setTimeout(resolve, 10 * attempt * Math.random()));
    }
  }
}

/**
 * Does the work in a transaction that is always taken back, and answers what it answered. Within a transaction a savepoint
 * takes its place, which is gone afterwards with all its locks: one that is only gone back to would stay, and those after
 * it would pile up on it.
 */
export async function rolledBack<T>(
  on: Executor,
  work: (transaction: Executor) => Promise<T>,
  options: { readonly isolationLevel?: 'repeatable read' } = {},
): Promise<T> {
  if (on.isTransaction === true) return inSavepoint(on, work);
  let answer: { readonly value: T } | null = null;
  try {
    await on.transaction(async (transaction) => {
      answer = { value: await work(transaction) };
      throw new RollBack();
    }, options);
  } catch (error) {
    if (!(error instanceof RollBack)) throw error;
  }
  return (answer as unknown as { readonly value: T }).value;
}

async function inSavepoint<T>(on: Executor, work: (transaction: Executor) => Promise<T>): Promise<T> {
  await run(on, sql`savepoint rehearsal`);
  let answer: T;
  try {
    answer = await work(on);
  } catch (error) {
    // Where the connection itself is gone, what went wrong first says more.
    await takeBack(on).catch(() => undefined);
    throw error;
  }
  await takeBack(on);
  return answer;
}

/** Of savepoints of one name the last is meant, which is the innermost. */
async function takeBack(on: Executor): Promise<void> {
  await run(on, sql`rollback to savepoint rehearsal`);
  await run(on, sql`release savepoint rehearsal`);
}
