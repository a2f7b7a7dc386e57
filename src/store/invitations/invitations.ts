import type { Rulebook } from '../../core/ir/rulebook.ts';
import { holdTheseRules } from '../in-force.ts';
import { v7 as uuid } from 'uuid';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { ownKey, ownKeys } from '../../core/sql/identifiers.ts';
import { note, noteEach, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { digestOf, newSecret } from '../secrets.ts';

export type InvitationState = 'open' | 'not sent' | 'accepted' | 'expired' | 'revoked';

/** Times are RFC 3339. */
export interface Invitation {
  readonly id: string;
  readonly email: string;
  readonly roles: readonly string[];
  /** When the roles end. */
  readonly ends: string | null;
  readonly state: InvitationState;
  readonly created_by: string;
  readonly created_at: string;
  readonly expires_at: string;
}

/** One that was just made, with the code of its letter, which is stored as a hash alone. */
export interface MadeInvitation {
  readonly id: string;
  readonly email: string;
  readonly roles: readonly string[];
  readonly ends: string | null;
  readonly code: string;
}

/**
 * Makes invitations: one that was open for the same address is revoked by it. They count once they were sent; see
 * `settleSending`.
 */
export async function makeInvitations(
  database: Database,
  rulebook: Pick<Rulebook, 'version'>,
  wanted: readonly {
    readonly email: string;
    readonly roles: readonly string[];
    readonly ends: string | null;
  }[],
  days: number,
  actor: Actor,
): Promise<MadeInvitation[]> {
  const made = wanted.map((each) => ({ ...each, id: uuid(), code: newSecret() }));
  await database.transaction(async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    const emails = made.map(({ email }) => email);
    await run(
      transaction,
      sql`update gate.invitations set revoked_at = now() where email = any(${value(emails)}::text[]) and accepted_at is null and revoked_at is null`,
    );
    await run(
      transaction,
      sql`insert into gate.invitations (id, email, roles, ends, token_hash, created_by, expires_at)
        select id, email, array(select jsonb_array_elements_text(roles)), ends, decode(hash, 'hex'), ${value(actor.name)}, now() + make_interval(days => ${value(days)}::integer)
        from unnest(${ownKeys(made.map(({ id }) => id))}, ${value(emails)}::text[], ${value(made.map(({ roles }) => JSON.stringify(roles)))}::jsonb[],
          ${value(made.map(({ ends }) => ends ?? ''))}::text[], ${value(made.map(({ code }) => digestOf(code)))}::text[]) as each (id, email, roles, ends_text, hash)
        cross join lateral (select nullif(ends_text, '')::timestamptz as ends) as period`,
    );
  });
  return made;
}

/** Those that were sent count from now on; those that could not be are gone, as if nobody had tried. */
export async function settleSending(
  database: Database,
  sent: readonly MadeInvitation[],
  failed: readonly MadeInvitation[],
  actor: Actor,
): Promise<void> {
  await database.transaction(async (transaction) => {
    await run(
      transaction,
      sql`update gate.invitations set sent_at = now() where id = any(${ownKeys(sent.map(({ id }) => id))})`,
    );
    await run(
      transaction,
      sql`delete from gate.invitations where id = any(${ownKeys(failed.map(({ id }) => id))})`,
    );
    await noteEach(
      transaction,
      actor,
      sent.map(({ email, roles, ends }) => ({
        action: 'invitation.send',
        subject: email,
        detail: { roles, ...(ends === null ? {} : { until: ends }) },
      })),
    );
  });
}

export interface InvitationPlace {
  readonly at: string;
  readonly id: string;
}

/** The newest first. */
export async function listInvitations(
  on: Executor,
  filter: { readonly state?: InvitationState | undefined; readonly search?: string | undefined },
  after: InvitationPlace | null,
  limit: number,
): Promise<{ readonly invitations: Invitation[]; readonly next: InvitationPlace | null }> {
  const conditions: Fragment[] = [sql`true`];
  if (filter.state !== undefined) conditions.push(sql`${stateSql} = ${value(filter.state)}`);
  if (filter.search !== undefined)
    conditions.push(sql`position(lower(${value(filter.search)}) in email) > 0`);
  if (after !== null)
    conditions.push(sql`(created_at, id) < (${value(after.at)}::timestamptz, ${ownKey(after.id)})`);
  const where = conditions.reduce((before, each) => sql`${before} and ${each}`);
  const rows = await run<Invitation>(
    on,
    sql`select id, email, roles, ends, ${stateSql} as state, created_by, created_at, expires_at
      from gate.invitations where ${where} order by created_at desc, id desc limit ${value(limit + 1)}::integer`,
  );
  const page = rows.slice(0, limit);
  const last = page.at(-1);
  return {
    invitations: page,
    next: rows.length > limit ? { at: last!.created_at, id: last!.id } : null,
  };
}

/** False where there is no open one with this id. */
export async function revokeInvitation(database: Database, id: string, actor: Actor): Promise<boolean> {
  return database.transaction(async (transaction) => {
    const [row] = await run<{ email: string }>(
      transaction,
      sql`update gate.invitations set revoked_at = now() where id = ${ownKey(id)} and accepted_at is null and revoked_at is null returning email`,
    );
    if (row === undefined) return false;
    await note(transaction, actor, 'invitation.revoke', row.email);
    return true;
  });
}

export const stateSql: Fragment = sql`case when accepted_at is not null then 'accepted' when revoked_at is not null then 'revoked'
  when expires_at <= now() then 'expired' when sent_at is null then 'not sent' else 'open' end`;
