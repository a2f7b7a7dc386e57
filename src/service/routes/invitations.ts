import { Router } from 'express';
import { z } from 'zod';
import {
  acceptanceRequestSchema,
  inviteSchema,
  invitationsQuerySchema,
  letterSchema,
} from '../../client/schemas/invitations.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { parseValue } from '../../core/types/values.ts';
import type { Database } from '../../store/connection.ts';
import {
  acceptInvitation,
  listInvitations,
  readLetter,
  revokeInvitation,
  saveLetter,
  type Acceptance,
  type InvitationPlace,
} from '../../store/invitations/index.ts';
import { inviteAll, letterValues } from '../answers/invite.ts';
import { parseInput } from '../answers/questions.ts';
import type { CallerFinder } from '../identity/caller.ts';
import { jsonReader } from '../input/body.ts';
import { actorOf, atLeast, unlocked } from '../identity/principal.ts';
import { filledLetter, firstLetter, letterFaults } from '../post/letter.ts';
import type { Post } from '../post/post.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer, offerReport, write } from './route.ts';

/** 10,000 lines with names, roles and dates. */
const listBody = jsonReader('4mb', { values: 200_000 });

/** How letters go out, and where their links lead. */
export interface PostOffice {
  readonly post: Post | null;
  /** The page of the application on which an invited person arrives. */
  readonly welcome: string;
}

/** `/v1/desk/invitations` and `/v1/desk/letter`: bringing people in. */
export function offerInvitations(
  router: Router,
  database: Database,
  inForce: () => Promise<Rulebook>,
  { post, welcome }: PostOffice,
): void {
  offer(router, '/invitations', {
    async get(request, response) {
      atLeast(response, 'viewer', 'people');
      const { state, search, limit, after } = parseInput(invitationsQuerySchema, request.query);
      const page = await listInvitations(database, { state, search }, parsePlace(after), limit);
      const { next } = page;
      send(response, 200, {
        invitations: page.invitations,
        next: next === null ? null : Buffer.from(JSON.stringify(next)).toString('base64url'),
      });
    },
  });

  offerReport(router, '/invitations/letters', listBody, async (request, response, progress) => {
    const actor = await unlocked(database, response, 'publisher', 'people');
    const asked = parseInput(inviteSchema, jsonBody(request, ['application/json']));
    if (post === null) throw new Problem('no-post');
    return inviteAll(database, await inForce(), post, welcome, asked, actor, progress);
  });

  offer(router, '/invitations/:invitation', {
    async delete(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const id = parseValue({ kind: 'uuid' }, request.params.invitation as string);
      const gone =
        id.ok && id.value !== null && (await revokeInvitation(database, id.value as string, actor));
      if (!gone) throw new Problem('not-found');
      response.status(204).end();
    },
  });

  offer(router, '/letter', {
    async get(_, response) {
      atLeast(response, 'viewer', 'people');
      send(response, 200, (await readLetter(database)) ?? firstLetter);
    },
    async put(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const letter = checkedLetter(jsonBody(request, ['application/json']));
      await saveLetter(database, letter, actor);
      send(response, 200, letter);
    },
  });

  offer(router, '/letter/preview', {
    post(request, response) {
      atLeast(response, 'viewer', 'people');
      const letter = checkedLetter(jsonBody(request, ['application/json']));
      const sample = { email: 'mina.lee@hollowoak.example', roles: ['keeper'], ends: '2027-03-01T00:00:00Z' };
      const expires = new Date(Date.now() + 14 * 86_400_000).toISOString();
      const link = `${welcome}#a-code-of-43-letters-that-works-once`;
      send(response, 200, filledLetter(letter, letterValues(sample, expires, link, actorOf(response).name)));
    },
  });
}

/** `/v1/invitations/acceptance`: an invited person arrives, with the code of their letter and their own token. */
export function acceptanceRoutes(database: Database, callers: CallerFinder): Router {
  const router = Router({ caseSensitive: true, strict: true });
  offer(
    router,
    '/acceptance',
    {
      post: write(database, async (request, response, carryOut) => {
        const { code } = parseInput(acceptanceRequestSchema, jsonBody(request, ['application/json']));
        const { rulebook, ...invited } = await callers.stranger(request);
        const came = await carryOut((on) =>
          acceptInvitation(on, rulebook, code, invited, request.ip ?? null),
        );
        if (came.kind !== 'accepted') throw acceptanceProblem(came, invited.email);
        send(response, 200, { person: came.person, roles: came.roles });
      }),
    },
    jsonReader('10kb'),
  );
  return router;
}

function acceptanceProblem(came: Exclude<Acceptance, { kind: 'accepted' }>, email: string | null): Problem {
  const because = (message: string) => ({ errors: [{ message }] });
  switch (came.kind) {
    case 'unknown':
      return new Problem('link-not-good', because('there is no such invitation: is the link whole?'));
    case 'over':
      return new Problem('link-not-good', because(overWords[came.state]));
    case 'wrong address':
      return new Problem(
        'wrong-address',
        because(
          email === null
            ? 'your token says no address that your issuer has verified'
            : 'this invitation is for another address than the one you have signed in with',
        ),
      );
    case 'deactivated':
      return new Problem('link-not-good', because('whoever it is for may not sign in any more'));
    case 'login taken':
      return new Problem(
        'name-taken',
        because('your account and the invited address belong to two people already'),
      );
    case 'cannot':
      return new Problem('internal');
  }
}

const overWords = {
  accepted: 'the invitation is used already',
  expired: 'the invitation is too old',
  revoked: 'the invitation was taken back',
} as const;

function checkedLetter(body: object) {
  const letter = parseInput(letterSchema, body);
  const faults = letterFaults(letter);
  if (faults.length > 0)
    throw new Problem('malformed-request', { errors: faults.map((message) => ({ message, field: 'body' })) });
  return letter;
}

const placeSchema = z.strictObject({ at: z.iso.datetime({ offset: true }), id: z.uuid() });

function parsePlace(text: string | undefined): InvitationPlace | null {
  if (text === undefined) return null;
  try {
    return placeSchema.parse(JSON.parse(Buffer.from(text, 'base64url').toString('utf8')));
  } catch {
    throw new Problem('malformed-request', {
      errors: [{ message: 'this is not the “next” of a page of invitations', field: 'after' }],
    });
  }
}
