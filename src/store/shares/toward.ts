import type { Shareable } from '../../core/decide/nodes.ts';
import { NAMED, type Share } from '../../core/decide/shares.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { recordKey, recordKeys } from '../../core/sql/identifiers.ts';
import { forgottenSql } from '../../core/sql/writes.ts';
import { runKept, run, type Executor } from '../connection.ts';

/** Groups of shares that reach a caller: those of one person, for the same operations, with the same target. */
interface Group {
  readonly collection: string;
  readonly operations: readonly Shareable[];
  readonly sharer: string;
  readonly records: readonly string[];
}

/**
 * What of these collections is shared with any of the targets at this moment, by somebody else than `person`. Whether the sharer
 * still may is not asked here. `all`: every record is named, for who evaluates without a database. Cost: an index look-up for each
 * collection and target, and one for each group, however many shares it has; with `all` a row for each share.
 */
export async function sharesToward(
  on: Executor,
  person: string | null,
  targets: readonly string[],
  collections: readonly string[],
  now: string,
  all: boolean,
): Promise<Share[]> {
  const next = (after: Fragment) =>
    sql`select s.sharer, s.operations from gate.shares as s
      where s.target = place.target and s.collection = place.collection and ${after} order by s.sharer, s.operations limit 1`;
  // As `namedOf` says.
  const most = all ? sql`null` : sql`${value(NAMED)}::integer / (select count(*) from reaching) + 1`;
  const groups = await runKept<Group>(
    on,
    sql`with recursive place as (
        select target, collection from unnest(${value(targets)}::text[]) as target, unnest(${value(collections)}::text[]) as collection
      ), found as (
        select place.target, place.collection, first.* from place cross join lateral (${next(sql`true`)}) as first
        union all
        select place.target, place.collection, next.* from found as place
          cross join lateral (${next(sql`(s.sharer, s.operations) > (place.sharer, place.operations)`)}) as next
      ), reaching as (select * from found where sharer is distinct from ${recordKey(person)})
      select found.collection, found.operations, found.sharer, array(
          select one.record from (
            select s.record, s.ends from gate.shares as s
              where s.target = found.target and s.collection = found.collection and s.sharer = found.sharer
                and s.operations = found.operations
              order by s.ends desc nulls first limit ${most}
          ) as one where one.ends is null or ${value(now)}::timestamptz < one.ends
        ) as records
      from reaching as found
      order by found.collection, found.sharer, found.operations, found.target`,
  );
  const named = all ? Infinity : namedOf(groups.length);
  return groups.flatMap(({ records, ...rest }): Share[] =>
    records.length < named ? records.map((record) => ({ ...rest, record })) : [{ ...rest, record: null }],
  );
}

/** Records that are read of each group: all groups together so many as are named, and one to tell that there are more. */
function namedOf(groups: number): number {
  return Math.floor(NAMED / Math.max(1, groups)) + 1;
}

/** With records their shares are gone. */
export async function forgetShares(
  on: Executor,
  collection: string,
  records: readonly string[],
): Promise<void> {
  await run(on, forgottenSql(collection, sql`select unnest(${recordKeys(records)})`));
}
