import type { Response, Router } from 'express';
import { canQuerySchema } from '../../client/schemas/can.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { note } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import { canAnswer } from '../answers/can.ts';
import { parseInput } from '../answers/questions.ts';
import { credentialsOf } from '../answers/who.ts';
import { knownName } from '../answers/why.ts';
import { openApiOf } from '../description/openapi.ts';
import { typescriptOf } from '../description/typescript.ts';
import { atLeast } from '../identity/principal.ts';
import { askedAbout } from './proof.ts';
import { send } from './records.ts';
import { offer } from './route.ts';

/**
 * What whoever writes programs asks for: the collections in force by name, and what a program would be told. Below `/v1/desk`, for
 * staff and keys: names of fields are not everybody's.
 */
export function offerPrograms(router: Router, database: Database, published: () => Promise<Rulebook>): void {
  offer(
    router,
    '/types',
    {
      async get(_, response) {
        atLeast(response, 'viewer', 'look');
        sendText(response, typescriptOf(await published()));
      },
    },
    [],
    ['text/plain', 'application/problem+json'],
  );

  offer(router, '/openapi.json', {
    async get(_, response) {
      atLeast(response, 'viewer', 'look');
      send(response, 200, openApiOf(await published()));
    },
  });

  offer(router, '/can', {
    async get(request, response) {
      atLeast(response, 'viewer', 'look');
      const { as, ...asked } = parseInput(canQuerySchema, request.query);
      const rulebook = await published();
      const { actor, person } = await askedAbout(database, response, as);
      if (person === null) knownName('as', as, [...rulebook.identities.keys(), 'visitor'], 'test identity');
      const { collection, record, operation } = asked;
      const subject = record === undefined ? collection : `${collection} ${record}`;
      await note(database, actor, 'look.can', subject, { as, operation });
      const credentials = person === null ? credentialsOf(as) : ({ kind: 'person', id: person.id } as const);
      send(response, 200, await canAnswer(database, rulebook, credentials, asked));
    },
  });
}

function sendText(response: Response, text: string): void {
  response.set({ 'Cache-Control': 'private, no-store', Vary: 'Authorization' }).type('text/plain').send(text);
}
