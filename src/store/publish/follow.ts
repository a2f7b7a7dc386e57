import type { Passage } from '../../core/passage/passage.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { identifier } from '../../core/sql/identifiers.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { run, type Executor } from '../connection.ts';
import { forget } from './roles.ts';

/** Everything that the service keeps by name follows what is called otherwise now. */
export async function followNames(
  on: Executor,
  { renamed, fields, collections }: Passage,
  before: Pick<Rulebook, 'roles'>,
): Promise<void> {
  for (const now of renamed.roles.values()) {
    if (before.roles.has(now)) continue;
    await forget(on, now);
    await run(on, sql`delete from gate.shares where role = ${value(now)}`);
    await run(
      on,
      sql`update gate.invitations set roles = array_remove(roles, ${value(now)}) where ${value(now)} = any(roles)`,
    );
  }
  for (const { table, column } of byRole) await rename(on, table, column, renamed.roles);
  for (const [old, now] of moves(renamed.roles))
    await run(
      on,
      sql`update gate.invitations set roles = array_replace(roles, ${value(old)}, ${value(now)}) where ${value(old)} = any(roles)`,
    );
  for (const { table, column } of byCollection) await rename(on, table, column, renamed.collections);
  // Fields that were set aside of a collection are found under its new name.
  for (const { name, was, table } of collections)
    if (was !== null && was.name !== name)
      await run(
        on,
        sql`update gate.aside set collection = ${value(name)} where relation = ${value(table)} and "column" <> ''`,
      );
  const moved = fields.flatMap(({ collection, field, was }) =>
    was === null || was.name === field.name ? [] : [{ collection, old: was.name, now: field.name }],
  );
  for (const collection of new Set(moved.map((each) => each.collection))) {
    const names = new Map(
      moved.filter((each) => each.collection === collection).map(({ old, now }) => [old, now]),
    );
    await rename(
      on,
      sql`gate.owner_assignments`,
      'field',
      names,
      sql` and collection = ${value(collection)}`,
    );
  }
}

const byRole = [
  { table: sql`gate.role_assignments`, column: 'role' },
  { table: sql`gate.group_roles`, column: 'role' },
  { table: sql`gate.shares`, column: 'role' },
];
const byCollection = [
  { table: sql`gate.shares`, column: 'collection' },
  { table: sql`gate.owner_assignments`, column: 'collection' },
];

/** Old and new names by way of one that nobody can have, since names may be exchanged. */
function moves(names: ReadonlyMap<string, string>): [string, string][] {
  return [
    ...[...names].map(([old]): [string, string] => [old, `=${old}`]),
    ...[...names].map(([old, now]): [string, string] => [`=${old}`, now]),
  ];
}

async function rename(
  on: Executor,
  table: Fragment,
  column: string,
  names: ReadonlyMap<string, string>,
  further: Fragment = sql``,
): Promise<void> {
  const at = identifier(column);
  for (const [old, now] of moves(names))
    await run(on, sql`update ${table} set ${at} = ${value(now)} where ${at} = ${value(old)}${further}`);
}
