import type { Rulebook } from '../../core/ir/rulebook.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { recordKeys } from '../../core/sql/identifiers.ts';
import { noteEach, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { holdTheseRules } from '../in-force.ts';
import { subjectOf } from './change.ts';
import type { Assignment, Person } from './directory.ts';

/** Roles that are given and taken, to all of these people alike. Times are RFC 3339. */
export interface RoleChange {
  readonly give: readonly Pick<Assignment, 'role' | 'starts' | 'ends'>[];
  readonly take: readonly string[];
}

/**
 * Gives and takes roles by hand: for all people, or for nobody. One who has a role already gets its new times. Answers how
 * many people have other roles now than before. Each change is an entry of the trail.
 */
export async function changeRoles(
  database: Database,
  rulebook: Pick<Rulebook, 'version'>,
  people: readonly Person[],
  change: RoleChange,
  actor: Actor,
): Promise<number> {
  return database.transaction(async (transaction) => {
    await holdTheseRules(transaction, rulebook);
    const before = await applyRoles(transaction, people, change, actor.name);
    const notes = people.flatMap((person) => {
      const had = new Map(before.get(person.id)?.map((each) => [each.role, each]));
      const given = change.give
        .filter((each) => !isSame(had.get(each.role), each))
        .map((each) => ({
          action: 'role.give',
          subject: subjectOf(person),
          detail: {
            role: each.role,
            ...(had.has(each.role) ? { was: period(had.get(each.role)!), is: period(each) } : period(each)),
          },
        }));
      const taken = change.take
        .filter((role) => had.has(role))
        .map((role) => ({
          action: 'role.take',
          subject: subjectOf(person),
          detail: { role, ...period(had.get(role)!) },
        }));
      return [...given, ...taken];
    });
    await noteEach(transaction, actor, notes);
    return new Set(notes.map(({ subject }) => subject)).size;
  });
}

/** The same within a transaction, and without an entry; answers the assignments that these roles had before, by person. */
export async function applyRoles(
  on: Executor,
  people: readonly Person[],
  { give, take }: RoleChange,
  by: string,
): Promise<ReadonlyMap<string, Assignment[]>> {
  const ids = people.map(({ id }) => id);
  const roles = [...give.map(({ role }) => role), ...take];
  const rows = await run<Assignment & { person: string }>(
    on,
    sql`select person, role, starts, ends, given_by, given_at from gate.role_assignments
      where person = any(${recordKeys(ids)}) and role = any(${value(roles)}::text[]) for update`,
  );
  const before = new Map<string, Assignment[]>();
  for (const { person, ...rest } of rows) before.set(person, [...(before.get(person) ?? []), rest]);
  for (const { role, starts, ends } of give)
    await run(
      on,
      sql`insert into gate.role_assignments as a (person, role, starts, ends, given_by)
        select person, ${value(role)}, ${value(starts)}::timestamptz, ${value(ends)}::timestamptz, ${value(by)}
        from unnest(${recordKeys(ids)}) as each (person)
        on conflict (person, role) do update
          set starts = excluded.starts, ends = excluded.ends, given_by = excluded.given_by, given_at = now()
          where (a.starts, a.ends) is distinct from (excluded.starts, excluded.ends)`,
    );
  if (take.length > 0)
    await run(
      on,
      sql`delete from gate.role_assignments where person = any(${recordKeys(ids)}) and role = any(${value([...take])}::text[])`,
    );
  return before;
}

type Period = Pick<Assignment, 'starts' | 'ends'>;

function isSame(a: Period | undefined, b: Period): boolean {
  return a !== undefined && instant(a.starts) === instant(b.starts) && instant(a.ends) === instant(b.ends);
}

function instant(text: string | null): number | null {
  return text === null ? null : Date.parse(text);
}

function period({ starts, ends }: Period): { from?: string; until?: string } {
  return { ...(starts === null ? {} : { from: starts }), ...(ends === null ? {} : { until: ends }) };
}
