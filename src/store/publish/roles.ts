import type { Rulebook } from '../../core/ir/rulebook.ts';
import { isGivenByHand } from '../../core/evaluate/attributes.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { peopleTable } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Executor } from '../connection.ts';

/** A role that people were given by hand, or through a group, and that a rulebook no longer knows, or knows again. */
export interface RoleChange {
  readonly role: string;
  readonly how: 'gone' | 'back';
  /** People who hold it, or held it before it went; test identities are not counted. */
  readonly holders: number;
}

/** The roles that somebody holds and that come or go between two rulebooks. */
export async function roleChanges(on: Executor, before: Rulebook, after: Rulebook): Promise<RoleChange[]> {
  const byHand = (rulebook: Rulebook) =>
    [...rulebook.roles.keys()].filter((role) => isGivenByHand(rulebook, role));
  const [was, is] = [byHand(before), byHand(after)];
  const changes = [
    ...was.filter((role) => !after.roles.has(role)).map((role) => ({ role, how: 'gone' as const })),
    ...is.filter((role) => !before.roles.has(role)).map((role) => ({ role, how: 'back' as const })),
  ];
  const counted = await run<{ role: string; holders: number }>(
    on,
    sql`select role, count(distinct person) as holders from (
        select role, person from gate.role_assignments
        union all
        select g.role, m.person from gate.group_roles as g join gate.group_members as m on m."group" = g."group"
      ) as held join ${peopleTable} as p on p.id = held.person
      where role = any(${value(changes.map(({ role }) => role))}::text[]) and p._identity is null group by role`,
  );
  const holders = new Map(counted.map((each) => [each.role, each.holders]));
  return changes.flatMap((each) => {
    const count = holders.get(each.role) ?? 0;
    return count === 0 ? [] : [{ ...each, holders: count }];
  });
}

/**
 * A role that comes back after it was gone is held by nobody: who held it once, somebody must mean to hold it again. Where an old
 * version is restored it is held as it was. Answers what is to be told, in sentences.
 */
export async function settleRoles(
  on: Executor,
  before: Rulebook,
  after: Rulebook,
  actor: Actor,
  { restoring }: { readonly restoring: boolean },
): Promise<string[]> {
  const notes: string[] = [];
  for (const { role, how, holders } of await roleChanges(on, before, after)) {
    const people = holders === 1 ? '1 person' : `${holders} people`;
    if (how === 'gone') {
      notes.push(`the role “${role}” is gone: ${people} had it, and it gives them nothing any more`);
    } else if (restoring) {
      notes.push(
        `the role “${role}” is back: ${people} who had it ${holders === 1 ? 'has' : 'have'} it again`,
      );
    } else {
      await run(on, sql`delete from gate.role_assignments where role = ${value(role)}`);
      await run(on, sql`delete from gate.group_roles where role = ${value(role)}`);
      await note(on, actor, 'role.forget', role, { people: holders });
      notes.push(
        `the role “${role}” is back, and ${people} who had it before it went ${holders === 1 ? 'has' : 'have'} it no longer: give it again where it is meant`,
      );
    }
  }
  return notes;
}
