import { Router } from 'express';
import { lookQuerySchema } from '../../client/schemas/desk.ts';
import { arrive, nothingKnown } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { countRecords, publish } from '../../store/publish/index.ts';
import { countVisible, listRecords } from '../../store/records/read.ts';
import { rightsOn } from '../../store/records/rights.ts';
import { refutedInvariants } from '../../store/trials/index.ts';
import { checkedDraft } from '../answers/drafts.ts';
import { emptinessOf, overview } from '../answers/look.ts';
import { collectionNamed, listQuestion, parseInput } from '../answers/questions.ts';
import { nextPage, parseShape, recordDocuments } from '../answers/records.ts';
import type { CallerFinder } from '../identity/caller.ts';
import type { StaffDoor } from '../identity/staff.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import type { LoopbackDoor } from '../sweep/door.ts';
import { offerProof, rulebookBody } from './proof.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** `/v1/desk`: the developer's side. Staff alone; records only through an identity. */
export function deskRoutes(
  database: Database,
  callers: CallerFinder,
  staff: StaffDoor,
  rulebooks: RulebookKeeper,
  openDoor: () => Promise<LoopbackDoor>,
): Router {
  const router = Router({ caseSensitive: true, strict: true });
  // Before anything else, so that nobody else can make the service read 16 MB.
  router.use(async (request, response, next) => {
    response.locals.staff = await staff.enter(request);
    next();
  });

  offer(router, '/overview', {
    async get(_, response) {
      const { version } = await present();
      send(response, 200, await overview(database, await rulebooks.inForce(version), version));
    },
  });

  offer(router, '/look/:collection', {
    async get(request, response) {
      const query = parseInput(lookQuerySchema, request.query);
      const rulebook = await rulebooks.inForce((await present()).version);
      const collection = collectionNamed(rulebook, request.params.collection as string);
      if (query.as !== undefined && !rulebook.identities.has(query.as)) throw new Problem('not-found');
      const audience = await callers.as(
        query.as === undefined ? { kind: 'visitor' } : { kind: 'test identity', name: query.as },
      );
      const total = await countRecords(database, collection.name);
      const filtered = query.where !== undefined;
      if (audience === null) {
        const emptiness = await emptinessOf(database, rulebook, null, collection, filtered);
        send(response, 200, { records: [], next: null, count: 0, total, roles: [], emptiness });
        return;
      }
      const { access } = audience;
      const question = listQuestion(access.rulebook, collection, query);
      const { records, more } = await listRecords(database, access, question);
      send(response, 200, {
        records: await recordDocuments(database, access, collection, records, parseShape(collection, query)),
        next: nextPage(question, records, more),
        count: await countVisible(database, access, question),
        total,
        roles: [...access.caller.roles].toSorted(),
        ...(query.rights === 'true'
          ? {
              rights: await rightsOn(
                database,
                access,
                collection.name,
                records.map((record) => record.id),
              ),
            }
          : {}),
        emptiness:
          records.length > 0
            ? null
            : await emptinessOf(database, access.rulebook, access, collection, filtered),
      });
    },
  });

  offer(
    router,
    '/publications',
    {
      async post(request, response) {
        const rulebook = checkedDraft(jsonBody(request, ['application/json']));
        send(
          response,
          200,
          await publish(database, rulebook, response.locals.staff as string, refutedInvariants),
        );
      },
    },
    [rulebookBody],
  );

  offerProof(router, database, rulebooks, async () => (await present()).version, openDoor);
  return router;

  async function present() {
    const arrival = await arrive(database, nothingKnown, { kind: 'visitor' });
    return arrival!;
  }
}
