import { v7 as uuid } from 'uuid';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { typed } from '../../core/sql/conditions.ts';
import { commaList, sql, value } from '../../core/sql/fragment.ts';
import { columnOf, peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { PEOPLE, collectionOf, peopleFields } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { classify } from '../failures.ts';
import { holdTheseRules } from '../in-force.ts';
import { fieldOfConstraint } from '../publish/names.ts';
import type { Login, Person } from './directory.ts';

/** Why somebody could not be put into the directory, or not be changed: the field that stands in the way. */
export type PeopleRefusal =
  | { readonly kind: 'value taken' | 'value required' | 'reference'; readonly field: string }
  | { readonly kind: 'login taken' };

/** How the trail names somebody: by address, where they have one. */
export function subjectOf({ id, email }: Pick<Person, 'id' | 'email'>): string {
  return email ?? id;
}

/**
 * Adds somebody, in the transaction given. Fields that are not supplied have their default or are missing.
 * Answers the id, or which field stands in the way.
 */
export async function addPerson(
  on: Executor,
  rulebook: Rulebook,
  values: ReadonlyMap<string, Value>,
  { verified }: { readonly verified: boolean },
): Promise<string | PeopleRefusal> {
  const id = uuid();
  const fields = [...collectionOf(rulebook.schema, PEOPLE).fields.values()].filter((field) => !field.system);
  const names = fields.map(columnOf);
  const supplied = fields.map((field) => {
    if (values.has(field.name)) return typed(values.get(field.name)!, field.type);
    if (field.default?.kind === 'now') return sql`now()`;
    return typed(field.default?.value ?? null, field.type);
  });
  try {
    await on.transaction((savepoint) =>
      run(
        savepoint,
        sql`insert into ${peopleTable} (id, created_at, updated_at, _email_verified, ${commaList(names)})
          values (${recordKey(id)}, now(), now(), ${value(verified)}, ${commaList(supplied)})`,
      ),
    );
  } catch (error) {
    return refusalOf(error, collectionOf(rulebook.schema, PEOPLE));
  }
  return id;
}

/** Adds somebody who was asked for at the desk, with how their tokens name them. */
export async function createPerson(
  database: Database,
  rulebook: Rulebook,
  values: ReadonlyMap<string, Value>,
  login: Login | null,
  actor: Actor,
): Promise<string | PeopleRefusal> {
  return database.transaction(async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    const id = await addPerson(transaction, rulebook, values, { verified: false });
    if (typeof id !== 'string') return id;
    if (login !== null && !(await addLogin(transaction, id, login))) {
      // Nothing is left half done: without their login they would be a stranger at the first token.
      await run(transaction, sql`delete from ${peopleTable} where id = ${recordKey(id)}`);
      return { kind: 'login taken' };
    }
    const email = (values.get('email') ?? null) as string | null;
    await note(transaction, actor, 'person.create', subjectOf({ id, email }), { id, ...login });
    return id;
  });
}

/**
 * Changes what the directory says of somebody. One who is deactivated is nobody from the next request on: every token of
 * theirs is answered with 401. An address that is changed here is not verified any more.
 */
export async function changePerson(
  database: Database,
  before: Person,
  change: {
    readonly name?: string | null | undefined;
    readonly email?: string | null | undefined;
    readonly active?: boolean | undefined;
  },
  actor: Actor,
): Promise<PeopleRefusal | null> {
  const after = {
    name: change.name === undefined ? before.name : change.name,
    email: change.email === undefined ? before.email : change.email,
    active: change.active ?? before.active,
  };
  const keys = (['name', 'email', 'active'] as const).filter((key) => after[key] !== before[key]);
  if (keys.length === 0) return null;
  try {
    await database.transaction(async (transaction) => {
      await run(
        transaction,
        sql`update ${peopleTable} set name = ${value(after.name)}::text, _active = ${value(after.active)}, updated_at = greatest(updated_at, now()),
          _email_verified = _email_verified and email is not distinct from ${value(after.email)}::text,
          _email_claimed = _email_claimed and email is not distinct from ${value(after.email)}::text, email = ${value(after.email)}::text
          where id = ${recordKey(before.id)}`,
      );
      const changed = Object.fromEntries(keys.map((key) => [key, { was: before[key], is: after[key] }]));
      const action =
        keys.length > 1 || keys[0] !== 'active'
          ? 'person.change'
          : after.active
            ? 'person.activate'
            : 'person.deactivate';
      await note(transaction, actor, action, subjectOf(before), { id: before.id, ...changed });
    });
    return null;
  } catch (error) {
    return refusalOf(error, builtIn);
  }
}

/** Lets the tokens of an issuer with this subject speak for somebody; false where they speak for somebody else already. */
export async function linkLogin(
  database: Database,
  person: Person,
  login: Login,
  actor: Actor,
): Promise<boolean> {
  return database.transaction(async (transaction) => {
    if (!(await addLogin(transaction, person.id, login))) return false;
    await note(transaction, actor, 'login.add', subjectOf(person), login);
    return true;
  });
}

/** False where there is no such login of theirs. */
export async function unlinkLogin(
  database: Database,
  person: Person,
  login: Login,
  actor: Actor,
): Promise<boolean> {
  return database.transaction(async (transaction) => {
    const gone = await run(
      transaction,
      sql`delete from gate.logins where person = ${recordKey(person.id)} and issuer = ${value(login.issuer)} and subject = ${value(login.subject)} returning 1`,
    );
    if (gone.length === 0) return false;
    await note(transaction, actor, 'login.remove', subjectOf(person), login);
    return true;
  });
}

/** True where it is theirs now, also if it was before. */
export async function addLogin(on: Executor, person: string, { issuer, subject }: Login): Promise<boolean> {
  const rows = await run(
    on,
    sql`insert into gate.logins (issuer, subject, person) values (${value(issuer)}, ${value(subject)}, ${recordKey(person)})
      on conflict (issuer, subject) do update set person = excluded.person where gate.logins.person = excluded.person returning 1`,
  );
  return rows.length > 0;
}

const refusals = { required: 'value required', unique: 'value taken', reference: 'reference' } as const;

/** What every directory has, whatever the rulebook adds. */
const builtIn = { table: PEOPLE, fields: new Map(peopleFields.map((field) => [field.name, field])) };

function refusalOf(error: unknown, people: Parameters<typeof fieldOfConstraint>[0]): PeopleRefusal {
  const failure = classify(error);
  if (failure.kind === 'required' || failure.kind === 'unique' || failure.kind === 'reference') {
    const field = fieldOfConstraint(people, failure);
    if (field !== null) return { kind: refusals[failure.kind], field };
  }
  throw error;
}
