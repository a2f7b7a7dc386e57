import type { Router } from 'express';
import { historyQuerySchema, publicationSchema } from '../../client/schemas/desk.ts';
import { previewRequestSchema } from '../../client/schemas/preview.ts';
import { note } from '../../store/audit/index.ts';
import type { Database, Executor } from '../../store/connection.ts';
import {
  OtherBase,
  TrialsFailed,
  history,
  publish,
  publishedFiles,
  publishedVersion,
  type Published,
  type Verified,
} from '../../store/publish/index.ts';
import { refutedInvariants, triedTrials } from '../../store/trials/index.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { identitiesOf } from '../../core/passage/renames.ts';
import { checkedDraft } from '../answers/drafts.ts';
import { previewAnswer } from '../answers/preview.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, hasUnlocked, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { rulebookBody } from './proof.ts';
import { send } from './records.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { jsonBody, offer, offerReport } from './route.ts';

/** Failed expectations that an answer names. */
const NAMED = 20;

/** The published versions: what they were, and one more. Below `/v1/desk`, for staff. */
export function offerPublications(
  router: Router,
  database: Database,
  rulebooks: RulebookKeeper,
  version: () => Promise<number | null>,
): void {
  offer(
    router,
    '/publications',
    {
      async get(request, response) {
        atLeast(response, 'viewer', 'look');
        const { before = null, limit } = parseInput(historyQuerySchema, request.query);
        const found = await history(database, { before, limit: limit + 1 });
        const versions = found.slice(0, limit);
        send(response, 200, { versions, next: found.length > limit ? versions.at(-1)!.version : null });
      },

      async post(request, response) {
        const actor = await unlocked(database, response, 'publisher', 'rulebook');
        const { files, restores, ...about } = parseInput(
          publicationSchema,
          jsonBody(request, ['application/json']),
        );
        const wanted = files ?? (await filesOf(restores!));
        const rulebook = checkedDraft({ files: wanted });
        const published = await answered(
          publish(database, rulebook, actor, verified, { ...about, restores: restores ?? null }),
        );
        send(response, 200, published);
      },
    },
    rulebookBody,
  );

  offerReport(router, '/preview', rulebookBody, async (request, response, progress) => {
    atLeast(response, 'author', 'proof');
    const {
      files,
      restores,
      takeBack = [],
    } = parseInput(previewRequestSchema, jsonBody(request, ['application/json']));
    const present = await rulebooks.versionInForce(await version());
    const draft = checkedDraft({ files: files ?? (await filesOf(restores!)) });
    const restored =
      restores === undefined ? null : ((await publishedVersion(database, restores))?.names ?? null);
    const report = await previewAnswer(
      database,
      present,
      { draft, restored, takeBack },
      { unlocked: await hasUnlocked(database, response, 'publisher') },
      progress,
    );
    await note(database, actorOf(response), 'proof.preview', 'a draft', {
      against: present.rulebook.version,
      differences: report.differences.length,
    });
    return report;
  });

  offer(router, '/publications/:version', {
    async get(request, response) {
      atLeast(response, 'viewer', 'look');
      const named = request.params.version as string;
      const version = /^[1-9]\d{0,8}$/.test(named) ? Number(named) : null;
      const [about] = version === null ? [] : await history(database, { before: version + 1, limit: 1 });
      if (about === undefined || about.version !== version)
        throw new Problem('not-found', { errors: [{ message: 'there is no such version' }] });
      const files = await filesOf(version);
      await note(database, actorOf(response), 'look.version', `version ${version}`);
      const known = await publishedVersion(database, version);
      const identities = known === null ? null : identitiesOf(known.names);
      send(response, 200, { ...about, files, identities });
    },
  });

  async function filesOf(version: number) {
    const files = await publishedFiles(database, version);
    if (files === null)
      throw new Problem('malformed-request', {
        errors: [{ message: `there is no version ${version}`, field: 'restores' }],
      });
    return files;
  }
}

/** What is tried of every rulebook before it is in force. */
async function verified(on: Executor, rulebook: Rulebook): Promise<Verified> {
  const refuted = await refutedInvariants(on, rulebook);
  return { refuted, trials: refuted.length > 0 ? null : await triedTrials(on, rulebook) };
}

async function answered(work: Promise<Published>): Promise<Published> {
  try {
    return await work;
  } catch (error) {
    if (error instanceof OtherBase)
      throw new Problem('other-version', {
        errors: [
          {
            message: `it was made from version ${error.base}; version ${error.inForce} is in force`,
            field: 'base',
          },
        ],
      });
    if (error instanceof TrialsFailed)
      throw new Problem('trials-failed', {
        errors: error.trials.failures.slice(0, NAMED).map((message) => ({ message })),
      });
    throw error;
  }
}
