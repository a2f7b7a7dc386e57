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

/** The roles that people hold and that come or go between two rulebooks. */
export async function roleChanges(
  on: Executor,
  before: Rulebook,
  after: Rulebook,
  renamed: ReadonlyMap<string, string>,
): Promise<RoleChange[]> {
  return (await everyChange(on, before, after, renamed)).filter(({ holders }) => holders > 0);
}

/** Those that nobody holds, too. A role that was held by a condition and is given by hand now comes like any other. */
async function everyChange(
  on: Executor,
  before: Rulebook,
  after: Rulebook,
  renamed: ReadonlyMap<string, string>,
): Promise<RoleChange[]> {
  const byHand = (rulebook: Rulebook) =>
    [...rulebook.roles.keys()].filter((role) => isGivenByHand(rulebook, role));
  const [was, is] = [byHand(before).map((role) => renamed.get(role) ?? role), byHand(after)];
  const changes = [
    ...was.filter((role) => !is.includes(role)).map((role) => ({ role, how: 'gone' as const })),
    ...is.filter((role) => !was.includes(role)).map((role) => ({ role, how: 'back' as const })),
  ];
  if (changes.length === 0) return [];
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
  return changes.map((each) => ({ ...each, holders: holders.get(each.role) ?? 0 }));
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
  { restoring, renamed }: { readonly restoring: boolean; readonly renamed: ReadonlyMap<string, string> },
): Promise<string[]> {
  const notes: string[] = [];
  for (const { role, how, holders } of await everyChange(on, before, after, renamed)) {
    // A group without members may get some: what it brought is forgotten, too, and there is nobody to tell of.
    if (how === 'back' && !restoring) await forget(on, role);
    if (holders === 0) continue;
    const people = holders === 1 ? '1 person' : `${holders} people`;
    if (how === 'gone') {
      const now = after.roles.has(role) ? 'is held by a condition now' : 'is gone';
      notes.push(`the role “${role}” ${now}: ${people} had it by hand, which gives them nothing any more`);
    } else if (restoring) {
      notes.push(
        `the role “${role}” is back: ${people} who had it ${holders === 1 ? 'has' : 'have'} it again`,
      );
    } else {
      await note(on, actor, 'role.forget', role, { people: holders });
      notes.push(
        `the role “${role}” is back, and ${people} who had it before it went ${holders === 1 ? 'has' : 'have'} it no longer: give it again where it is meant`,
      );
    }
  }
  return notes;
}

/** Whoever was given a role of this name once, when there was one, does not get the one that is called so now. */
export async function forget(on: Executor, role: string): Promise<void> {
  // Test identities hold what the rulebook says, and nothing else.
  await run(
    on,
    sql`delete from gate.role_assignments as a using ${peopleTable} as p where p.id = a.person and p._identity is null and a.role = ${value(role)}`,
  );
  await run(on, sql`delete from gate.group_roles where role = ${value(role)}`);
}
