import type { Rulebook } from '../../core/ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { atTheMachine, note } from '../audit/index.ts';
import { holdTheseRules } from '../in-force.ts';
import { run, type Database } from '../connection.ts';
import { addLogin, addPerson, subjectOf } from './change.ts';
import { takeBackClaims } from './claimed.ts';

export interface Newcomer {
  readonly issuer: string;
  readonly subject: string;
  readonly claims: Readonly<Record<string, unknown>>;
  /** Whether somebody whom staff or a provider have entered with the verified address is who comes. */
  readonly byAddress: 'refuse' | 'link';
}

/** Who has an address already. */
interface Holder {
  readonly id: string;
  readonly active: boolean;
  readonly identity: boolean;
  /** Does a token of this issuer speak for them already? */
  readonly login: boolean;
}

/** A name longer than this is no name. */
const LONGEST_NAME = 200;

/**
 * Adds somebody at their first token, without a role: with their name, and with their address where the issuer has verified it
 * and nobody else has it. They are not taken for somebody who has that address already, as an address that another issuer says is no
 * proof of being that person; but where the settings take this issuer's word for it. `known`: there is such a login, so they were
 * let out. `cannot`: the application asks for more than a token says.
 */
export async function admitNewcomer(
  database: Database,
  rulebook: Rulebook,
  { issuer, subject, claims, byAddress }: Newcomer,
): Promise<'admitted' | 'known' | 'cannot'> {
  // Before the first publication nobody comes in.
  if (!rulebook.schema.has(PEOPLE)) return 'cannot';
  const { fields } = collectionOf(rulebook.schema, PEOPLE);
  if ([...fields.values()].some((field) => field.required && field.default === null && !isSaid(field.name)))
    return 'cannot';
  return database.transaction(async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    // Two first tokens at once: the second waits, and finds the login.
    await run(
      transaction,
      sql`select pg_advisory_xact_lock(hashtextextended(${value(JSON.stringify([issuer, subject]))}, 0))`,
    );
    const known = await run<{ active: boolean }>(
      transaction,
      sql`select p._active as active from gate.logins as l join ${peopleTable} as p on p.id = l.person
        where l.issuer = ${value(issuer)} and l.subject = ${value(subject)}`,
    );
    if (known.length > 0) return known[0]!.active ? 'admitted' : 'known';
    const name = nameSaid(claims);
    const said = claims.email_verified === true ? textOf(claims.email) : null;
    if (said !== null) await takeBackClaims(transaction, said);
    const holders =
      said === null
        ? []
        : await run<Holder>(
            transaction,
            sql`select p.id, p._active as active, p._identity is not null as identity, exists (select 1 from gate.logins as l where l.person = p.id and l.issuer = ${value(issuer)}) as login
              from ${peopleTable} as p where lower(p.email) = lower(${value(said)}) for update`,
          );
    const [holder] = holders;
    // Where two have it, written in capitals or not, it tells of neither.
    const isOne = holder !== undefined && holders.length === 1;
    if (isOne && byAddress === 'link' && !holder.identity && !holder.login) {
      // One who was let out is not let in by another issuer's word.
      if (!holder.active) return 'known';
      await addLogin(transaction, holder.id, { issuer, subject });
      await run(
        transaction,
        sql`update ${peopleTable} set _email_verified = true where id = ${recordKey(holder.id)}`,
      );
      const actor = atTheMachine(`issuer ${issuer}`);
      await note(transaction, actor, 'login.add', subjectOf({ id: holder.id, email: said }), {
        issuer,
        subject,
      });
      return 'admitted';
    }
    const email = holder === undefined ? said : null;
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
