import { deskClient } from '../credentials.ts';
import type { Output } from '../output.ts';
import { printPreview } from './roles.ts';

/** `firmgate groups list` */
export async function groupsList(output: Output): Promise<void> {
  const groups = await (await deskClient(output)).groups();
  output.data({ groups });
  if (groups.length === 0) {
    output.line('No provider keeps a group here yet.');
    return;
  }
  output.table(
    ['group', 'members', 'roles', 'id'],
    groups.map(({ id, name, members, roles }) => [name, String(members), roles.join(', ') || 'none', id]),
  );
}

/** `firmgate groups roles GROUP ROLES…`: shows what its members gain and lose; with --yes, gives it these and no others. */
export async function groupsRoles(
  output: Output,
  group: string,
  roles: readonly string[],
  options: { yes?: boolean },
): Promise<void> {
  const client = await deskClient(output);
  const preview = await client.previewGroup(group, roles);
  if (options.yes !== true) {
    output.data({ saved: false, preview });
    printPreview(output, preview);
    output.line('\nNothing is saved. The same with --yes saves it.');
    return;
  }
  const saved = await client.setGroupRoles(group, roles);
  output.data({ saved: true, group: saved, preview });
  printPreview(output, preview);
  output.line(
    `\n${output.good('✓')} whoever is in ${saved.name} holds ${saved.roles.join(', ') || 'nothing through it'}, from the next request on`,
  );
}
