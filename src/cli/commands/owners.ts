import { readFileSync } from 'node:fs';
import type { OwnerAssignment } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';

/** `firmgate owners show COLLECTION`: the records that nobody owns. */
export async function ownersShow(output: Output, collection: string): Promise<void> {
  const found = await (await deskClient(output)).ownerless(collection);
  output.data(found);
  const { without, total, since, examples, accepted } = found;
  const by = found.owned_by.join(' or ');
  if (without === 0) {
    output.line(`${output.good('✓')} each of ${total} records of ${collection} has an owner (${by})`);
    return;
  }
  output.line(
    `${without} of ${total} records of ${collection} have no owner (${by}), the oldest since ${since!.slice(0, 10)}`,
  );
  output.line(`  ${examples.join(', ')}${without > examples.length ? ', …' : ''}`);
  if (accepted !== null) output.line(`  the rulebook accepts that: ${accepted}`);
}

interface AssignOptions {
  readonly to?: string;
  readonly by?: string;
  readonly list?: string;
  readonly where?: string;
  readonly field?: string;
  readonly look?: boolean;
}

/** `firmgate owners assign COLLECTION --to PERSON | --by PATH | --list FILE`. */
export async function ownersAssign(
  output: Output,
  collection: string,
  options: AssignOptions,
): Promise<void> {
  const { to, by, list, where, field, look } = options;
  if ([to, by, list].filter((each) => each !== undefined).length !== 1)
    throw new Misuse('say whose they are to be: one of --to PERSON, --by PATH, --list FILE');
  const assignment: OwnerAssignment = {
    ...(to === undefined ? {} : { to }),
    ...(by === undefined ? {} : { by }),
    ...(list === undefined ? {} : { list: textOf(list) }),
    ...(where === undefined ? {} : { where }),
    ...(field === undefined ? {} : { field }),
    look: look === true,
  };
  const client = await deskClient(output);
  const { id, records, missed, owners } = await client.assignOwners(collection, assignment);
  output.data({ id, records, missed, owners });
  const people = new Map<string, string>();
  for (const { person } of owners) people.set(person, (await client.person(person)).email ?? person);
  const count = records === 1 ? '1 record' : `${records} records`;
  output.line(
    id === null
      ? `${count} of ${collection} would have an owner; nothing was saved`
      : `${output.good('✓')} ${count} of ${collection} ${records === 1 ? 'has' : 'have'} an owner now`,
  );
  if (missed > 0) output.line(`  for ${missed} more nobody was found: they are as they were`);
  output.table(
    ['person', 'is given', 'read before', 'read after'],
    owners.map((each) => [people.get(each.person)!, String(each.records), String(each.was), String(each.is)]),
  );
  if (id !== null && records > 0) output.line(`undo it with: firmgate owners undo ${id}`);
}

function textOf(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    throw new Misuse(`the list ${file} cannot be read`);
  }
}

/** `firmgate owners undo ID`. */
export async function ownersUndo(output: Output, id: string): Promise<void> {
  const { records } = await (await deskClient(output)).undoOwners(id);
  output.data({ records });
  output.line(
    `${output.good('✓')} ${records === 1 ? '1 record has' : `${records} records have`} no owner, as before`,
  );
}
