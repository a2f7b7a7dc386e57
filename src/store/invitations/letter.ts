import { sql, value } from '../../core/sql/fragment.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';

/** What an invitation says: texts with placeholders. */
export interface Letter {
  readonly subject: string;
  readonly body: string;
}

/** The letter as staff have written it; null where nobody has yet. */
export async function readLetter(on: Executor): Promise<Letter | null> {
  const [row] = await run<Letter>(on, sql`select subject, body from gate.letter`);
  return row ?? null;
}

export async function saveLetter(database: Database, { subject, body }: Letter, actor: Actor): Promise<void> {
  await database.transaction(async (transaction) => {
    await run(
      transaction,
      sql`insert into gate.letter (subject, body, changed_by) values (${value(subject)}, ${value(body)}, ${value(actor.name)})
        on conflict (only_one) do update set subject = excluded.subject, body = excluded.body, changed_by = excluded.changed_by, changed_at = now()`,
    );
    await note(transaction, actor, 'invitation.letter', 'the letter', { subject });
  });
}
