import { v7 as uuid } from 'uuid';
import type { GivenValue, Identity, Rulebook } from '../../core/ir/rulebook.ts';
import { anyOf, commaList, sql, value } from '../../core/sql/fragment.ts';
import { column, columnOf, peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { typed } from '../../core/sql/conditions.ts';
import { PEOPLE, collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { OneByOne } from '../one-by-one.ts';

/** Of all processes one at a time writes test identities: whoever does holds them until its transaction ends. */
const writing = sql`hashtextextended('firmgate identities', 0)`;

const writers = new OneByOne(40, 'too many wait to write test identities');

/**
 * Work in whose transaction test identities are written, if only to take it back: one after the other in this process. `isNeeded` false:
 * nobody waits for it.
 */
export function writingIdentities<T>(
  database: Database,
  isNeeded: boolean,
  work: () => Promise<T>,
): Promise<T> {
  return isNeeded ? writers.run(database, work) : work();
}

/** A turn that lasts until what is answered is called. */
export function turnToWriteIdentities(database: Database): Promise<() => void> {
  return writers.turn(database);
}

/**
 * Waits until no other process writes them, however long a statement may take otherwise. A transaction that holds anything else that a
 * publication needs does so first of all.
 */
export async function holdIdentities(on: Executor): Promise<void> {
  const [row] = await run<{ most: string }>(on, sql`select current_setting('statement_timeout') as most`);
  await run(on, sql`set local statement_timeout = '10min'`);
  await run(on, sql`select pg_advisory_xact_lock(${writing})`);
  await run(on, sql`select set_config('statement_timeout', ${value(row!.most)}::text, true)`);
}

/**
 * Makes the test identities of a rulebook into people, marked as such, with exactly the roles that it says.
 * An identity that is no longer there is deactivated and keeps its records. Answers what could not be found yet,
 * such as a district that no record has: that field stays missing.
 */
export async function syncIdentities(
  on: Executor,
  rulebook: Rulebook,
): Promise<{ readonly notes: readonly string[] }> {
  await holdIdentities(on);
  const notes: string[] = [];
  const names = [...rulebook.identities.keys()];
  await run(
    on,
    sql`update ${peopleTable} set _active = false where _active and _identity is not null and _identity <> all(${value(names)}::text[])`,
  );
  for (const identity of rulebook.identities.values()) {
    await refuseTakenAddress(on, identity);
    const values = new Map<string, Value>();
    for (const [field, given] of identity.fields) {
      values.set(field, await resolve(on, rulebook, identity, field, given, notes));
    }
    const person = await upsertPerson(on, rulebook, identity, values);
    const roles = value(identity.roles.map(({ role }) => role));
    await run(
      on,
      sql`delete from gate.role_assignments where person = ${recordKey(person)} and role <> all(${roles}::text[])`,
    );
    for (const { role, until } of identity.roles) {
      await run(
        on,
        sql`insert into gate.role_assignments (person, role, ends, given_by) values (${recordKey(person)}, ${value(role)}, ${value(until)}::timestamptz, 'the rulebook') on conflict (person, role) do update set ends = excluded.ends, given_by = excluded.given_by where role_assignments.ends is distinct from excluded.ends`,
      );
    }
  }
  return { notes };
}

async function refuseTakenAddress(on: Executor, identity: Identity): Promise<void> {
  if (identity.email === null) return;
  const taken = await run(
    on,
    sql`select 1 from ${peopleTable} where email = ${value(identity.email)} and _identity is distinct from ${value(identity.name)}`,
  );
  if (taken.length > 0) {
    throw new PublishRefused([
      `the address of test identity “${identity.name}” belongs to another person already: give the identity an address of its own`,
    ]);
  }
}

async function resolve(
  on: Executor,
  rulebook: Rulebook,
  identity: Identity,
  field: string,
  given: GivenValue,
  notes: string[],
): Promise<Value> {
  if (given.kind === 'value') return given.value;
  if (given.kind !== 'label') return null;
  const found = await findByLabel(on, rulebook, given.collection, given.label);
  if (found.length === 1) return found[0]!;
  const many = found.length === 0 ? 'no record' : 'more than one record';
  notes.push(
    `test identity ${identity.name}: ${field} is missing, because ${given.collection} has ${many} “${given.label}”; publish again when it has one`,
  );
  return null;
}

/** The ids of the records with this label, two at most, with full sight. */
export async function findByLabel(
  on: Executor,
  rulebook: Rulebook,
  collection: string,
  label: string,
): Promise<string[]> {
  const { label: field } = collectionOf(rulebook.schema, collection);
  if (field === null) return [];
  const rows = await run<{ id: string }>(
    on,
    sql`select r.id from ${relation(rulebook.schema, collection)} as r where ${column('r', field)} = ${value(label)}::text limit 2`,
  );
  return rows.map((row) => row.id);
}

async function upsertPerson(
  on: Executor,
  rulebook: Rulebook,
  identity: Identity,
  given: ReadonlyMap<string, Value>,
): Promise<string> {
  // Fields that the identity does not name are missing or have their default, also if an earlier version named them.
  // Of a draft, what has no column yet stays missing.
  const fields = [...collectionOf(rulebook.schema, PEOPLE).fields.values()].filter(
    (field) => !field.system && typeof field.column === 'string',
  );
  const names = fields.map(columnOf);
  const values = fields.map((field) => {
    if (given.has(field.name)) return typed(given.get(field.name)!, field.type);
    if (field.default?.kind === 'now') return sql`now()`;
    return typed(field.default?.value ?? null, field.type);
  });
  const isIt = sql`_identity = ${value(identity.name)}`;
  const isActive = sql`${value(!identity.deactivated)}::boolean`;
  await run(
    on,
    sql`insert into ${peopleTable} (id, created_at, updated_at, _identity, _active, _email_verified, ${commaList(names)})
      values (${recordKey(uuid())}, now(), now(), ${value(identity.name)}, ${isActive}, true, ${commaList(values)})
      on conflict (_identity) do nothing`,
  );
  // Whoever is as they were is left alone. “on conflict do update” would wait for whatever is written that points at them.
  const set = names.map((name, index) => sql`${name} = ${values[index]!}`);
  const differs = names.map((name, index) => sql`(${name})::text is distinct from (${values[index]!})::text`);
  await run(
    on,
    sql`update ${peopleTable} set _active = ${isActive}, updated_at = greatest(updated_at, now()), ${commaList(set)}
      where ${isIt} and ${anyOf([sql`_active <> ${isActive}`, ...differs])}`,
  );
  const [row] = await run<{ id: string }>(on, sql`select id from ${peopleTable} where ${isIt}`);
  return row!.id;
}
