import { rolesHeld } from '../../core/decide/caller.ts';
import { Router } from 'express';
import { z } from 'zod';
import { problemTypes, type ProblemType } from '../../client/schemas/problems.ts';
import type { HealthDocument } from '../../client/schemas/records.ts';
import { emptyRulebook } from '../../core/ir/rulebook.ts';
import { arrive } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import type { CallerFinder } from '../identity/caller.ts';
import { openApiDocument } from '../openapi/index.ts';
import { parseInput } from '../answers/questions.ts';
import { rightsEverywhere } from '../answers/rights.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { offer } from './route.ts';

const noParameters = z.strictObject({});

/** What the service says of itself: health, its description, its problems, who it thinks is calling, and what they could do. */
export function aboutRoutes(database: Database, callers: CallerFinder, isReady: () => boolean): Router {
  const router = Router({ caseSensitive: true, strict: true });

  offer(router, '/v1/health', {
    async get(_, response) {
      const health = await healthOf();
      response
        .status(health.status === 'ok' ? 200 : 503)
        .set('Cache-Control', 'no-store')
        .json(health);
    },
  });

  offer(router, '/v1/openapi.json', {
    get(_, response) {
      response.set('Cache-Control', 'no-cache').json(openApiDocument());
    },
  });

  offer(router, '/v1/me', {
    async get(request, response) {
      const { rulebook, access } = await callers.find(request);
      const { person } = access.caller;
      const attributes = [...rulebook.attributes.keys()].map((name) => [name, person?.values[name] ?? null]);
      send(response, 200, {
        kind: person === null ? 'visitor' : 'person',
        id: person?.id ?? null,
        roles: rolesHeld(rulebook, access.caller),
        attributes: Object.fromEntries(attributes) as Record<string, unknown>,
      });
    },
  });

  offer(router, '/v1/rights', {
    async get(request, response) {
      parseInput(noParameters, request.query);
      const rights = await callers.reading(request, {}, ({ access }) => rightsEverywhere(access));
      send(response, 200, rights);
    },
  });

  offer(router, '/v1/rights/:collection', {
    async get(request, response) {
      parseInput(noParameters, request.query);
      const rights = await callers.reading(request, {}, async ({ access }) => {
        const { collections } = await rightsEverywhere(access);
        const { collection } = request.params as { collection: string };
        // Of what nothing is open, nothing is told: not even that it is there.
        if (!Object.hasOwn(collections, collection)) throw new Problem('not-found');
        return collections[collection]!;
      });
      send(response, 200, rights);
    },
  });

  router.get('/problems/:type', (request, response) => {
    const { type } = request.params;
    if (!Object.hasOwn(problemTypes, type)) throw new Problem('not-found');
    const { status, title, next } = problemTypes[type as ProblemType];
    response.type('text/plain').send(`${type} (HTTP ${status})\n\n${title}.\n${next}\n`);
  });

  return router;

  async function healthOf(): Promise<HealthDocument> {
    try {
      if (!isReady()) throw new Problem('unavailable');
      const arrival = await arrive(database, emptyRulebook, { kind: 'visitor' });
      return { status: 'ok', database: 'reachable', rulebook: arrival!.version };
    } catch {
      return { status: 'unavailable', database: 'unreachable', rulebook: null };
    }
  }
}
