import { v7 as uuid } from 'uuid';
import { byThemself, callerName } from '../../core/decide/caller.ts';
import { any, type Shareable } from '../../core/decide/nodes.ts';
import { SHARE, shareTarget } from '../../core/decide/shares.ts';
import { meetingOfSharing } from '../../core/decide/turns.ts';
import { Access } from '../../core/sql/access.ts';
import { commaList, sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { column, identifier, ownKey, recordKey } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { PEOPLE, collectionOf } from '../../core/types/schema.ts';
import { note, type Actor } from '../audit/index.ts';
import { assureInForce } from '../in-force.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { done, type Outcome } from '../records/outcome.ts';
import { writing, type Meetings, type Writer } from '../records/writing.ts';

/** With whom: one of the three. */
export type ShareTarget =
  { readonly person: string } | { readonly role: string } | { readonly audience: 'people' | 'everybody' };

/** A share as it is listed. Times are RFC 3339. */
export interface ShareEntry {
  readonly id: string;
  readonly collection: string;
  readonly record: string;
  readonly operations: readonly Shareable[];
  readonly sharer: string;
  readonly person: string | null;
  readonly role: string | null;
  readonly audience: 'people' | 'everybody' | null;
  readonly created_at: string;
  readonly ends: string | null;
}

type Crowding = 'too many sharers' | 'too many of yours' | 'too many with the same';

export type ShareRefusal =
  | { readonly kind: 'not found' | 'not allowed' | 'person not found' | 'oneself' | Crowding }
  | { readonly kind: 'operations not allowed'; readonly operations: readonly Shareable[] };

/** How much may be shared at one time; what has ended does not count. */
export interface ShareLimits {
  /** Shares that one person may have made. */
  readonly byOne: number;
  /** Shares that may be with the same person, role or audience. */
  readonly withOne: number;
  /** People who may share with the same: what each of them may is worked out for every request that it reaches. */
  readonly sharers: number;
}

export const SHARE_LIMITS: ShareLimits = { byOne: 1_000, withOne: 100_000, sharers: 50 };

/**
 * Shares one record. The caller must be able to read it, a rule must let them share it, and each operation must be their own
 * by themself: nothing can be passed on that was itself shared. Sharing it with the same target again gives the share these
 * operations and this end.
 */
export async function shareRecord(
  on: Executor,
  who: Writer,
  collection: string,
  record: string,
  wanted: {
    readonly operations: readonly Shareable[];
    readonly target: ShareTarget;
    readonly ends: string | null;
  },
  origin: string | null,
  limits = SHARE_LIMITS,
): Promise<ShareEntry | ShareRefusal> {
  const operations = [...new Set<Shareable>(['read', ...wanted.operations])];
  const { target, ends } = wanted;
  const share = async (transaction: Executor, access: Access): Promise<ShareEntry | ShareRefusal> => {
    const sharer = access.caller.person;
    if (sharer === null) return { kind: 'not found' };
    if ('person' in target && target.person === sharer.id) return { kind: 'oneself' };
    const may = await mayShare(transaction, access, collection, record, { held: true });
    if (!may.read) return { kind: 'not found' };
    if (!may.share) return { kind: 'not allowed' };
    const lacking = operations.filter((operation) => !may[operation]);
    if (lacking.length > 0) return { kind: 'operations not allowed', operations: lacking };
    if ('person' in target && !(await isReadablePerson(transaction, access, target.person)))
      return { kind: 'person not found' };
    const crowded = await crowding(transaction, target, sharer.id, limits);
    if (crowded !== null && !(await isThere(transaction, collection, record, target, sharer.id)))
      return { kind: crowded };
    const [entry] = await run<ShareEntry>(
      transaction,
      sql`insert into gate.shares as s (id, collection, record, operations, sharer, person, role, audience, ends)
        values (${ownKey(uuid())}, ${value(collection)}, ${recordKey(record)}, ${value(operations)}::text[], ${recordKey(sharer.id)},
          ${recordKey('person' in target ? target.person : null)}, ${value('role' in target ? target.role : null)}::text,
          ${value('audience' in target ? target.audience : null)}::text, ${value(ends)}::timestamptz)
        on conflict (collection, record, sharer, target)
          do update set operations = excluded.operations, ends = excluded.ends
        returning ${columns}`,
    );
    await note(transaction, actorOf(access, origin), 'share.give', `${collection} ${record}`, {
      ...target,
      for: operations,
      ...(ends === null ? {} : { until: ends }),
    });
    return entry!;
  };
  const outcome = await sharing(on, who, collection, share);
  // What was shared, or with whom, has gone at this very moment.
  return outcome.ok ? outcome.value : { kind: 'person not found' };
}

/** A change of what is shared, decided and written as any write is. */
async function sharing<T>(
  on: Executor,
  who: Writer,
  collection: string,
  work: (transaction: Executor, access: Access) => Promise<T>,
): Promise<Outcome<T>> {
  const meetings: Meetings = (caller) => meetingOfSharing(who.rulebook, caller, collection);
  return writing(on, collection, new Map(), who, meetings, async (transaction, access) =>
    done(await work(transaction, access)),
  );
}

/** The shares of a record, for whoever may share it; others see those that they made themself. Null: not readable. */
export async function sharesOf(
  on: Executor,
  access: Access,
  collection: string,
  record: string,
): Promise<ShareEntry[] | null> {
  const may = await mayShare(on, access, collection, record);
  if (!may.read) return null;
  const all = await listShares(on, { collection, record });
  await assureInForce(on, access.rulebook);
  return may.share ? all : all.filter(({ sharer }) => sharer === access.caller.person?.id);
}

/** Takes a share back: whoever made it, and whoever may share the record. */
export async function takeBack(
  on: Executor,
  who: Writer,
  collection: string,
  record: string,
  share: string,
  origin: string | null,
): Promise<boolean> {
  const outcome = await sharing(on, who, collection, async (transaction, access) => {
    const may = await mayShare(transaction, access, collection, record);
    const [found] = (await listShares(transaction, { collection, record })).filter(({ id }) => id === share);
    const own = found !== undefined && found.sharer === access.caller.person?.id;
    if (found === undefined || !(own || (may.read && may.share))) return false;
    return remove(transaction, found, actorOf(access, origin));
  });
  return outcome.ok && outcome.value;
}

/** Takes a share back from the desk. */
export async function removeShare(database: Database, share: string, actor: Actor): Promise<boolean> {
  return database.transaction(async (transaction) => {
    const [found] = await listShares(transaction, { id: share });
    return found !== undefined && (await remove(transaction, found, actor));
  });
}

export interface ShareFilter {
  readonly id?: string | undefined;
  readonly collection?: string | undefined;
  readonly record?: string | undefined;
  readonly sharer?: string | undefined;
  readonly person?: string | undefined;
}

/** Most shares that are listed at once. */
const MOST_LISTED = 1_000;

/** Shares, the newest first; those that have ended, too. */
export async function listShares(on: Executor, filter: ShareFilter): Promise<ShareEntry[]> {
  const { id, collection, record, sharer, person } = filter;
  const conditions = [
    sql`true`,
    ...(id === undefined ? [] : [sql`s.id = ${ownKey(id)}`]),
    ...(collection === undefined ? [] : [sql`s.collection = ${value(collection)}`]),
    ...(record === undefined ? [] : [sql`s.record = ${recordKey(record)}`]),
    ...(sharer === undefined ? [] : [sql`s.sharer = ${recordKey(sharer)}`]),
    ...(person === undefined ? [] : [sql`s.person = ${recordKey(person)}`]),
  ];
  const where = conditions.reduce((before, each) => sql`${before} and ${each}`);
  return run<ShareEntry>(
    on,
    sql`select ${columns} from gate.shares as s where ${where} order by s.created_at desc, s.id limit ${value(MOST_LISTED)}::integer`,
  );
}

const columns = sql`s.id, s.collection, s.record, s.operations, s.sharer, s.person, s.role, s.audience, s.created_at, s.ends`;

async function remove(on: Executor, found: ShareEntry, actor: Actor): Promise<boolean> {
  const gone = await run(on, sql`delete from gate.shares where id = ${ownKey(found.id)} returning 1`);
  if (gone.length === 0) return false;
  const { collection, record, person, role, audience, operations } = found;
  await note(on, actor, 'share.take', `${collection} ${record}`, { person, role, audience, for: operations });
  return true;
}

/**
 * Readable with what is shared with the caller, too; everything else by themself. Asked of the record as it is now; `held`: it
 * does not go before the transaction ends.
 */
export async function mayShare(
  on: Executor,
  access: Access,
  collection: string,
  record: string,
  { held = false } = {},
): Promise<{
  readonly read: boolean;
  readonly share: boolean;
  readonly update: boolean;
  readonly delete: boolean;
}> {
  const { rulebook } = access;
  const own = new Access(rulebook, byThemself(access.caller), access.now);
  const fields = [...collectionOf(rulebook.schema, collection).fields.values()].filter(
    ({ system }) => !system,
  );
  const updating = own.permission('update', collection);
  // Any field of it: which, the share itself says, field by field.
  const someField = any(
    fields.map(({ name }) => updating.field(name).whole),
    'granted',
  );
  const sides = { old: 'r', new: 'r' };
  const flags = [
    sql`(${access.readable(collection, 'r')}) is true as read`,
    sql`(${own.nodeSql(own.permission(SHARE, collection).record, 'r', sides)}) is true as share`,
    sql`(${own.nodeSql(updating.record, 'r', sides)} and ${own.nodeSql(someField, 'r', sides)}) is true as update`,
    sql`(${own.nodeSql(own.permission('delete', collection).record, 'r', sides)}) is true as ${identifier('delete')}`,
  ];
  const [row] = await run<{ read: boolean; share: boolean; update: boolean; delete: boolean }>(
    on,
    sql`select ${commaList(flags)} from ${relation(rulebook.schema, collection)} as r where ${column('r', 'id')} = ${recordKey(record)}${held ? sql` for key share of r` : sql``}`,
  );
  return row ?? { read: false, share: false, update: false, delete: false };
}

/** Like any reference: what one cannot read cannot be pointed at, and whether it is there is not told. */
async function isReadablePerson(on: Executor, access: Access, person: string): Promise<boolean> {
  const readable = access.readable(PEOPLE, 'r');
  const rows = await run(
    on,
    sql`select 1 from ${relation(access.rulebook.schema, PEOPLE)} as r where ${column('r', 'id')} = ${recordKey(person)} and ${readable}`,
  );
  return rows.length > 0;
}

/**
 * What stands in the way of one more; a share that is there already is changed all the same. Whoever shares with the same, and
 * the same person at two places, take turns. Cost: an index entry for each share that counts.
 */
async function crowding(
  on: Executor,
  target: ShareTarget,
  sharer: string,
  { byOne, withOne, sharers }: ShareLimits,
): Promise<Crowding | null> {
  const toward = shareTarget(target);
  await run(on, sql`select pg_advisory_xact_lock(hashtextextended(${value(`share ${toward}`)}, 0))`);
  await run(on, sql`select pg_advisory_xact_lock(hashtextextended(${value(`shares of ${sharer}`)}, 0))`);
  const live = sql`(ends is null or now() < ends)`;
  // The sharers are found by stepping from one to the next, past whatever number of shares each has.
  const next = (after: Fragment) =>
    sql`select s.collection, s.sharer, s.ends from gate.shares as s where s.target = ${value(toward)} and ${after} order by s.collection, s.sharer limit 1`;
  const [row] = await run<{ others: number; toward: number; own: number }>(
    on,
    sql`with recursive first as (${next(sql`true`)}), found as (
        select * from first
        union all
        select n.* from found as f cross join lateral (${next(sql`(s.collection, s.sharer) > (f.collection, f.sharer)`)}) as n
      )
      select
        (select count(distinct sharer) from found where sharer <> ${recordKey(sharer)} and exists (
          select from gate.shares as s where s.target = ${value(toward)} and s.collection = found.collection and s.sharer = found.sharer and ${live}
        )) as others,
        (select count(*) from gate.shares where target = ${value(toward)} and ${live}) as toward,
        (select count(*) from gate.shares where sharer = ${recordKey(sharer)} and ${live}) as own`,
  );
  if (row!.others >= sharers) return 'too many sharers';
  if (row!.own >= byOne) return 'too many of yours';
  return row!.toward >= withOne ? 'too many with the same' : null;
}

function actorOf({ caller }: Access, origin: string | null): Actor {
  return { name: `person ${callerName(caller)}`, origin, reason: null };
}

async function isThere(
  on: Executor,
  collection: string,
  record: string,
  target: ShareTarget,
  sharer: string,
): Promise<boolean> {
  const rows = await run(
    on,
    sql`select 1 from gate.shares where collection = ${value(collection)} and record = ${recordKey(record)}
      and sharer = ${recordKey(sharer)} and target = ${value(shareTarget(target))}`,
  );
  return rows.length > 0;
}
