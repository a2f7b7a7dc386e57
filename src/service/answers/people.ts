import { z } from 'zod';
import type { roleChangeSchema } from '../../client/schemas/people.ts';
import { isGivenByHand } from '../../core/evaluate/attributes.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Executor } from '../../store/connection.ts';
import {
  peopleNamed,
  type PeoplePlace,
  type PeopleRefusal,
  type Person,
  type RoleChange,
} from '../../store/people/index.ts';
import { Problem } from '../problems/problem.ts';
import { knownName } from './why.ts';

/** Faults that are named at once. */
const MOST_NAMED = 20;

/** The person that an address of the desk names; 404 otherwise. */
export async function personNamed(on: Executor, text: string): Promise<Person> {
  const person = (await peopleNamed(on, [text])).get(text);
  if (person === undefined) throw new Problem('not-found');
  return person;
}

/** All people of a list; 400 that names those that are nobody. Test identities belong to the rulebook: 409. */
export async function everyoneNamed(on: Executor, texts: readonly string[]): Promise<Person[]> {
  const found = await peopleNamed(on, texts);
  const missing = texts.filter((text) => !found.has(text));
  if (missing.length > 0)
    throw new Problem('malformed-request', {
      errors: [
        ...missing
          .slice(0, MOST_NAMED)
          .map((text) => ({ message: `there is no one person “${text}”`, field: 'people' })),
        ...(missing.length > MOST_NAMED
          ? [{ message: `and ${missing.length - MOST_NAMED} more`, field: 'people' }]
          : []),
      ],
    });
  const people = [...new Map([...found.values()].map((person) => [person.id, person])).values()];
  for (const person of people) refuseIdentity(person);
  return people;
}

/** What a test identity is stands in the rulebook, and nowhere else. */
export function refuseIdentity({ identity }: Person): void {
  if (identity === null) return;
  throw new Problem('managed-by-rulebook', {
    errors: [{ message: `“${identity}” is a test identity: change its block in the rulebook, and publish` }],
  });
}

/** The roles and times of a change, each of which the rulebook in force must know as one that is given by hand. */
export function checkedChange(rulebook: Rulebook, asked: z.infer<typeof roleChangeSchema>): RoleChange {
  const { give, take } = asked;
  if (give.length + take.length === 0) throw fault('give', 'say which roles to give or to take');
  const byHand = [...rulebook.roles.keys()].filter((role) => isGivenByHand(rulebook, role));
  for (const { role, starts, ends } of give) {
    if (rulebook.roles.has(role) && !byHand.includes(role))
      throw fault(
        'give',
        `${role} is held by a condition: change what the condition asks for, not who is given it`,
      );
    knownName('give', role, byHand, 'role');
    if (ends !== undefined && Date.parse(ends) <= Date.now())
      throw fault('give', `${role} would have ended already`);
    if (starts !== undefined && ends !== undefined && Date.parse(ends) <= Date.parse(starts))
      throw fault('give', `${role} would end before it begins`);
  }
  const named = [...give.map(({ role }) => role), ...take];
  const twice = named.find((role, index) => named.indexOf(role) !== index);
  if (twice !== undefined) throw fault('give', `${twice} is named twice`);
  return {
    give: give.map(({ role, starts, ends }) => ({ role, starts: starts ?? null, ends: ends ?? null })),
    take,
  };
}

/** When the last of the roles begins; null: all at once. */
export function whenItHolds({ give }: RoleChange): string | null {
  const starts = give.flatMap((each) => (each.starts === null ? [] : [Date.parse(each.starts)]));
  const last = Math.max(...starts);
  return starts.length === 0 || last <= Date.now() ? null : new Date(last).toISOString();
}

export function peopleProblem(refusal: PeopleRefusal): Problem {
  switch (refusal.kind) {
    case 'value taken':
      return new Problem('value-taken', { fields: [refusal.field] });
    case 'value required':
      return new Problem('value-required', { fields: [refusal.field] });
    case 'reference':
      return new Problem('reference-not-found', { fields: [refusal.field] });
    case 'login taken':
      return new Problem('name-taken', {
        errors: [{ message: 'this login speaks for somebody else already', field: 'login' }],
      });
  }
}

const placeSchema = z.strictObject({ name: z.string(), id: z.uuid() });

export function placeKey(place: PeoplePlace | null): string | null {
  return place === null ? null : Buffer.from(JSON.stringify(place)).toString('base64url');
}

export function parsePlace(text: string | undefined): PeoplePlace | null {
  if (text === undefined) return null;
  try {
    return placeSchema.parse(JSON.parse(Buffer.from(text, 'base64url').toString('utf8')));
  } catch {
    throw fault('after', 'this is not the “next” of a page of people');
  }
}

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field }] });
}
