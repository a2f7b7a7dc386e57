import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { run, type Executor } from '../connection.ts';

/** One entry as it is stored; `detail` is the very text that the hash is over. */
export interface AuditEntry {
  readonly seq: number;
  /** RFC 3339, UTC, microseconds. */
  readonly at: string;
  readonly actor: string;
  readonly origin: string | null;
  readonly action: string;
  readonly subject: string;
  readonly reason: string | null;
  readonly detail: string;
  /** Hexadecimal. */
  readonly previous: string;
  readonly hash: string;
}

export interface AuditFilter {
  readonly actor?: string | undefined;
  /** An action such as `role.give`, or the noun before the dot for all of its actions. */
  readonly action?: string | undefined;
  readonly subject?: string | undefined;
  readonly since?: string | undefined;
  readonly until?: string | undefined;
}

/** Entries, newest first below `before`, or oldest first above `after`. Cost: an index range. */
export async function entries(
  on: Executor,
  filter: AuditFilter,
  page: { readonly before?: number | undefined; readonly after?: number | undefined; readonly limit: number },
): Promise<AuditEntry[]> {
  const { actor, action, subject, since, until } = filter;
  const conditions: Fragment[] = [sql`true`];
  if (actor !== undefined) conditions.push(sql`actor = ${value(actor)}`);
  if (action !== undefined)
    conditions.push(sql`(action = ${value(action)} or split_part(action, '.', 1) = ${value(action)})`);
  if (subject !== undefined) conditions.push(sql`subject = ${value(subject)}`);
  if (since !== undefined) conditions.push(sql`at >= ${value(since)}::timestamptz`);
  if (until !== undefined) conditions.push(sql`at < ${value(until)}::timestamptz`);
  if (page.before !== undefined) conditions.push(sql`seq < ${value(page.before)}::bigint`);
  if (page.after !== undefined) conditions.push(sql`seq > ${value(page.after)}::bigint`);
  const where = conditions.reduce((before, each) => sql`${before} and ${each}`);
  const order = page.after === undefined ? sql`desc` : sql`asc`;
  return run<AuditEntry>(
    on,
    sql`select seq, to_char(at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at, actor, origin, action,
        subject, reason, detail, encode(previous, 'hex') as previous, encode(hash, 'hex') as hash
      from gate.audit where ${where} order by seq ${order} limit ${value(page.limit)}::integer`,
  );
}
