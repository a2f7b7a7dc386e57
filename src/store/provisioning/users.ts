import { validate as isUuid } from 'uuid';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Value } from '../../core/types/types.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { holdTheseRules } from '../in-force.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { classify } from '../failures.ts';
import { addLogin, addPerson } from '../people/change.ts';
import { takeBackClaims } from '../people/claimed.ts';

/** Somebody as a provider keeps them. `extra`: what it says beside, which is kept and given back as it is. */
export interface ProvidedUser {
  readonly userName: string;
  readonly externalId: string | null;
  readonly name: string | null;
  readonly email: string | null;
  readonly active: boolean;
  readonly extra: object;
}

export interface StoredUser extends ProvidedUser {
  readonly id: string;
  /** RFC 3339. */
  readonly created: string;
  readonly modified: string;
  readonly groups: readonly { readonly id: string; readonly name: string }[];
}

/** What stands in the way of keeping somebody. */
export type UserRefusal =
  | { readonly kind: 'taken'; readonly what: 'userName' | 'email' | 'externalId' }
  | { readonly kind: 'cannot' | 'changed meanwhile' };

/** Where a filter asks for equality. Names of users and addresses are compared regardless of case. */
export interface UserFilter {
  readonly id?: string;
  readonly userName?: string;
  readonly externalId?: string;
  readonly email?: string;
}

/** Those whom a provider keeps, in the order in which they came. `offset` from 0. */
export async function providedUsers(
  on: Executor,
  filter: UserFilter,
  offset: number,
  limit: number,
): Promise<{ readonly users: StoredUser[]; readonly total: number }> {
  const where = matching(filter);
  const users =
    limit === 0
      ? []
      : await run<StoredUser>(
          on,
          sql`select ${columns} from ${peopleTable} as p where ${where} order by p.created_at, p.id limit ${value(limit)}::integer offset ${value(offset)}::integer`,
        );
  const [counted] = await run<{ total: number }>(
    on,
    sql`select count(*) as total from ${peopleTable} as p where ${where}`,
  );
  return { users, total: counted!.total };
}

/** Somebody whom the provider keeps; null where it keeps nobody with this id. */
export async function providedUser(on: Executor, id: string): Promise<StoredUser | null> {
  return (await providedUsers(on, { id }, 0, 1)).users[0] ?? null;
}

/**
 * Takes somebody in. One who is in the directory with this very address, and whom no provider keeps, is from now on kept by this
 * one. Where the key names an issuer, its tokens with the external id as subject speak for them.
 */
export async function takeIn(
  database: Database,
  rulebook: Rulebook,
  user: ProvidedUser,
  issuer: string | null,
  actor: Actor,
): Promise<string | UserRefusal> {
  return kept(database, async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    if (user.email !== null) await takeBackClaims(transaction, user.email);
    const [there] =
      user.email === null
        ? []
        : await run<{ id: string; free: boolean }>(
            transaction,
            sql`select id, _user_name is null and _identity is null as free from ${peopleTable} where lower(email) = lower(${value(user.email)}) for update`,
          );
    if (there?.free === false) return { kind: 'taken', what: 'email' };
    const values = new Map<string, Value>([
      ['name', user.name],
      ['email', user.email],
    ]);
    const id = there?.id ?? (await addPerson(transaction, rulebook, values, { verified: true }));
    if (typeof id !== 'string') return { kind: 'cannot' };
    const refusal = await write(transaction, id, user, issuer, null);
    if (refusal !== null) return refusal;
    await note(transaction, actor, there === undefined ? 'person.create' : 'person.adopt', user.email ?? id, {
      id,
      userName: user.userName,
    });
    return id;
  });
}

/** Makes them as the provider says now, where nobody else has changed them since they were read; null where that went well. */
export async function changeUser(
  database: Database,
  before: StoredUser,
  user: ProvidedUser,
  issuer: string | null,
  actor: Actor,
): Promise<UserRefusal | null> {
  const answer = await kept(database, async (transaction) => {
    if (user.email !== null && user.email.toLowerCase() !== before.email?.toLowerCase())
      await takeBackClaims(transaction, user.email);
    const refusal = await write(transaction, before.id, user, issuer, before);
    if (refusal !== null) return refusal;
    const keys = (['userName', 'externalId', 'name', 'email', 'active'] as const).filter(
      (key) => before[key] !== user[key],
    );
    if (keys.length > 0) {
      const changed = Object.fromEntries(keys.map((key) => [key, { was: before[key], is: user[key] }]));
      const action =
        before.active === user.active
          ? 'person.change'
          : user.active
            ? 'person.activate'
            : 'person.deactivate';
      await note(transaction, actor, action, before.email ?? before.id, { id: before.id, ...changed });
    }
    return before.id;
  });
  return typeof answer === 'string' ? null : answer;
}

