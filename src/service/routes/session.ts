import { Router, type Request, type Response } from 'express';
import { ipKeyGenerator } from 'express-rate-limit';
import {
  joinSchema,
  passwordChangeSchema,
  signInSchema,
  unlockRequestSchema,
  type SessionDocument,
} from '../../client/schemas/staff.ts';
import type { Attempted } from '../../store/attempts.ts';
import type { Database } from '../../store/connection.ts';
import {
  beginSession,
  beginUnlock,
  changePassword,
  checkPassword,
  currentUnlock,
  endSession,
  endUnlock,
  useLink,
  type Staff,
} from '../../store/staff/index.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, type Principal } from '../identity/principal.ts';
import { SESSION_COOKIE, sessionSecret, type StaffDoor } from '../identity/staff.ts';
import { Problem } from '../problems/problem.ts';
import { throttle } from '../throttle.ts';
import { send } from './records.ts';
import { jsonBody, offer, recordBody } from './route.ts';

/** Failed tries in a quarter of an hour: from one address, and at one account from wherever. */
const TRIES_BY_ADDRESS = 20;
const TRIES_AT_ACCOUNT = 60;

/** `/v1/desk/session`, `/v1/desk/join` and `/v1/desk/unlock`: staff sign in and out, and unlock. */
export function sessionRoutes(database: Database, staff: StaffDoor, development: boolean): Router {
  const router = Router({ caseSensitive: true, strict: true });
  /** Failed tries, by what the key says. Whoever names no account tries none. */
  const tries = (kind: Attempted, limit: number, key: (request: Request) => string) =>
    throttle(database, {
      kind,
      limit,
      key,
      skip: (request) => (request.method !== 'POST' && request.method !== 'PATCH') || key(request) === '',
    });
  const throttles = [
    ...recordBody,
    tries('sign in by address', TRIES_BY_ADDRESS, (request) => ipKeyGenerator(request.ip ?? '')),
    tries('sign in at account', TRIES_AT_ACCOUNT, ({ body }) => {
      const { email } = (body ?? {}) as { email?: unknown };
      return typeof email === 'string' ? email.trim().toLowerCase().slice(0, 320) : '';
    }),
  ];

  offer(
    router,
    '/session',
    {
      async get(request, response) {
        send(response, 200, await sessionDocument(await staff.enter(request)));
      },
      async post(request, response) {
        const { email, password } = parseInput(signInSchema, jsonBody(request, ['application/json']));
        const found = await checkPassword(database, email, password);
        if (found === null) throw new Problem('not-signed-in');
        send(response, 200, await signIn(request, response, found));
      },
      async patch(request, response) {
        const asked = parseInput(passwordChangeSchema, jsonBody(request, ['application/json']));
        const principal = await staff.enter(request);
        if (principal.kind !== 'staff')
          throw new Problem('level-too-low', {
            errors: [{ message: `${principal.name} signs in without a password` }],
          });
        const account = {
          id: principal.id.slice('staff:'.length),
          email: principal.name,
          level: principal.level,
        };
        const by = { name: principal.name, origin: request.ip ?? null, reason: null };
        if (!(await changePassword(database, account, asked.password, asked.new, by)))
          throw new Problem('not-signed-in');
        send(response, 200, await signIn(request, response, account));
      },
      async delete(request, response) {
        const secret = sessionSecret(request);
        if (secret !== null) await endSession(database, secret, request.ip ?? null);
        setCookie(response, '', 0, request.secure);
        response.status(204).end();
      },
    },
    throttles,
  );

  offer(
    router,
    '/join',
    {
      async post(request, response) {
        const { secret, email, password } = parseInput(joinSchema, jsonBody(request, ['application/json']));
        const joined = await useLink(database, secret, email ?? null, password, request.ip ?? null);
        if (joined === null) throw new Problem('link-not-good');
        send(response, 200, await signIn(request, response, joined));
      },
    },
    throttles,
  );
  return router;

  async function signIn(request: Request, response: Response, account: Staff): Promise<SessionDocument> {
    const actor = { name: account.email, origin: request.ip ?? null, reason: null };
    const { secret, hours } = await beginSession(database, account, actor);
    setCookie(response, secret, hours * 3_600_000, request.secure);
    return sessionDocument({
      kind: 'staff',
      id: `staff:${account.id}`,
      name: account.email,
      level: account.level,
      areas: null,
    });
  }

  async function sessionDocument(principal: Principal): Promise<SessionDocument> {
    const { name, kind, level, areas } = principal;
    const unlock = await currentUnlock(database, principal.id);
    return { name, kind, level, areas: areas === null ? null : [...areas], unlock, development };
  }
}

/** `/v1/desk/unlock`, behind the staff door. */
export function offerUnlock(router: Router, database: Database): void {
  offer(router, '/unlock', {
    async get(_, response) {
      const { id } = atLeast(response, 'viewer', 'own session');
      send(response, 200, { unlock: await currentUnlock(database, id) });
    },
    async post(request, response) {
      const { id } = atLeast(response, 'publisher', 'own session');
      const { reason, minutes } = parseInput(unlockRequestSchema, jsonBody(request, ['application/json']));
      const unlock = await beginUnlock(database, id, reason, minutes, actorOf(response));
      send(response, 200, { unlock });
    },
    async delete(_, response) {
      const { id } = atLeast(response, 'viewer', 'own session');
      await database.transaction((transaction) => endUnlock(transaction, id, actorOf(response)));
      response.status(204).end();
    },
  });
}

function setCookie(response: Response, secret: string, maxAge: number, secure: boolean): void {
  response.cookie(SESSION_COOKIE, secret, {
    httpOnly: true,
    sameSite: 'strict',
    secure,
    path: '/v1/desk',
    maxAge,
  });
}
