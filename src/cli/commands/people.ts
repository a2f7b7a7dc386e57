import type { PersonChange, PersonDetail } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { parseValues, wholeNumber } from '../values.ts';
import { printReach } from './reach.ts';
import { assignmentWords } from './roles.ts';

interface ListOptions {
  readonly role?: string;
  readonly deactivated?: boolean;
  readonly identities?: boolean;
  readonly limit: string;
  readonly after?: string;
}

/** `firmgate people list [SEARCH]` */
export async function peopleList(
  output: Output,
  search: string | undefined,
  options: ListOptions,
): Promise<void> {
  const client = await deskClient(output);
  const page = await client.people({
    ...(search === undefined ? {} : { search }),
    ...(options.role === undefined ? {} : { role: options.role }),
    ...(options.deactivated === true ? { state: 'deactivated' as const } : {}),
    ...(options.identities === true ? { kind: 'test identities' as const } : {}),
    ...(options.after === undefined ? {} : { after: options.after }),
    limit: wholeNumber('--limit', options.limit, 1, 500),
  });
  output.data(page);
  if (page.people.length === 0) {
    output.line('Nobody fits.');
    return;
  }
  output.table(
    ['name', 'address', 'roles', ''],
    page.people.map((person) => [
      person.name ?? person.identity ?? '',
      person.email ?? person.id,
      [
        ...person.roles.map((each) => assignmentWords(each)),
        ...person.by_group.map(({ role, group }) => `${role} (${group})`),
      ].join('\n'),
      person.active ? '' : 'deactivated',
    ]),
  );
  output.line(output.paint.faint(`\n${page.people.length} of ${page.count}`));
  if (page.next !== null) output.line(output.paint.faint(`the next ones: --after ${page.next}`));
}

/** `firmgate people show PERSON`: who they are, their roles, and their whole reach. */
export async function peopleShow(output: Output, named: string): Promise<void> {
  const client = await deskClient(output);
  const [person, reach] = [await client.person(named), await client.personReach(named)];
  output.data({ ...person, reach });
  printPerson(output, person);
  if (!output.json) printReach(output, reach, person.email ?? person.id, undefined);
}

interface AddOptions {
  readonly name?: string;
  readonly issuer?: string;
  readonly subject?: string;
}

/** `firmgate people add EMAIL [FIELD=VALUE …]` */
export async function peopleAdd(
  output: Output,
  email: string,
  given: readonly string[],
  options: AddOptions,
): Promise<void> {
  const { name, issuer, subject } = options;
  if ((issuer === undefined) !== (subject === undefined))
    throw new Misuse('--issuer and --subject go together: both are of the token');
  const client = await deskClient(output);
  const fields = (await client.overview()).collections.find((each) => each.name === 'people')!.fields;
  const person = await client.addPerson({
    email,
    values: parseValues(fields, given),
    ...(name === undefined ? {} : { name }),
    ...(issuer === undefined ? {} : { login: { issuer, subject: subject! } }),
  });
  output.data(person);
  output.line(
    `${output.good('✓')} ${person.email} is there, with no role yet: firmgate roles give ROLE ${person.email}`,
  );
}

/** `firmgate people change PERSON --name … --email …` */
export async function peopleChange(
  output: Output,
  named: string,
  options: { name?: string; email?: string },
): Promise<void> {
  const { name, email } = options;
  const wanted = { ...(name === undefined ? {} : { name }), ...(email === undefined ? {} : { email }) };
  await change(output, named, wanted, 'is changed');
}

/** `firmgate people out PERSON` */
export async function peopleOut(output: Output, named: string): Promise<void> {
  await change(output, named, { active: false }, 'is nobody, from the next request on; their roles are kept');
}

/** `firmgate people in PERSON` */
export async function peopleIn(output: Output, named: string): Promise<void> {
  await change(output, named, { active: true }, 'is let in again, with the roles that they have');
}

/** `firmgate people link PERSON ISSUER SUBJECT` */
export async function peopleLink(
  output: Output,
  named: string,
  issuer: string,
  subject: string,
): Promise<void> {
  const person = await (await deskClient(output)).addLogin(named, issuer, subject);
  output.data(person);
  output.line(
    `${output.good('✓')} tokens of ${issuer} with the subject ${subject} speak for ${nameOf(person)}`,
  );
}

/** `firmgate people unlink PERSON ISSUER SUBJECT` */
export async function peopleUnlink(
  output: Output,
  named: string,
  issuer: string,
  subject: string,
): Promise<void> {
  await (await deskClient(output)).removeLogin(named, issuer, subject);
  output.data({ removed: { issuer, subject } });
  output.line(`${output.good('✓')} tokens of ${issuer} with the subject ${subject} speak for nobody`);
}

async function change(output: Output, named: string, wanted: PersonChange, how: string): Promise<void> {
  if (Object.keys(wanted).length === 0) throw new Misuse('say what is to change: --name, --email');
  const person = await (await deskClient(output)).changePerson(named, wanted);
  output.data(person);
  output.line(`${output.good('✓')} ${nameOf(person)} ${how}`);
}

function nameOf({ email, id }: PersonDetail): string {
  return email ?? id;
}

function printPerson(output: Output, person: PersonDetail): void {
  const {
    name,
    email,
    email_verified: verified,
    active,
    identity,
    roles,
    held,
    unknown,
    groups,
    logins,
  } = person;
  output.line(output.paint.strong(name ?? identity ?? email ?? person.id));
  const address = email === null ? 'none' : `${email}${verified ? '' : ', not verified: rules see none'}`;
  const brought = held.filter((role) => !roles.some((each) => each.role === role));
  output.table(
    [],
    [
      ['address', address],
      ['id', person.id],
      ...(active ? [] : [['state', output.paint.bad('deactivated: every token of theirs is refused')]]),
      ...(identity === null ? [] : [['test identity', `${identity}: what it is stands in the rulebook`]]),
      ...(logins.length === 0
        ? []
        : [['signs in as', logins.map(({ issuer, subject }) => `${subject} at ${issuer}`).join('\n')]]),
      [
        'given roles',
        roles
          .map((each) => {
            const strange = unknown.includes(each.role)
              ? ', unknown to the rulebook: it counts for nothing'
              : '';
            return `${assignmentWords(each)}, by ${each.given_by} on ${each.given_at.slice(0, 10)}${strange}`;
          })
          .join('\n') || 'none',
      ],
      ...(groups.length === 0
        ? []
        : [
            [
              'groups',
              groups.map((each) => `${each.name}: ${each.roles.join(', ') || 'no role'}`).join('\n'),
            ],
          ]),
      ...(brought.length === 0 ? [] : [['and holds', brought.join(', ')]]),
    ],
  );
  output.line();
}
