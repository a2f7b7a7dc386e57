import type { Router } from 'express';
import {
  loginRequestSchema,
  peopleQuerySchema,
  personChangeSchema,
  personRequestSchema,
  roleChangeSchema,
  type PersonDetail,
  type PersonDocument,
  type RolesDocument,
} from '../../client/schemas/people.ts';
import { isGivenByHand } from '../../core/evaluate/attributes.ts';
import { rolesHeld } from '../../core/decide/caller.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../../core/types/schema.ts';
import { parseSupplied } from '../../core/types/supplied.ts';
import { note } from '../../store/audit/index.ts';
import { arrive } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import {
  applyRoles,
  changePerson,
  changeRoles,
  createPerson,
  groupsOf,
  linkLogin,
  listPeople,
  loginsOf,
  previewChange,
  roleCounts,
  unlinkLogin,
  type Person,
} from '../../store/people/index.ts';
import { wholeReach } from '../../store/reach.ts';
import {
  checkedChange,
  everyoneNamed,
  parsePlace,
  peopleProblem,
  personNamed,
  placeKey,
  refuseIdentity,
  whenItHolds,
} from '../answers/people.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer, takingParameters } from './route.ts';

/** People that a preview looks at: each takes a few searches of every collection. */
export const PREVIEWED = 25;

/** `/v1/desk/people` and `/v1/desk/roles`: who there is, and who may what. */
export function offerPeople(router: Router, database: Database, inForce: () => Promise<Rulebook>): void {
  offer(router, '/people', {
    async get(request, response) {
      atLeast(response, 'viewer', 'people');
      const { search, role, state, kind, limit, after } = parseInput(peopleQuerySchema, request.query);
      const filter = {
        search,
        role,
        active: state === undefined ? undefined : state === 'active',
        identities: kind === 'all' ? undefined : kind === 'test identities',
      };
      const page = await listPeople(database, filter, parsePlace(after), limit);
      send(response, 200, {
        people: page.people.map(personDocument),
        next: placeKey(page.next),
        count: page.count,
      });
    },
    async post(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const asked = parseInput(personRequestSchema, jsonBody(request, ['application/json']));
      const rulebook = await inForce();
      const { name = null, email = null, values = {}, login = null } = asked;
      const parsed = parseSupplied(collectionOf(rulebook.schema, PEOPLE), { ...values, name, email });
      if (parsed.faults.length > 0)
        throw new Problem('malformed-request', {
          errors: parsed.faults.map(({ field, must }) => ({ message: `${field} ${must}`, field })),
        });
      const id = await createPerson(database, rulebook, parsed.values, login, actor);
      if (typeof id !== 'string') throw peopleProblem(id);
      send(response, 201, await detailOf(await personNamed(database, id)));
    },
  });

  offer(router, '/roles/changes', {
    async post(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const { rulebook, people, change } = await roleChange(jsonBody(request, ['application/json']));
      const changed = await changeRoles(database, rulebook, people, change, actor);
      send(response, 200, { people: people.length, changed });
    },
  });

  offer(router, '/roles/preview', {
    async post(request, response) {
      atLeast(response, 'author', 'people');
      const { people, change } = await roleChange(jsonBody(request, ['application/json']));
      const looked = people.slice(0, PREVIEWED);
      const at = whenItHolds(change);
      const preview = await previewChange(database, await inForce(), looked, at, (on) =>
        applyRoles(on, looked, change, 'preview'),
      );
      send(response, 200, { at, people: preview, left: people.length - looked.length });
    },
  });

  offer(router, '/people/:person', {
    async get(request, response) {
      atLeast(response, 'viewer', 'people');
      send(response, 200, await detailOf(await personNamed(database, request.params.person as string)));
    },
    async patch(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const change = parseInput(personChangeSchema, jsonBody(request, ['application/json']));
      const person = await personNamed(database, request.params.person as string);
      refuseIdentity(person);
      const refusal = await changePerson(database, person, change, actor);
      if (refusal !== null) throw peopleProblem(refusal);
      send(response, 200, await detailOf(await personNamed(database, person.id)));
    },
  });

  offer(router, '/people/:person/reach', {
    async get(request, response) {
      atLeast(response, 'viewer', 'people');
      const person = await personNamed(database, request.params.person as string);
      const reach = await wholeReach(database, await inForce(), {
        credentials: { kind: 'person', id: person.id },
      });
      await note(database, actorOf(response), 'look.reach', person.email ?? person.id);
      send(
        response,
        200,
        reach ?? { roles: [], collections: [], reach: [], adds: [], givesBack: [], undecided: [] },
      );
    },
  });

  offer(router, '/people/:person/logins', {
    async post(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const login = parseInput(loginRequestSchema, jsonBody(request, ['application/json']));
      const person = await personNamed(database, request.params.person as string);
      refuseIdentity(person);
      if (!(await linkLogin(database, person, login, actor))) throw peopleProblem({ kind: 'login taken' });
      send(response, 200, await detailOf(person));
    },
    delete: takingParameters(async (request, response) => {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const login = parseInput(loginRequestSchema, request.query);
      const person = await personNamed(database, request.params.person as string);
      if (!(await unlinkLogin(database, person, login, actor))) throw new Problem('not-found');
      response.status(204).end();
    }),
  });

  offer(router, '/roles', {
    async get(_, response) {
      atLeast(response, 'viewer', 'people');
      send(response, 200, await rolesDocument(await inForce()));
    },
  });

  async function roleChange(body: object) {
    const asked = parseInput(roleChangeSchema, body);
    const rulebook = await inForce();
    const change = checkedChange(rulebook, asked);
    return { rulebook, change, people: await everyoneNamed(database, asked.people) };
  }

  async function detailOf(person: Person): Promise<PersonDetail> {
    const rulebook = await inForce();
    const arrival = await arrive(database, rulebook, { kind: 'person', id: person.id });
    return {
      ...personDocument(person),
      held: arrival === null ? [] : rolesHeld(rulebook, arrival.caller),
      unknown: person.roles.map(({ role }) => role).filter((role) => !rulebook.roles.has(role)),
      groups: await groupsOf(database, person.id),
      logins: await loginsOf(database, person.id),
    };
  }

  async function rolesDocument(rulebook: Rulebook): Promise<RolesDocument> {
    const counts = new Map((await roleCounts(database)).map(({ role, ...people }) => [role, people]));
    const known = [...rulebook.roles.values()].map(({ name, title, includes }) => ({
      name,
      title,
      held: isGivenByHand(rulebook, name) ? ('by hand' as const) : ('by condition' as const),
      includes: [...includes.keys()].filter((each) => each !== name),
      people: counts.get(name) ?? { now: 0, later: 0, ended: 0 },
    }));
    const unknown = [...counts.keys()].filter((name) => !rulebook.roles.has(name));
    return {
      roles: [
        ...known,
        ...unknown.map((name) => ({
          name,
          title: null,
          held: 'unknown' as const,
          includes: [],
          people: counts.get(name)!,
        })),
      ],
    };
  }
}

function personDocument({ roles, by_group: byGroup, ...person }: Person): PersonDocument {
  return { ...person, roles: [...roles], by_group: [...byGroup] };
}
