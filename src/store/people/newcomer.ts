import type { Rulebook } from '../../core/ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { atTheMachine, note } from '../audit/index.ts';
import { run, type Database } from '../connection.ts';
import { addLogin, addPerson, subjectOf } from './change.ts';

export interface Newcomer {
  readonly issuer: string;
  readonly subject: string;
  readonly claims: Readonly<Record<string, unknown>>;
}

/** A name longer than this is no name. */
const LONGEST_NAME = 200;

/**
 * Adds somebody at their first token, without a role: with their name, and with their address where the issuer has verified it
 * and nobody else has it. They are never taken for somebody who has that address already: an address that another issuer
 * says is no proof of being that person. `known`: there is such a login, so they were let out. `cannot`: the application
 * asks for more than a token says.
 */
export async function admitNewcomer(
  database: Database,
  rulebook: Rulebook,
  { issuer, subject, claims }: Newcomer,
): Promise<'admitted' | 'known' | 'cannot'> {
  // Before the first publication nobody comes in.
  if (!rulebook.schema.has(PEOPLE)) return 'cannot';
  const { fields } = collectionOf(rulebook.schema, PEOPLE);
  if ([...fields.values()].some((field) => field.required && field.default === null && !isSaid(field.name)))
    return 'cannot';
  return database.transaction(async (transaction) => {
    // Two first tokens at once: the second waits, and finds the login.
    await run(
      transaction,
      sql`select pg_advisory_xact_lock(hashtextextended(${value(JSON.stringify([issuer, subject]))}, 0))`,
    );
    const known = await run<{ active: boolean }>(
      transaction,
      sql`select p._active as active from gate.logins as l join records.people as p on p.id = l.person
        where l.issuer = ${value(issuer)} and l.subject = ${value(subject)}`,
    );
    if (known.length > 0) return known[0]!.active ? 'admitted' : 'known';
    const name = nameSaid(claims);
    const said = claims.email_verified === true ? textOf(claims.email) : null;
    const taken =
      said !== null &&
      (await run(transaction, sql`select 1 from records.people where lower(email) = lower(${value(said)})`))
        .length > 0;
    const email = taken ? null : said;
    const values = new Map<string, Value>([
      ['name', name],
      ['email', email],
    ]);
    const id = await addPerson(transaction, rulebook, values, { verified: email !== null });
    if (typeof id !== 'string') return 'cannot';
    await addLogin(transaction, id, { issuer, subject });
    await note(transaction, atTheMachine(`issuer ${issuer}`), 'person.create', subjectOf({ id, email }), {
      id,
      issuer,
      subject,
    });
    return 'admitted';
  });
}

/** The name that a token says, where it is one. */
export function nameSaid(claims: Readonly<Record<string, unknown>>): string | null {
  return textOf(claims.name);
}

function isSaid(field: string): boolean {
  return ['id', 'name', 'email', 'created_at', 'updated_at'].includes(field);
}

function textOf(claim: unknown): string | null {
  if (typeof claim !== 'string') return null;
  const text = claim.trim();
  return text === '' || text.length > LONGEST_NAME || text.includes('\u0000') ? null : text;
}
