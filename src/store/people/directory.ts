import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { asRecordKey, peopleTable, recordKey } from '../../core/sql/identifiers.ts';
import { run, type Executor } from '../connection.ts';

/** A role that somebody was given by hand. Times are RFC 3339; null: from ever, for ever. */
export interface Assignment {
  readonly role: string;
  readonly starts: string | null;
  readonly ends: string | null;
  readonly given_by: string;
  readonly given_at: string;
}

/** An entry of the directory: what staff see of everybody. The application's own fields are not among it. */
export interface Person {
  readonly id: string;
  readonly name: string | null;
  readonly email: string | null;
  readonly email_verified: boolean;
  readonly active: boolean;
  /** The test identity that it is made for; null for real people. */
  readonly identity: string | null;
  readonly roles: readonly Assignment[];
  /** Roles that they have through a group of a provider. */
  readonly by_group: readonly { readonly role: string; readonly group: string }[];
}

export interface PeopleFilter {
  /** Somewhere in the name or the address, in any case. */
  readonly search?: string | undefined;
  /** Who holds this role now, given by hand or through a group. */
  readonly role?: string | undefined;
  readonly active?: boolean | undefined;
  readonly identities?: boolean | undefined;
}

/** Where a page ended: the name as it is ordered by, and the id. */
export interface PeoplePlace {
  readonly name: string;
  readonly id: string;
}

/** By name, regardless of case; those without one first. Cost of a page: an index range, and with a search a pass over the names. */
export async function listPeople(
  on: Executor,
  filter: PeopleFilter,
  after: PeoplePlace | null,
  limit: number,
): Promise<{ readonly people: Person[]; readonly next: PeoplePlace | null; readonly count: number }> {
  const where = matching(filter);
  const behind =
    after === null
      ? sql`true`
      : sql`(lower(coalesce(p.name, '')), p.id) > (${value(after.name)}, ${recordKey(after.id)})`;
  const order = sql`order by lower(coalesce(p.name, '')), p.id limit ${value(limit + 1)}::integer`;
  // Without a filter the index has the page; with one, whoever fits is looked for once, for the page and for the count.
  const statement =
    where === null
      ? sql`select ${columns}, lower(coalesce(p.name, '')) as place from ${peopleTable} as p where ${behind} ${order}`
      : sql`with found as materialized (select p.* from ${peopleTable} as p where ${where})
          select ${columns}, lower(coalesce(p.name, '')) as place, (select count(*) from found) as count
          from found as p where ${behind} ${order}`;
  const rows = await run<Person & { place: string; count?: number }>(on, statement);
  const counted =
    rows[0]?.count ??
    (
      await run<{ count: number }>(
        on,
        sql`select count(*) as count from ${peopleTable} as p where ${where ?? sql`true`}`,
      )
    )[0]!.count;
  const page = rows.slice(0, limit);
  const last = page.at(-1);
  return {
    people: page.map(({ place: _, count: __, ...person }) => person),
    next: rows.length > limit ? { name: last!.place, id: last!.id } : null,
    count: counted,
  };
}

/**
 * The people that are meant, by id, by address, or by the name of a test identity. An address in another case counts where
 * it is one person's alone. Texts that name nobody, or cannot tell two apart, are left out.
 */
export async function peopleNamed(
  on: Executor,
  named: readonly string[],
): Promise<ReadonlyMap<string, Person>> {
  const rows = await run<Person & { text: string; exact: boolean }>(
    on,
    sql`select asked.text, coalesce(p.email = asked.text, false) or p.email is null or lower(p.email) <> lower(asked.text) as exact, ${columns}
      from unnest(${value([...new Set(named)])}::text[]) as asked (text)
      join ${peopleTable} as p
        on lower(p.email) = lower(asked.text) or p._identity = asked.text
        or p.id = case when asked.text ~ ${value(UUID)} then ${asRecordKey(sql`asked.text`)} end`,
  );
  const found = new Map<string, (typeof rows)[number][]>();
  for (const row of rows) found.set(row.text, [...(found.get(row.text) ?? []), row]);
  const people = new Map<string, Person>();
  for (const [text, candidates] of found) {
    const exact = candidates.filter((each) => each.exact);
    const [chosen, ...others] = exact.length > 0 ? exact : candidates;
    if (others.length > 0) continue;
    const { text: _, exact: __, ...person } = chosen!;
    people.set(text, person);
  }
  return people;
}

