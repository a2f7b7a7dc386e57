import type { Router } from 'express';
import { keyRequestSchema, staffChangeSchema, staffInviteSchema } from '../../client/schemas/staff.ts';
import type { Database } from '../../store/connection.ts';
import {
  changeStaff,
  keyEntries,
  makeKey,
  makeLink,
  revokeKey,
  staffAccounts,
  type KeyEntry,
  type Level,
  type StaffAccount,
} from '../../store/staff/index.ts';
import { parseInput } from '../answers/questions.ts';
import { atLeast, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** `/v1/desk/staff` and `/v1/desk/keys`: who may do what at the desk. For managers, and never for a key. */
export function offerStaff(router: Router, database: Database): void {
  offer(router, '/staff', {
    async get(_, response) {
      atLeast(response, 'manager', 'staff');
      send(response, 200, { staff: (await staffAccounts(database)).map(accountDocument) });
    },
    async post(request, response) {
      const actor = await unlocked(database, response, 'manager', 'staff');
      const { email, level } = parseInput(staffInviteSchema, jsonBody(request, ['application/json']));
      if ((await staffAccounts(database)).some((account) => account.email === email))
        throw new Problem('name-taken', {
          errors: [
            {
              message: `${email} has an account already: change its level, or make it a new link`,
              field: 'email',
            },
          ],
        });
      send(response, 201, await linkFor(email, level, actor));
    },
  });

  offer(router, '/staff/:email', {
    async patch(request, response) {
      const actor = await unlocked(database, response, 'manager', 'staff');
      const change = parseInput(staffChangeSchema, jsonBody(request, ['application/json']));
      const changed = await changeStaff(database, request.params.email as string, change, actor);
      if (changed === 'unknown') throw new Problem('not-found');
      if (changed === 'last manager') throw new Problem('last-manager');
      send(response, 200, accountDocument(changed));
    },
  });

  offer(router, '/staff/:email/link', {
    async post(request, response) {
      const actor = await unlocked(database, response, 'manager', 'staff');
      const account = (await staffAccounts(database)).find((each) => each.email === request.params.email);
      if (account === undefined) throw new Problem('not-found');
      send(response, 201, await linkFor(account.email, account.level, actor));
    },
  });

  offer(router, '/keys', {
    async get(_, response) {
      atLeast(response, 'manager', 'staff');
      send(response, 200, { keys: (await keyEntries(database)).map(keyDocument) });
    },
    async post(request, response) {
      const actor = await unlocked(database, response, 'manager', 'staff');
      const { expires, issuer, ...wanted } = parseInput(
        keyRequestSchema,
        jsonBody(request, ['application/json']),
      );
      if (expires !== undefined && Date.parse(expires) <= Date.now())
        throw new Problem('malformed-request', {
          errors: [{ message: 'the key would have expired already', field: 'expires' }],
        });
      const made = await makeKey(
        database,
        { ...wanted, expires: expires ?? null, issuer: issuer ?? null },
        actor,
      );
      if (made === null) throw new Problem('name-taken');
      send(response, 201, { ...keyDocument(made.key), secret: made.secret });
    },
  });

  offer(router, '/keys/:name', {
    async delete(request, response) {
      const actor = await unlocked(database, response, 'manager', 'staff');
      if (!(await revokeKey(database, request.params.name as string, actor))) throw new Problem('not-found');
      response.status(204).end();
    },
  });

  async function linkFor(email: string, level: Level, actor: Parameters<typeof makeLink>[3]) {
    const { secret, expires } = await makeLink(database, email, level, actor);
    return { email, level, link: joinPath(secret), expires };
  }
}

/** Behind the #, where no server and no log on the way sees it. */
export function joinPath(secret: string): string {
  return `/console/join#${secret}`;
}

function accountDocument({ email, level, active, created_at }: StaffAccount) {
  return { email, level, active, created_at };
}

function keyDocument({ id: _, ...rest }: KeyEntry) {
  return { ...rest, areas: [...rest.areas] };
}
