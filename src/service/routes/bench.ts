import type { Response, Router } from 'express';
import { benchCountsRequestSchema, benchRequestSchema } from '../../client/schemas/bench.ts';
import { note } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import { benchCounts, benchPage, digestOf, triedDraft } from '../answers/bench.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, hasUnlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { rulebookBody } from './proof.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

const JSON_TYPES = ['application/json'];

/** What rules that are being written do to the records that are there, for several identities at once. Below `/v1/desk`, for staff. */
export function offerBench(
  router: Router,
  database: Database,
  rulebooks: RulebookKeeper,
  version: () => Promise<number | null>,
): void {
  offer(
    router,
    '/bench/:collection',
    {
      async post(request, response) {
        atLeast(response, 'viewer', 'look');
        const asked = parseInput(benchRequestSchema, jsonBody(request, JSON_TYPES));
        const present = await enter(response, request.params.collection as string, asked);
        const { found, sides } = await triedDraft(database, present, asked.files);
        const unlocked = await hasUnlocked(database, response, 'publisher');
        const page =
          sides === null
            ? null
            : await benchPage(database, sides, request.params.collection as string, asked, unlocked);
        send(response, 200, { version: present.rulebook.version, ...found, page });
      },
    },
    rulebookBody,
  );

  offer(
    router,
    '/bench/:collection/counts',
    {
      async post(request, response) {
        atLeast(response, 'viewer', 'look');
        const asked = parseInput(benchCountsRequestSchema, jsonBody(request, JSON_TYPES));
        const present = await enter(response, request.params.collection as string, asked);
        const { found, sides } = await triedDraft(database, present, asked.files);
        if (sides === null) {
          const [error] = found.errors;
          if (error !== undefined)
            throw new Problem('rulebook-errors', {
              errors: found.errors.map(({ start: _, end: __, fix: ___, ...each }) => each),
            });
          throw new Problem('cannot-publish', { errors: found.problems.map((message) => ({ message })) });
        }
        send(
          response,
          200,
          await benchCounts(database, sides, request.params.collection as string, asked.as),
        );
      },
    },
    rulebookBody,
  );

  /** A draft is a question with full sight: authors alone ask it. Whoever is looked through is on record before anything is shown. */
  async function enter(
    response: Response,
    collection: string,
    {
      as,
      files,
    }: { readonly as: readonly string[]; readonly files?: { name: string; text: string }[] | undefined },
  ) {
    if (files !== undefined) atLeast(response, 'author', 'proof');
    await note(database, actorOf(response), 'look.bench', collection.slice(0, 100), {
      as: [...as],
      ...(files === undefined ? {} : { draft: digestOf(files).slice(0, 12) }),
    });
    return rulebooks.versionInForce(await version());
  }
}
