import { Router } from 'express';
import { lookQuerySchema } from '../../client/schemas/desk.ts';
import { withFullSight } from '../../core/evaluate/full-sight.ts';
import { Access } from '../../core/sql/access.ts';
import { note } from '../../store/audit/index.ts';
import { emptyRulebook } from '../../core/ir/rulebook.ts';
import { arrive } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { DISCARDED_DAYS, countRecords } from '../../store/publish/index.ts';
import { countVisible, listRecords } from '../../store/records/read.ts';
import { emptinessOf, overview } from '../answers/look.ts';
import { collectionNamed, listQuestion, parseInput } from '../answers/questions.ts';
import { nextPage, parseShape, recordDocuments } from '../answers/records.ts';
import { VISITOR, credentialsOf } from '../answers/who.ts';
import type { ServiceConfig } from '../config.ts';
import type { Audience, CallerFinder } from '../identity/caller.ts';
import { actorOf, atLeast, unlocked } from '../identity/principal.ts';
import type { StaffDoor } from '../identity/staff.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import type { LoopbackDoor } from '../sweep/door.ts';
import { offerAudit } from './audit.ts';
import { offerBench } from './bench.ts';
import { offerGroups } from './groups.ts';
import { offerInvitations, type PostOffice } from './invitations.ts';
import { offerPeople } from './people.ts';
import { offerAside } from './aside.ts';
import { offerDrafts } from './drafts.ts';
import { offerPatterns } from './patterns.ts';
import { offerPrograms } from './programs.ts';
import { offerProof } from './proof.ts';
import { offerOwners } from './owners.ts';
import { offerPublications } from './publications.ts';
import { send } from './records.ts';
import { offer } from './route.ts';
import { offerUnlock } from './session.ts';
import { offerDeskShares } from './shares.ts';
import { offerSettings } from './settings.ts';
import { offerStaff } from './staff.ts';

/** `/v1/desk`: the developer's side. Staff alone, each as far as their level goes; each route says which it takes. */
export function deskRoutes(
  database: Database,
  callers: CallerFinder,
  staff: StaffDoor,
  rulebooks: RulebookKeeper,
  postOffice: PostOffice,
  config: ServiceConfig,
  openDoor: () => Promise<LoopbackDoor>,
): Router {
  const router = Router({ caseSensitive: true, strict: true });
  // Before anything else, so that nobody else can make the service read 16 MB.
  router.use(async (request, response, next) => {
    response.locals.principal = await staff.enter(request);
    next();
  });

  offer(router, '/overview', {
    async get(_, response) {
      atLeast(response, 'viewer', 'look');
      const { version } = await present();
      send(response, 200, await overview(database, await rulebooks.inForce(version), version));
    },
  });

  offer(router, '/look/:collection', {
    async get(request, response) {
      atLeast(response, 'viewer', 'look');
      const { as, ...query } = parseInput(lookQuerySchema, request.query);
      const rulebook = await rulebooks.inForce((await present()).version);
      const collection = collectionNamed(rulebook, request.params.collection as string);
      // Through an identity; or with full sight, which takes an unlock. Both are on record before anything is shown.
      const actor =
        as === undefined ? await unlocked(database, response, 'publisher', 'look') : actorOf(response);
      if (as !== undefined && as !== VISITOR && !rulebook.identities.has(as)) throw new Problem('not-found');
      const audience = as === undefined ? await withoutIdentity() : await callers.as(credentialsOf(as));
      await note(
        database,
        actor,
        as === undefined ? 'look.without-identity' : 'look.through',
        collection.name,
        {
          ...(as === undefined ? {} : { as }),
          ...(query.where === undefined ? {} : { filtered: true }),
        },
      );
      const total = await countRecords(database, collection);
      const filtered = query.where !== undefined;
      if (audience === null) {
        const emptiness = await emptinessOf(database, rulebook, null, collection, filtered);
        send(response, 200, { records: [], next: null, count: 0, total, roles: [], emptiness });
        return;
      }
      const { access } = audience;
      const shape = parseShape(collection, query);
      const question = await listQuestion(database, access, collection, query, shape);
      const { records, more } = await listRecords(database, access, question);
      send(response, 200, {
        records: await recordDocuments(database, access, collection, records, shape),
        next: nextPage(collection, question, records, more),
        count: await countVisible(database, access, question),
        total,
        roles: [...access.caller.roles].toSorted(),
        emptiness:
          records.length > 0
            ? null
            : await emptinessOf(database, access.rulebook, access, collection, filtered),
      });
    },
  });

  offerPublications(router, database, rulebooks, async () => (await present()).version);
  offerBench(router, database, rulebooks, async () => (await present()).version);
  offerDrafts(router, database, async () => (await present()).version);
  offerUnlock(router, database);
  offerStaff(router, database);
  offerSettings(router, config);
  offerAudit(router, database);
  const inForce = async () => rulebooks.inForce((await present()).version);
  offerPeople(router, database, inForce);
  offerOwners(router, database, inForce);
  offerAside(router, database, config.discardedDays ?? DISCARDED_DAYS);
  offerGroups(router, database, inForce);
  offerInvitations(router, database, inForce, postOffice);
  offerDeskShares(router, database);
  offerPatterns(router);
  offerPrograms(router, database, inForce);
  offerProof(router, database, rulebooks, async () => (await present()).version, openDoor);
  return router;

  async function present() {
    const arrival = await arrive(database, emptyRulebook, { kind: 'visitor' });
    return arrival!;
  }

  /** Everything, for staff who have unlocked: no rule and no fence, and no caller either. */
  async function withoutIdentity(): Promise<Audience> {
    const { rulebook, access } = (await callers.as({ kind: 'visitor' }))!;
    const all = withFullSight(rulebook);
    const { ofTheApplication: _, ...nobody } = access.caller;
    return { rulebook: all, access: new Access(all, nobody, access.now) };
  }
}
