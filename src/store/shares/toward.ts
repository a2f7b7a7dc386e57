import type { Shareable } from '../../core/decide/nodes.ts';
import { NAMED, type Share } from '../../core/decide/shares.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { recordKey } from '../../core/sql/identifiers.ts';
import { runKept, type Executor } from '../connection.ts';

/** Whom shares reach, and of which collections they are asked for. */
export interface Reached {
  /** Themself: what they share with others is none. Null for a visitor. */
  readonly person: string | null;
  /** See `targetsOf`. */
  readonly targets: readonly string[];
  readonly collections: readonly string[];
}

/** Groups of shares that reach a caller: those of one person, for the same operations, with the same target. */
export interface Group {
  readonly collection: string;
  readonly operations: readonly Shareable[];
  readonly sharer: string;
  /** Null: more than are named. */
  readonly records: readonly string[] | null;
  /** All of it as one text: whoever is told the same is reached by the same. */
  readonly _said: string;
}

/** The groups in the order in which they are told. */
const ORDER = sql`g.collection, g.sharer, g.operations, g.target`;

/**
 * What of these collections is shared with any of the targets at this moment, by somebody else than the person. Whether the sharer
 * still may is not asked here. `all`: every record is named, for who evaluates without a database. Cost: an index look-up for each
 * collection and target, and one for each group, however many shares it has; with `all` a row for each share.
 */
export async function sharesToward(
  on: Executor,
  reached: Reached,
  now: string,
  all: boolean,
): Promise<readonly Group[]> {
  const parts = groupParts(reached, sql`${value(now)}::timestamptz`, all);
  return runKept<Group>(
    on,
    sql`with recursive ${parts} select g.*, g::text as _said from groups as g order by ${ORDER}`,
  );
}

/** The shares of groups, one by one. */
export function sharesOf(groups: readonly Group[]): Share[] {
  return groups.flatMap(({ records, collection, operations, sharer }): Share[] => {
    const each = { collection, operations, sharer };
    return records === null ? [{ ...each, record: null }] : records.map((record) => ({ ...each, record }));
  });
}

/** The texts of all groups as one, as `saidOfShares` puts them together; and of those who share them, found by their ids with `sharers`. */
export function sharedSaidSql(
  reached: Reached,
  now: Fragment,
  sharers: (ids: Fragment) => Fragment,
): Fragment {
  const groups = sql`select string_agg(g::text, ' ' order by ${ORDER}) from groups as g`;
  const people = sql`select string_agg(a::text, ' ' order by a.id) from (${sharers(sql`array(select g.sharer from groups as g)`)}) as a`;
  return sql`(with recursive ${groupParts(reached, now, false)} select concat_ws(' ', (${groups}), (${people})))`;
}

/** What a caller was told of the groups and of those who share them: the latter by id, in that order. */
export function saidOfShares(groups: readonly Group[], sharers: ReadonlyMap<string, string>): string {
  const ids = [...new Set(groups.map(({ sharer }) => sharer))].toSorted();
  const people = ids.flatMap((id) => sharers.get(id) ?? []);
  return [...groups.map(({ _said }) => _said), ...people].join(' ');
}

/** Parts of a “with”, the last of which is `groups`. */
function groupParts({ person, targets, collections }: Reached, now: Fragment, all: boolean): Fragment {
  const next = (after: Fragment) =>
    sql`select s.sharer, s.operations from gate.shares as s
      where s.target = place.target and s.collection = place.collection and ${after} order by s.sharer, s.operations limit 1`;
  // All groups together are read as far as records are named, and one record more of each tells that there are more.
  const most = all ? sql`null::bigint` : sql`${value(NAMED)}::integer / (select count(*) from reaching) + 1`;
  return sql`place as (
      select target, collection from unnest(${value(targets)}::text[]) as target, unnest(${value(collections)}::text[]) as collection
    ), found as (
      select place.target, place.collection, first.* from place cross join lateral (${next(sql`true`)}) as first
      union all
      select place.target, place.collection, next.* from found as place
        cross join lateral (${next(sql`(s.sharer, s.operations) > (place.sharer, place.operations)`)}) as next
    ), reaching as (
      select * from found where sharer is distinct from ${recordKey(person)}
    ), groups as materialized (
      select found.collection, found.operations, found.sharer, found.target,
        case when coalesce(cardinality(live.records) < ${most}, true) then live.records end as records
      from reaching as found cross join lateral (
        select array(
          select one.record from (
            select s.record, s.ends from gate.shares as s
              where s.target = found.target and s.collection = found.collection and s.sharer = found.sharer
                and s.operations = found.operations
              order by s.ends desc nulls first limit ${most}
          ) as one where one.ends is null or ${now} < one.ends order by one.record
        ) as records offset 0
      ) as live
    )`;
}
