import type { Router } from 'express';
import { groupRolesSchema, type GroupDocument } from '../../client/schemas/groups.ts';
import { isGivenByHand } from '../../core/evaluate/attributes.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Database } from '../../store/connection.ts';
import { peopleNamed, previewChange } from '../../store/people/index.ts';
import {
  applyGroupRoles,
  providedGroup,
  providedGroups,
  setGroupRoles,
  type StoredGroup,
} from '../../store/provisioning/index.ts';
import { parseInput } from '../answers/questions.ts';
import { knownName } from '../answers/why.ts';
import { atLeast, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { PREVIEWED } from './people.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** A provider has far fewer groups than people. */
const MOST_GROUPS = 5_000;

/** `/v1/desk/groups`: the groups that an identity provider keeps, and the roles that staff give them. */
export function offerGroups(router: Router, database: Database, inForce: () => Promise<Rulebook>): void {
  offer(router, '/groups', {
    async get(_, response) {
      atLeast(response, 'viewer', 'people');
      const { groups } = await providedGroups(database, {}, 0, MOST_GROUPS);
      send(response, 200, { groups: groups.map(groupDocument) });
    },
  });

  offer(router, '/groups/:group/roles', {
    async put(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const rulebook = await inForce();
      const roles = rolesOf(rulebook, jsonBody(request, ['application/json']));
      const group = await groupNamed(request.params.group as string);
      await setGroupRoles(database, rulebook, group, roles, actor);
      send(response, 200, groupDocument(await groupNamed(group.id)));
    },
  });

  offer(router, '/groups/:group/preview', {
    async post(request, response) {
      atLeast(response, 'author', 'people');
      const rulebook = await inForce();
      const roles = rolesOf(rulebook, jsonBody(request, ['application/json']));
      const group = await groupNamed(request.params.group as string);
      const looked = group.members.slice(0, PREVIEWED).map(({ id }) => id);
      const people = [...(await peopleNamed(database, looked)).values()];
      const preview = await previewChange(database, rulebook, people, null, (on) =>
        applyGroupRoles(on, group.id, roles, 'preview'),
      );
      send(response, 200, { at: null, people: preview, left: group.members.length - looked.length });
    },
  });

  /** By id, or by name in any case. */
  async function groupNamed(text: string): Promise<StoredGroup> {
    const byName = await providedGroups(database, { displayName: text }, 0, 1);
    const group = byName.groups[0] ?? (await providedGroup(database, text));
    if (group === null) throw new Problem('not-found');
    return group;
  }

  function rolesOf(rulebook: Rulebook, body: object): string[] {
    const { roles } = parseInput(groupRolesSchema, body);
    const byHand = [...rulebook.roles.keys()].filter((role) => isGivenByHand(rulebook, role));
    for (const role of roles) knownName('roles', role, byHand, 'role that can be given');
    return [...new Set(roles)];
  }
}

function groupDocument({ id, displayName, members, roles }: StoredGroup): GroupDocument {
  return { id, name: displayName, members: members.length, roles: [...roles] };
}