/** Lets somebody go: the provider keeps them no longer, they are nobody from now on, and their records stay. */
export async function letGo(
  database: Database,
  user: StoredUser,
  issuer: string | null,
  actor: Actor,
): Promise<void> {
  await database.transaction(async (transaction) => {
    await run(
      transaction,
      sql`update ${peopleTable} set _active = false, _user_name = null, _external_id = null, _scim = null, updated_at = greatest(updated_at, now()) where id = ${recordKey(user.id)}`,
    );
    await run(transaction, sql`delete from gate.group_members where person = ${recordKey(user.id)}`);
    if (issuer !== null)
      await run(
        transaction,
        sql`delete from gate.logins where person = ${recordKey(user.id)} and issuer = ${value(issuer)}`,
      );
    await note(transaction, actor, 'person.release', user.email ?? user.id, { id: user.id });
  });
}

const columns = sql`p.id, p._user_name as "userName", p._external_id as "externalId", p.name, p.email, p._active as active,
  coalesce(p._scim, '{}'::jsonb)::json as extra, p.created_at as created, p.updated_at as modified,
  coalesce((select json_agg(json_build_object('id', g.id, 'name', g.display_name) order by g.display_name)
    from gate.group_members as m join gate.groups as g on g.id = m."group" where m.person = p.id), '[]'::json) as groups`;

function matching({ id, userName, externalId, email }: UserFilter): Fragment {
  const conditions = [
    sql`p._user_name is not null`,
    ...(id === undefined ? [] : [sql`p.id = ${recordKey(isUuid(id) ? id : null)}`]),
    ...(userName === undefined ? [] : [sql`lower(p._user_name) = lower(${value(userName)})`]),
    ...(externalId === undefined ? [] : [sql`p._external_id = ${value(externalId)}`]),
    ...(email === undefined ? [] : [sql`lower(p.email) = lower(${value(email)})`]),
  ];
  return conditions.reduce((before, each) => sql`${before} and ${each}`);
}

/** An address that the provider says is known to be theirs: whoever made its key trusts it with that. */
async function write(
  on: Executor,
  id: string,
  { userName, externalId, name, email, active, extra }: ProvidedUser,
  issuer: string | null,
  before: StoredUser | null,
): Promise<UserRefusal | null> {
  const written = await run(
    on,
    sql`update ${peopleTable} set _user_name = ${value(userName)}, _external_id = ${value(externalId)}::text, name = ${value(name)}::text,
      email = ${value(email)}::text, _email_verified = ${value(email !== null)}, _email_claimed = false, _active = ${value(active)}, _scim = ${value(JSON.stringify(extra))}::jsonb, updated_at = greatest(updated_at, now())
      where id = ${recordKey(id)} and updated_at = coalesce(${value(before?.modified ?? null)}::timestamptz, updated_at) returning 1`,
  );
  if (written.length === 0) return { kind: 'changed meanwhile' };
  if (issuer === null || before?.externalId === externalId) return null;
  if (before !== null && before.externalId !== null)
    await run(
      on,
      sql`delete from gate.logins where person = ${recordKey(id)} and issuer = ${value(issuer)} and subject = ${value(before.externalId)}`,
    );
  if (externalId === null) return null;
  return (await addLogin(on, id, { issuer, subject: externalId }))
    ? null
    : { kind: 'taken', what: 'externalId' };
}

/** All or nothing: a refusal takes back what was written before it. */
async function kept(
  database: Database,
  work: (transaction: Executor) => Promise<string | UserRefusal>,
): Promise<string | UserRefusal> {
  class Refused extends Error {}
  let refusal: UserRefusal | null = null;
  try {
    return await database.transaction(async (transaction) => {
      const answer = await work(transaction);
      if (typeof answer === 'string') return answer;
      refusal = answer;
      throw new Refused();
    });
  } catch (error) {
    if (error instanceof Refused) return refusal!;
    const failure = classify(error);
    if (failure.kind === 'unique')
      return { kind: 'taken', what: failure.constraint === '_people_by_user_name' ? 'userName' : 'email' };
    if (failure.kind === 'required') return { kind: 'cannot' };
    throw error;
  }
}
