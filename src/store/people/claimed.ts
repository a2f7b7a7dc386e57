import { sql, value } from '../../core/sql/fragment.ts';
import { peopleTable, recordKeys } from '../../core/sql/identifiers.ts';
import { atTheMachine, note } from '../audit/index.ts';
import { run, type Executor } from '../connection.ts';

/**
 * An address identifies somebody where it was verified, or was entered by staff or a provider. One that end users gave themselves,
 * through the rules, is a claim: when its owner comes, it is taken away from whoever claimed it. Nobody else's is touched.
 */
export async function takeBackClaims(on: Executor, email: string): Promise<void> {
  const rows = await run<{ id: string }>(
    on,
    sql`update ${peopleTable} set email = null, _email_claimed = false, _email_verified = false, updated_at = greatest(updated_at, now())
      where lower(email) = lower(${value(email)}) and _email_claimed returning id`,
  );
  for (const { id } of rows)
    await note(on, atTheMachine('address'), 'person.change', id, {
      id,
      email: { was: email, is: null },
      because: 'its owner has come',
    });
}

/** Those of these people whose address they entered for themselves, and nobody has verified: it identifies nobody. */
export async function claimedAmong(on: Executor, ids: readonly string[]): Promise<ReadonlySet<string>> {
  const rows = await run<{ id: string }>(
    on,
    sql`select id from ${peopleTable} where id = any(${recordKeys(ids)}) and _email_claimed and not _email_verified`,
  );
  return new Set(rows.map(({ id }) => id));
}
