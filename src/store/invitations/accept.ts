import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Value } from '../../core/types/types.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey, peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { holdTheseRules } from '../in-force.ts';
import { run, type Executor } from '../connection.ts';
import { addLogin, addPerson } from '../people/change.ts';
import { takeBackClaims } from '../people/claimed.ts';
import { hashOf } from '../secrets.ts';
import { stateSql, type InvitationState } from './invitations.ts';

/** What came of it. Whoever has the code may know all of this; nobody else can ask. */
export type Acceptance =
  | { readonly kind: 'accepted'; readonly person: string; readonly roles: readonly string[] }
  | { readonly kind: 'unknown' }
  | { readonly kind: 'over'; readonly state: Exclude<InvitationState, 'open' | 'not sent'> }
  | { readonly kind: 'wrong address' | 'deactivated' | 'login taken' | 'cannot' };

/** Who comes with the code: their token, with the address that their issuer has verified. */
export interface Invited {
  readonly issuer: string;
  readonly subject: string;
  readonly email: string | null;
  readonly name: string | null;
}

/**
 * Uses an invitation up: whoever holds its code, and a token whose verified address is the invited one, is from now on the
 * person with that address, who is made where there is none, and has its roles. All of it or nothing, and once: of two at the
 * same time one is answered that it is used.
 */
export async function acceptInvitation(
  on: Executor,
  rulebook: Rulebook,
  code: string,
  invited: Invited,
  origin: string | null,
): Promise<Acceptance> {
  return on.transaction(async (transaction): Promise<Acceptance> => {
    await holdTheseRules(transaction, rulebook);
    const [invitation] = await run<Row>(
      transaction,
      sql`select id, email, roles, ends, created_by, ${stateSql} as state from gate.invitations where token_hash = ${hashOf(code)} for update`,
    );
    if (invitation === undefined) return { kind: 'unknown' };
    // Whose it was is told to nobody else, not even that it is used.
    if (invited.email?.toLowerCase() !== invitation.email) return { kind: 'wrong address' };
    // One that is not marked as sent was, where somebody has its code: the service was stopped before it could.
    if (invitation.state !== 'open' && invitation.state !== 'not sent')
      return { kind: 'over', state: invitation.state };
    await takeBackClaims(transaction, invitation.email);
    const person = await personOf(transaction, rulebook, invitation.email, invited);
    if (typeof person !== 'string') return person;
    await giveRoles(transaction, person, invitation);
    await run(
      transaction,
      sql`update gate.invitations set accepted_at = now(), accepted_by = ${recordKey(person)} where id = ${ownKey(invitation.id)}`,
    );
    const actor: Actor = { name: `person ${invitation.email}`, origin, reason: null };
    const { roles, ends, created_by: by } = invitation;
    const { issuer, subject } = invited;
    await note(transaction, actor, 'invitation.accept', invitation.email, {
      id: person,
      issuer,
      subject,
      roles,
      ...(ends === null ? {} : { until: ends }),
      by,
    });
    return { kind: 'accepted', person, roles };
  });
}

interface Row {
  readonly id: string;
  readonly email: string;
  readonly roles: readonly string[];
  readonly ends: string | null;
  readonly created_by: string;
  readonly state: InvitationState;
}

/** Who they are: by their login, else by the address, which they have proved; else somebody new. */
async function personOf(
  on: Executor,
  rulebook: Rulebook,
  email: string,
  { issuer, subject, name }: Invited,
): Promise<string | Exclude<Acceptance, { kind: 'accepted' }>> {
  const found = await run<{ id: string; active: boolean; identity: string | null; login: boolean }>(
    on,
    sql`select p.id, p._active as active, p._identity as identity, l.person is not null as login from ${peopleTable} as p
      left join gate.logins as l on l.person = p.id and l.issuer = ${value(issuer)} and l.subject = ${value(subject)}
      where l.person is not null or lower(p.email) = ${value(email)} order by l.person is null for update of p`,
  );
  const [known, ...others] = found;
  // Somebody else has the address already: two people are not made one here.
  if (others.some(({ id }) => id !== known!.id)) return { kind: 'login taken' };
  if (known === undefined) {
    const values = new Map<string, Value>([
      ['name', name],
      ['email', email],
    ]);
    const id = await addPerson(on, rulebook, values, { verified: true });
    if (typeof id !== 'string') return { kind: 'cannot' };
    await addLogin(on, id, { issuer, subject });
    return id;
  }
  if (!known.active || known.identity !== null) return { kind: 'deactivated' };
  if (!(await addLogin(on, known.id, { issuer, subject }))) return { kind: 'login taken' };
  await run(
    on,
    sql`update ${peopleTable} set email = coalesce(email, ${value(email)}), _email_verified = _email_verified or lower(coalesce(email, ${value(email)})) = ${value(email)},
      _email_claimed = _email_claimed and lower(email) is distinct from ${value(email)}, updated_at = greatest(updated_at, now())
      where id = ${recordKey(known.id)}`,
  );
  return known.id;
}

/** A role that they hold for longer already stays as it is. */
async function giveRoles(on: Executor, person: string, { roles, ends, created_by }: Row): Promise<void> {
  await run(
    on,
    sql`insert into gate.role_assignments as a (person, role, ends, given_by)
      select ${recordKey(person)}, role, ${value(ends)}::timestamptz, ${value(created_by)} from unnest(${value([...roles])}::text[]) as each (role)
      on conflict (person, role) do update set starts = null, ends = excluded.ends, given_by = excluded.given_by, given_at = now()
        where a.starts > now() or (a.ends is not null and (excluded.ends is null or a.ends < excluded.ends))`,
  );
}
