import { v7 as uuid } from 'uuid';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';

/** The time-limited right to change what is in force, with its reason. Times are RFC 3339. */
interface Unlock {
  readonly reason: string;
  readonly began: string;
  readonly ends: string;
}

/** The unlock under which this principal may change what is in force now. */
export async function currentUnlock(on: Executor, principal: string): Promise<Unlock | null> {
  const [row] = await run<Unlock>(
    on,
    sql`select reason, began, ends from gate.unlocks
      where principal = ${value(principal)} and now() < ends and ended is null order by ends desc limit 1`,
  );
  return row ?? null;
}

/** Begins an unlock, of 60 minutes at most, as the table says, too; one that is under way ends with it, so that there is one reason at a time. */
export async function beginUnlock(
  database: Database,
  principal: string,
  reason: string,
  minutes: number,
  actor: Actor,
): Promise<Unlock> {
  return database.transaction(async (transaction) => {
    await run(
      transaction,
      sql`update gate.unlocks set ended = now() where principal = ${value(principal)} and now() < ends and ended is null`,
    );
    const [row] = await run<Unlock>(
      transaction,
      sql`insert into gate.unlocks (id, principal, reason, ends)
        values (${ownKey(uuid())}, ${value(principal)}, ${value(reason)}, now() + make_interval(mins => ${value(minutes)}::integer))
        returning reason, began, ends`,
    );
    await note(transaction, { ...actor, reason }, 'unlock.begin', actor.name, { minutes });
    return row!;
  });
}

/** Ends the unlock of a principal before its time; nothing happens where there is none. */
export async function endUnlock(on: Executor, principal: string, actor: Actor): Promise<void> {
  const rows = await run<{ reason: string }>(
    on,
    sql`update gate.unlocks set ended = now() where principal = ${value(principal)} and now() < ends and ended is null returning reason`,
  );
  for (const { reason } of rows) await note(on, { ...actor, reason }, 'unlock.end', actor.name);
}