/** How the tokens of somebody name them. */
export interface Login {
  readonly issuer: string;
  readonly subject: string;
}

export async function loginsOf(on: Executor, person: string): Promise<Login[]> {
  return run<Login>(
    on,
    sql`select issuer, subject from gate.logins where person = ${recordKey(person)} order by issuer, subject`,
  );
}

/** The groups of a provider that somebody is in, with the roles that they give. */
export async function groupsOf(
  on: Executor,
  person: string,
): Promise<{ readonly name: string; readonly roles: string[] }[]> {
  return run(
    on,
    sql`select g.display_name as name, array(select r.role from gate.group_roles as r where r."group" = g.id order by r.role) as roles
      from gate.group_members as m join gate.groups as g on g.id = m."group" where m.person = ${recordKey(person)} order by g.display_name`,
  );
}

/** How many hold each role that was given by hand, now and at another time. */
export async function roleCounts(
  on: Executor,
): Promise<
  { readonly role: string; readonly now: number; readonly later: number; readonly ended: number }[]
> {
  return run(
    on,
    sql`select a.role,
        count(*) filter (where (a.starts is null or a.starts <= now()) and (a.ends is null or now() < a.ends)) as now,
        count(*) filter (where now() < a.starts) as later,
        count(*) filter (where a.ends <= now()) as ended
      from gate.role_assignments as a join ${peopleTable} as p on p.id = a.person
      where p._active and p._identity is null group by a.role order by a.role`,
  );
}

const UUID = '^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$';

const columns = sql`p.id, p.name, p.email, p._email_verified as email_verified, p._active as active, p._identity as identity,
  coalesce((
    select json_agg(json_build_object('role', a.role, 'starts', ${moment('a.starts')}, 'ends', ${moment('a.ends')},
      'given_by', a.given_by, 'given_at', ${moment('a.given_at')}) order by a.role)
    from gate.role_assignments as a where a.person = p.id
  ), '[]'::json) as roles,
  coalesce((
    select json_agg(json_build_object('role', r.role, 'group', g.display_name) order by r.role, g.display_name)
    from gate.group_members as m join gate.groups as g on g.id = m."group" join gate.group_roles as r on r."group" = g.id
    where m.person = p.id
  ), '[]'::json) as by_group`;

function moment(column: 'a.starts' | 'a.ends' | 'a.given_at'): Fragment {
  return {
    text: `to_char(${column} at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"')`,
    values: [],
  };
}

function matching({ search, role, active, identities }: PeopleFilter): Fragment | null {
  const conditions: Fragment[] = [];
  if (search !== undefined)
    conditions.push(
      sql`(position(lower(${value(search)} collate "default") in lower(p.name collate "default")) > 0
        or position(lower(${value(search)} collate "default") in lower(p.email collate "default")) > 0)`,
    );
  if (role !== undefined)
    conditions.push(
      sql`p.id in (select a.person from gate.role_assignments as a where a.role = ${value(role)}
        and (a.starts is null or a.starts <= now()) and (a.ends is null or now() < a.ends)
        union select m.person from gate.group_members as m join gate.group_roles as r on r."group" = m."group" where r.role = ${value(role)})`,
    );
  if (active !== undefined) conditions.push(sql`p._active = ${value(active)}`);
  if (identities !== undefined)
    conditions.push(identities ? sql`p._identity is not null` : sql`p._identity is null`);
  return conditions.length === 0 ? null : conditions.reduce((before, each) => sql`${before} and ${each}`);
}
