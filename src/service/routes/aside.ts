import type { Router } from 'express';
import { asideChangeSchema, type AsideDocument } from '../../client/schemas/aside.ts';
import type { Database } from '../../store/connection.ts';
import { discard, listAside, type CountedAside } from '../../store/publish/index.ts';
import { parseInput } from '../answers/questions.ts';
import { atLeast, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

const DAY_MS = 86_400_000;

/** What no version speaks of any more, and is kept. Below `/v1/desk`, for staff. */
export function offerAside(router: Router, database: Database, days: number): void {
  offer(router, '/aside', {
    async get(_, response) {
      atLeast(response, 'viewer', 'rulebook');
      send(response, 200, { aside: (await listAside(database)).map((each) => documentOf(each, days)) });
    },
    async post(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'rulebook');
      const {
        name,
        version = null,
        keep,
      } = parseInput(asideChangeSchema, jsonBody(request, ['application/json']));
      const meant = await discard(database, { name, version, keep }, actor);
      if (meant.length === 0)
        throw new Problem('not-found', {
          errors: [
            { message: `nothing ${keep ? 'discarded' : 'set aside'} is called ${name}`, field: 'name' },
          ],
        });
      const all = await listAside(database);
      const now = all.filter((each) =>
        meant.some((one) => one.relation === each.relation && one.column === each.column),
      );
      send(response, 200, { aside: now.map((each) => documentOf(each, days)) });
    },
  });
}

function documentOf(each: CountedAside, days: number): AsideDocument {
  const { name, field, version, set_aside_at: since, count, discarded_by, discarded_at } = each;
  return {
    name,
    kind: field === null ? 'collection' : 'field',
    version,
    since,
    count,
    discarded_by,
    dropped_after:
      discarded_at === null ? null : new Date(Date.parse(discarded_at) + days * DAY_MS).toISOString(),
  };
}
