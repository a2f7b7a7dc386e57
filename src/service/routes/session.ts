import { Router, type Response } from 'express';
import { rateLimit } from 'express-rate-limit';
import { signInSchema } from '../../client/schemas/desk.ts';
import type { Database } from '../../store/connection.ts';
import { beginSession, checkPassword, endSession } from '../../store/staff.ts';
import { parseInput } from '../answers/questions.ts';
import { SESSION_COOKIE, sessionSecret, type StaffDoor } from '../identity/staff.ts';
import { answer } from '../problems/handler.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** `/v1/desk/session`: staff sign in and out. */
export function sessionRoutes(database: Database, staff: StaffDoor): Router {
  const router = Router({ caseSensitive: true, strict: true });
  const throttle = rateLimit({
    windowMs: 15 * 60_000,
    limit: 20,
    standardHeaders: 'draft-8',
    legacyHeaders: false,
    skipSuccessfulRequests: true,
    skip: (request) => request.method !== 'POST',
    handler: (request, response) => answer(new Problem('too-many-attempts'), request, response),
  });

  offer(
    router,
    '/session',
    {
      async get(request, response) {
        send(response, 200, { email: await staff.enter(request) });
      },
      async post(request, response) {
        const { email, password } = parseInput(signInSchema, jsonBody(request, ['application/json']));
        const found = await checkPassword(database, email.trim().toLowerCase(), password);
        if (found === null) throw new Problem('not-signed-in');
        const { secret, hours } = await beginSession(database, found);
        setCookie(response, secret, hours * 3_600_000, request.secure);
        send(response, 200, { email: found.email });
      },
      async delete(request, response) {
        const secret = sessionSecret(request);
        if (secret !== null) await endSession(database, secret);
        setCookie(response, '', 0, request.secure);
        response.status(204).end();
      },
    },
    [throttle],
  );
  return router;
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
