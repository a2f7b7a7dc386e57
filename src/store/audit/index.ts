import { sql, value } from '../../core/sql/fragment.ts';
import { run, type Executor } from '../connection.ts';

export { entries, type AuditFilter, type AuditEntry } from './entries.ts';
export { verifyTrail } from './verify.ts';

/** Who did it, as the trail names them. */
export interface Actor {
  /** `manager@hollowoak.example`, `key nightly`, `development: command line`. */
  readonly name: string;
  /** The address that the request came from; null for what the service does by itself. */
  readonly origin: string | null;
  /** The reason of the unlock under which it was done. */
  readonly reason: string | null;
}

/** What is done at the machine itself rather than asked for over HTTP. */
export function atTheMachine(name: string): Actor {
  return { name, origin: null, reason: null };
}

/**
 * Adds an entry to the trail, in the transaction of what it tells of: both are there, or neither. The database numbers it
 * and binds it to the one before; as that keeps other entries waiting, it comes last in its transaction.
 * `detail` holds names and times, never a value of a record or a secret.
 */
export async function note(
  on: Executor,
  actor: Actor,
  action: string,
  subject: string,
  detail: object = {},
): Promise<void> {
  await run(
    on,
    sql`insert into gate.audit (actor, origin, action, subject, reason, detail)
      values (${value(actor.name)}, ${value(actor.origin)}::text, ${value(action)}, ${value(subject)}, ${value(actor.reason)}::text, ${value(JSON.stringify(detail))})`,
  );
}

/** The same for many entries at once, in their order. Cost: 3,000 a second or so. */
export async function noteEach(
  on: Executor,
  actor: Actor,
  entries: readonly { readonly action: string; readonly subject: string; readonly detail: object }[],
): Promise<void> {
  if (entries.length === 0) return;
  await run(
    on,
    sql`insert into gate.audit (actor, origin, action, subject, reason, detail)
      select ${value(actor.name)}, ${value(actor.origin)}::text, action, subject, ${value(actor.reason)}::text, detail
      from unnest(${value(entries.map((each) => each.action))}::text[], ${value(entries.map((each) => each.subject))}::text[],
        ${value(entries.map((each) => JSON.stringify(each.detail)))}::text[]) with ordinality as each (action, subject, detail, place)
      order by place`,
  );
}
