import type { Rulebook } from '../../core/ir/rulebook.ts';
import { holdTheseRules } from '../in-force.ts';
import { v7 as uuid, validate as isUuid } from 'uuid';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { ownKey, peopleTable, recordKey, recordKeys } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { classify } from '../failures.ts';

/** A group as a provider keeps it. */
export interface ProvidedGroup {
  readonly displayName: string;
  readonly externalId: string | null;
  /** Ids of people. */
  readonly members: readonly string[];
}

export interface StoredGroup {
  readonly id: string;
  readonly displayName: string;
  readonly externalId: string | null;
  readonly members: readonly { readonly id: string; readonly name: string | null }[];
  /** That staff give to whoever is in it. */
  readonly roles: readonly string[];
  readonly created: string;
  readonly modified: string;
}

export interface GroupFilter {
  readonly id?: string;
  readonly displayName?: string;
  readonly externalId?: string;
  readonly member?: string;
}

export type GroupRefusal = 'name taken' | 'no such member' | 'changed meanwhile';

/** The groups, in the order in which they came. `offset` from 0. */
export async function providedGroups(
  on: Executor,
  filter: GroupFilter,
  offset: number,
  limit: number,
): Promise<{ readonly groups: StoredGroup[]; readonly total: number }> {
  const where = matching(filter);
  const groups =
    limit === 0
      ? []
      : await run<StoredGroup>(
          on,
          sql`select ${columns} from gate.groups as g where ${where} order by g.created_at, g.id limit ${value(limit)}::integer offset ${value(offset)}::integer`,
        );
  const [counted] = await run<{ total: number }>(
    on,
    sql`select count(*) as total from gate.groups as g where ${where}`,
  );
  return { groups, total: counted!.total };
}

export async function providedGroup(on: Executor, id: string): Promise<StoredGroup | null> {
  return (await providedGroups(on, { id }, 0, 1)).groups[0] ?? null;
}

export async function makeGroup(
  database: Database,
  group: ProvidedGroup,
  actor: Actor,
): Promise<{ readonly id: string } | GroupRefusal> {
  const id = uuid();
  return guarded(() =>
    database.transaction(async (transaction) => {
      await run(
        transaction,
        sql`insert into gate.groups (id, display_name, external_id) values (${ownKey(id)}, ${value(group.displayName)}, ${value(group.externalId)}::text)`,
      );
      await putMembers(transaction, id, group.members);
      await note(transaction, actor, 'group.create', group.displayName, {
        id,
        members: group.members.length,
      });
      return { id };
    }),
  );
}

/** Makes it as the provider says now, where nobody else has since it was read. Who comes in and who goes is in the trail by id. */
export async function changeGroup(
  database: Database,
  before: StoredGroup,
  group: ProvidedGroup,
  actor: Actor,
): Promise<{ readonly id: string } | GroupRefusal> {
  return guarded(() =>
    database.transaction(async (transaction) => {
      const written = await run(
        transaction,
        sql`update gate.groups set display_name = ${value(group.displayName)}, external_id = ${value(group.externalId)}::text, updated_at = now()
          where id = ${ownKey(before.id)} and updated_at = ${value(before.modified)}::timestamptz returning 1`,
      );
      if (written.length === 0) throw new ChangedMeanwhile();
      await putMembers(transaction, before.id, group.members);
      const had = new Set(before.members.map(({ id }) => id));
      const has = new Set(group.members);
      const added = group.members.filter((id) => !had.has(id));
      const removed = [...had].filter((id) => !has.has(id));
      await note(transaction, actor, 'group.change', before.displayName, {
        ...(added.length === 0 ? {} : { added }),
        ...(removed.length === 0 ? {} : { removed }),
        ...(before.displayName === group.displayName
          ? {}
          : { name: { was: before.displayName, is: group.displayName } }),
      });
      return { id: before.id };
    }),
  );
}

export async function removeGroup(database: Database, group: StoredGroup, actor: Actor): Promise<void> {
  await database.transaction(async (transaction) => {
    await run(transaction, sql`delete from gate.groups where id = ${ownKey(group.id)}`);
    await note(transaction, actor, 'group.remove', group.displayName, {
      id: group.id,
      members: group.members.length,
      roles: group.roles,
    });
  });
}

/** What staff give to whoever is in a group, from now on: these roles and no others. */
export async function setGroupRoles(
  database: Database,
  rulebook: Pick<Rulebook, 'version'>,
  group: StoredGroup,
  roles: readonly string[],
  actor: Actor,
): Promise<void> {
  await database.transaction(async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    await applyGroupRoles(transaction, group.id, roles, actor.name);
    await note(transaction, actor, 'group.roles', group.displayName, {
      roles: { was: group.roles, is: roles },
      members: group.members.length,
    });
  });
}

/** The same within a transaction, and without an entry. */
export async function applyGroupRoles(
  on: Executor,
  group: string,
  roles: readonly string[],
  by: string,
): Promise<void> {
  await run(
    on,
    sql`delete from gate.group_roles where "group" = ${ownKey(group)} and role <> all(${value([...roles])}::text[])`,
  );
  await run(
    on,
    sql`insert into gate.group_roles ("group", role, given_by) select ${ownKey(group)}, role, ${value(by)} from unnest(${value([...roles])}::text[]) as each (role) on conflict do nothing`,
  );
}

const columns = sql`g.id, g.display_name as "displayName", g.external_id as "externalId", g.created_at as created, g.updated_at as modified,
  coalesce((select json_agg(json_build_object('id', p.id, 'name', coalesce(p.name, p._user_name)) order by p.id)
    from gate.group_members as m join ${peopleTable} as p on p.id = m.person where m."group" = g.id), '[]'::json) as members,
  array(select r.role from gate.group_roles as r where r."group" = g.id order by r.role) as roles`;

function matching({ id, displayName, externalId, member }: GroupFilter): Fragment {
  const conditions = [
    sql`true`,
    ...(id === undefined ? [] : [sql`g.id = ${ownKey(isUuid(id) ? id : null)}`]),
    ...(displayName === undefined ? [] : [sql`lower(g.display_name) = lower(${value(displayName)})`]),
    ...(externalId === undefined ? [] : [sql`g.external_id = ${value(externalId)}`]),
    ...(member === undefined
      ? []
      : [
          sql`g.id in (select m."group" from gate.group_members as m where m.person = ${recordKey(isUuid(member) ? member : null)})`,
        ]),
  ];
  return conditions.reduce((before, each) => sql`${before} and ${each}`);
}

/** Members are people whom the provider keeps: it cannot reach for anybody else. */
async function putMembers(on: Executor, group: string, members: readonly string[]): Promise<void> {
  const wanted = [...new Set(members)];
  const known = await run(
    on,
    sql`select 1 from ${peopleTable} where id = any(${recordKeys(wanted)}) and _user_name is not null`,
  );
  if (known.length < wanted.length) throw new NoSuchMember();
  await run(
    on,
    sql`delete from gate.group_members where "group" = ${ownKey(group)} and person <> all(${recordKeys(wanted)})`,
  );
  await run(
    on,
    sql`insert into gate.group_members ("group", person) select ${ownKey(group)}, person from unnest(${recordKeys(wanted)}) as each (person) on conflict do nothing`,
  );
}

class NoSuchMember extends Error {}

class ChangedMeanwhile extends Error {}

async function guarded<T>(work: () => Promise<T>): Promise<T | GroupRefusal> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof NoSuchMember) return 'no such member';
    if (error instanceof ChangedMeanwhile) return 'changed meanwhile';
    if (classify(error).kind === 'unique') return 'name taken';
    throw error;
  }
}
