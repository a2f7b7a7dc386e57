import { planCounting } from '../../core/analysis/tally.ts';
import type { Access } from '../../core/sql/access.ts';
import type { Executor } from '../connection.ts';
import { reachedByBits } from '../sweep/bits.ts';

/** What a caller may do with a record, as it is. A value sent unchanged counts as an update. */
export interface Rights {
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly share: boolean;
  readonly actions: readonly string[];
  /** `update FIELD` and actions that could not be decided for this record. */
  readonly undecided: readonly string[];
}

/** The same for several records, by id. Cost: one statement, and one more where conditions speak of no record. */
export async function rightsOn(
  on: Executor,
  { rulebook, caller, now }: Access,
  collection: string,
  ids: readonly string[],
): Promise<Record<string, Rights>> {
  if (ids.length === 0) return {};
  const plan = planCounting(rulebook, now, collection, [{ name: '', caller }], { unchanged: true });
  const reached = await reachedByBits(on, rulebook, now, plan, plan.callers[0]!, ids);
  return Object.fromEntries(
    [...reached].map(([id, { updatable, delete: deletes, share, actions, undecided }]) => [
      id,
      { update: updatable, delete: deletes, share, actions, undecided },
    ]),
  );
}
