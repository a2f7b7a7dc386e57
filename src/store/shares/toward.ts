import type { Share } from '../../core/decide/shares.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { runKept, run, type Executor } from '../connection.ts';

/**
 * What is shared with somebody at this moment: with them, with a role that they hold, with all people, or with everybody;
 * `person` null: the visitor. Whether the sharer still may is not asked here. Cost: an index look-up for each way.
 */
export async function sharesToward(
  on: Executor,
  person: string | null,
  roles: readonly string[],
  now: string,
): Promise<Share[]> {
  const toward =
    person === null
      ? sql`audience = 'everybody'`
      : sql`(person = ${value(person)}::uuid or role = any(${value(roles)}::text[]) or audience in ('people', 'everybody'))`;
  return runKept<Share>(
    on,
    sql`select collection, record, operations, sharer from gate.shares
      where ${toward} and (ends is null or ${value(now)}::timestamptz < ends) and sharer is distinct from ${value(person)}::uuid
      order by created_at, id`,
  );
}

/** With a record its shares are gone. Ids never come again, so one that stayed would give nothing either. */
export async function forgetShares(
  on: Executor,
  collection: string,
  records: readonly string[],
): Promise<void> {
  await run(
    on,
    sql`delete from gate.shares where collection = ${value(collection)} and record = any(${value(records)}::uuid[])`,
  );
}
