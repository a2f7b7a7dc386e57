import type { Executor } from './connection.ts';

/** Thrown to leave a transaction: everything that it did is taken back. */
export class RollBack extends Error {}

/** Does the work in a transaction (or a savepoint) that is always taken back, and answers what it answered. */
export async function rolledBack<T>(
  on: Executor,
  work: (transaction: Executor) => Promise<T>,
  options: { readonly isolationLevel?: 'repeatable read' } = {},
): Promise<T> {
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
