import { v7 as uuid } from 'uuid';
import type { Level } from './levels.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { hashPassword, isPassword } from './passwords.ts';
import { endUnlock } from './unlocks.ts';

/** Those who run the gate itself. They are not people of the application, and no rule speaks of them. */
export interface Staff {
  readonly id: string;
  readonly email: string;
  readonly level: Level;
}

export interface StaffAccount extends Staff {
  readonly active: boolean;
  /** RFC 3339. */
  readonly created_at: string;
}

/** Why a change of staff was not made. */
export type StaffRefusal = 'unknown' | 'last manager';

/**
 * Adds a staff account, or gives an existing one a new password, lets it in and ends its sessions. `level` null: a new one is a
 * manager, one that is there keeps its level. Answers the level.
 */
export async function setStaff(
  database: Database,
  email: string,
  password: string,
  level: Level | null,
  actor: Actor,
): Promise<Level> {
  const hash = await hashPassword(password);
  return database.transaction(async (transaction) => {
    const [row] = await run<{ id: string; created: boolean; level: Level }>(
      transaction,
      sql`insert into gate.staff (id, email, password_hash, level) values (${ownKey(uuid())}, ${value(email)}, ${value(hash)}, ${value(level ?? 'manager')})
        on conflict (email) do update set password_hash = excluded.password_hash, level = coalesce(${value(level)}::text, gate.staff.level), active = true
        returning id, level, xmax = 0 as created`,
    );
    await run(transaction, sql`delete from gate.staff_sessions where staff = ${ownKey(row!.id)}`);
    await endUnlock(transaction, `staff:${row!.id}`, actor);
    // Whoever was to be the first manager by a link is no longer the first.
    await run(transaction, sql`delete from gate.staff_links where email is null`);
    await note(transaction, actor, row!.created ? 'staff.create' : 'staff.password', email, {
      level: row!.level,
    });
    return row!.level;
  });
}

/** The active account, where the password is right. Takes the same time for an unknown address. */
export async function checkPassword(on: Executor, email: string, password: string): Promise<Staff | null> {
  const [row] = await run<Staff & { password_hash: string }>(
    on,
    sql`select id, email, level, password_hash from gate.staff where email = ${value(email)} and active`,
  );
  const right = await isPassword(password, row?.password_hash ?? null);
  return row !== undefined && right ? { id: row.id, email: row.email, level: row.level } : null;
}

export async function staffAccounts(on: Executor): Promise<StaffAccount[]> {
  return run<StaffAccount>(
    on,
    sql`select id, email, level, active, created_at from gate.staff order by email`,
  );
}

export async function hasStaff(on: Executor): Promise<boolean> {
  return (await run(on, sql`select 1 from gate.staff where active limit 1`)).length > 0;
}

/**
 * Changes the level of an account, or lets it in or out. There is always an active manager: the last one can be neither
 * lowered nor let out, not even by two who do it to each other at once.
 */
export async function changeStaff(
  database: Database,
  email: string,
  change: { readonly level?: Level | undefined; readonly active?: boolean | undefined },
  actor: Actor,
): Promise<StaffAccount | StaffRefusal> {
  return database.transaction(async (transaction) => {
    await run(transaction, sql`lock table gate.staff in share row exclusive mode`);
    const [before] = await run<StaffAccount>(
      transaction,
      sql`select id, email, level, active, created_at from gate.staff where email = ${value(email)}`,
    );
    if (before === undefined) return 'unknown';
    const after = { ...before, level: change.level ?? before.level, active: change.active ?? before.active };
    if (isManager(before) && !isManager(after)) {
      const others = await run(
        transaction,
        sql`select 1 from gate.staff where active and level = 'manager' and id <> ${ownKey(before.id)} limit 1`,
      );
      if (others.length === 0) return 'last manager';
    }
    await run(
      transaction,
      sql`update gate.staff set level = ${value(after.level)}, active = ${value(after.active)} where id = ${ownKey(before.id)}`,
    );
    if (!after.active)
      await run(transaction, sql`delete from gate.staff_sessions where staff = ${ownKey(before.id)}`);
    // An unlock was given to somebody of that level who was let in: it opens nothing for another, nor later.
    if (!after.active || after.level !== before.level)
      await endUnlock(transaction, `staff:${before.id}`, actor);
    await note(transaction, actor, 'staff.change', email, {
      ...(after.level === before.level ? {} : { level: { was: before.level, is: after.level } }),
      ...(after.active === before.active ? {} : { active: { was: before.active, is: after.active } }),
    });
    return after;
  });
}

/** Gives an account another password, where the old one is right; all its sessions end. Level and state stay as they are. */
export async function changePassword(
  database: Database,
  staff: Staff,
  old: string,
  password: string,
  actor: Actor,
): Promise<boolean> {
  if ((await checkPassword(database, staff.email, old)) === null) return false;
  const hash = await hashPassword(password);
  return database.transaction(async (transaction) => {
    const changed = await run(
      transaction,
      sql`update gate.staff set password_hash = ${value(hash)} where id = ${ownKey(staff.id)} and active returning 1`,
    );
    if (changed.length === 0) return false;
    await run(transaction, sql`delete from gate.staff_sessions where staff = ${ownKey(staff.id)}`);
    await note(transaction, actor, 'staff.password', staff.email);
    return true;
  });
}

function isManager({ level, active }: StaffAccount): boolean {
  return active && level === 'manager';
}
