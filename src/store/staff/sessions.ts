import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { hashOf, newSecret } from '../secrets.ts';
import type { Staff } from './accounts.ts';
import { endUnlock } from './unlocks.ts';

const SESSION_HOURS = 12;

/** Begins a session and answers its secret, which is stored only as a hash. Old sessions are cleared away. */
export async function beginSession(
  database: Database,
  staff: Staff,
  actor: Actor,
): Promise<{ readonly secret: string; readonly hours: number }> {
  const secret = newSecret();
  await database.transaction(async (transaction) => {
    await run(transaction, sql`delete from gate.staff_sessions where expires_at < now()`);
    await run(
      transaction,
      sql`insert into gate.staff_sessions (token_hash, staff, expires_at)
        values (${hashOf(secret)}, ${ownKey(staff.id)}, now() + make_interval(hours => ${value(SESSION_HOURS)}::integer))`,
    );
    await note(transaction, actor, 'staff.sign-in', staff.email);
  });
  return { secret, hours: SESSION_HOURS };
}

/** Whose session it is now, at the level that they have now; null where it has ended, or they were let out. */
export async function sessionStaff(on: Executor, secret: string): Promise<Staff | null> {
  const [row] = await run<Staff>(
    on,
    sql`select s.id, s.email, s.level from gate.staff_sessions as t join gate.staff as s on s.id = t.staff
      where t.token_hash = ${hashOf(secret)} and now() < t.expires_at and s.active`,
  );
  return row ?? null;
}

/** Ends a session, and the unlock of whose it was. */
export async function endSession(database: Database, secret: string, origin: string | null): Promise<void> {
  await database.transaction(async (transaction) => {
    const [row] = await run<{ id: string; email: string }>(
      transaction,
      sql`with ended as (delete from gate.staff_sessions where token_hash = ${hashOf(secret)} returning staff)
        select s.id, s.email from ended join gate.staff as s on s.id = ended.staff`,
    );
    if (row === undefined) return;
    const actor = { name: row.email, origin, reason: null };
    await endUnlock(transaction, `staff:${row.id}`, actor);
    await note(transaction, actor, 'staff.sign-out', row.email);
  });
}
