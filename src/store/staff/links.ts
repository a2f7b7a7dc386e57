import { v7 as uuid } from 'uuid';
import type { Level } from './levels.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { atTheMachine, note, type Actor } from '../audit/index.ts';
import { run, type Database } from '../connection.ts';
import { hashOf, newSecret } from '../secrets.ts';
import { hasStaff, type Staff } from './accounts.ts';
import { hashPassword } from './passwords.ts';

const LINK_HOURS = 24;

export interface StaffLink {
  /** Shown once, and stored as a hash alone. */
  readonly secret: string;
  /** RFC 3339. */
  readonly expires: string;
}

/**
 * A link with which somebody chooses a password, once, within a day. `email` null: for the first manager, who says an
 * address of their own. A new link for an address takes the place of the one before.
 */
export async function makeLink(
  database: Database,
  email: string | null,
  level: Level,
  actor: Actor,
): Promise<StaffLink> {
  const secret = newSecret();
  return database.transaction(async (transaction) => {
    if (email !== null)
      await run(transaction, sql`delete from gate.staff_links where email = ${value(email)}`);
    const [row] = await run<{ expires: string }>(
      transaction,
      sql`insert into gate.staff_links (token_hash, email, level, created_by, expires_at)
        values (${hashOf(secret)}, ${value(email)}::text, ${value(level)}, ${value(actor.name)}, now() + make_interval(hours => ${value(LINK_HOURS)}::integer))
        returning expires_at as expires`,
    );
    await note(transaction, actor, 'staff.link', email ?? 'the first manager', { level });
    return { secret, expires: row!.expires };
  });
}

/** The link of the first manager, made anew at every start for as long as there is no staff; null once there is. */
export async function firstManagerLink(database: Database): Promise<StaffLink | null> {
  if (await hasStaff(database)) return null;
  return makeLink(database, null, 'manager', atTheMachine('the service'));
}

/**
 * Uses a link up: the account is there with this password. Null for a link that is unknown, used up or too old: which of
 * these is nobody's business. Of two who use one link at once, one gets the account.
 */
export async function useLink(
  database: Database,
  secret: string,
  given: string | null,
  password: string,
  origin: string | null,
): Promise<Staff | null> {
  const hash = await hashPassword(password);
  return database.transaction(async (transaction) => {
    const [link] = await run<{ email: string | null; level: Level }>(
      transaction,
      sql`delete from gate.staff_links where token_hash = ${hashOf(secret)} and now() < expires_at returning email, level`,
    );
    const email = link?.email ?? given;
    if (link === undefined || email === null) return null;
    if (link.email === null) {
      // The first manager is the first of all: a link that was made while somebody else joined is good for nothing.
      await run(transaction, sql`lock table gate.staff in share row exclusive mode`);
      if (await hasStaff(transaction)) return null;
    }
    // The first manager's link makes an account; it does not take over one that is there. Who was let out stays out.
    const onConflict =
      link.email === null
        ? sql`on conflict (email) do nothing`
        : sql`on conflict (email) do update set password_hash = excluded.password_hash where gate.staff.active`;
    const [staff] = await run<Staff>(
      transaction,
      sql`insert into gate.staff (id, email, password_hash, level)
        values (${ownKey(uuid())}, ${value(email)}, ${value(hash)}, ${value(link.level)}) ${onConflict} returning id, email, level`,
    );
    if (staff === undefined) return null;
    await run(transaction, sql`delete from gate.staff_links where email is null`);
    await run(transaction, sql`delete from gate.staff_sessions where staff = ${ownKey(staff.id)}`);
    await note(transaction, { name: email, origin, reason: null }, 'staff.join', email, {
      level: staff.level,
    });
    return staff;
  });
}
