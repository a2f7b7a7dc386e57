import type { Reached } from '../../core/analysis/outcomes.ts';
import type { CallerPlan, CountingPlan } from '../../core/analysis/tally.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { recordBitsSql } from '../../core/sql/counting.ts';
import { run, type Executor } from '../connection.ts';
import { factsOf } from './counts.ts';

/** What the database says of single records: the conditions that counting goes by, asked of each. */
export async function reachedByBits(
  on: Executor,
  rulebook: Rulebook,
  now: string,
  { collection, common }: CountingPlan,
  plan: CallerPlan,
  ids: readonly string[],
): Promise<Map<string, Reached>> {
  const facts = await factsOf(on, rulebook, now, plan);
  const access = new Access(rulebook, plan.caller, now);
  const rows = await run<{ id: string; common: string; own: string }>(
    on,
    recordBitsSql(access, collection, ids, common, plan.own),
  );
  return new Map(rows.map(({ id, ...bits }) => [id, plan.decide({ ...bits, facts })]));
}
