import type { Caller } from '../core/evaluate/caller.ts';
import { sql, value, type Fragment } from '../core/sql/fragment.ts';
import type { Value } from '../core/types/types.ts';
import { run, runKept, type Executor } from './connection.ts';

/** Who calls, and the moment and the rulebook of the call: worked out once, first, from one snapshot. */
export interface Arrival {
  readonly caller: Caller;
  /** The database's clock, in microseconds. */
  readonly now: string;
  /** The number of the rulebook in force; null before the first is published. */
  readonly version: number | null;
}

/** How a caller is known. A deactivated person, and one who is not known, is nobody: `arrive` answers null. */
export type Credentials =
  | { readonly kind: 'visitor' }
  | { readonly kind: 'login'; readonly issuer: string; readonly subject: string }
  | { readonly kind: 'test identity'; readonly name: string }
  | { readonly kind: 'person'; readonly id: string };

/**
 * Looks the caller up. One statement, so that person, roles, clock and version belong together; nothing of it is
 * remembered from one request to the next, so every change holds for the next request. Roles outside their time
 * do not count. A trial may name another moment, `at`. Cost: three index look-ups.
 */
export async function arrive(
  on: Executor,
  credentials: Credentials,
  at: string | null = null,
): Promise<Arrival | null> {
  const [row] = await (on.isTransaction === true ? run : runKept)<Row>(on, arrivalSql(credentials, at));
  if (row === undefined) return null;
  const { _now: now, _version: version, _roles: roles, ...values } = row;
  if (credentials.kind === 'visitor') return { caller: { person: null, roles: new Set() }, now, version };
  return { caller: { person: { id: values.id as string, values }, roles: new Set(roles) }, now, version };
}

/** The service's own columns begin with an underscore, so that no field of people can hide one. */
type Row = { _now: string; _version: number | null; _roles: string[] } & Record<string, Value>;

function arrivalSql(credentials: Credentials, at: string | null): Fragment {
  const now = sql`coalesce(${value(at)}::timestamptz, now())`;
  const moment = sql`${now} as _now, (select max(version) from gate.rulebooks) as _version`;
  if (credentials.kind === 'visitor') return sql`select ${moment}`;
  return sql`
    select p.*, ${moment},
      array(
        select a.role from gate.role_assignments as a
        where a.person = p.id and (a.starts is null or a.starts <= ${now}) and (a.ends is null or ${now} < a.ends)
      ) as _roles
    from records.people as p
    where p._active and ${matching(credentials)}`;
}

function matching(credentials: Exclude<Credentials, { kind: 'visitor' }>): Fragment {
  switch (credentials.kind) {
    case 'login':
      return sql`p.id = (select l.person from gate.logins as l where l.issuer = ${value(credentials.issuer)} and l.subject = ${value(credentials.subject)})`;
    case 'test identity':
      return sql`p._identity = ${value(credentials.name)}`;
    case 'person':
      return sql`p.id = ${value(credentials.id)}::uuid`;
  }
}
