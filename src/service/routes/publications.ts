import type { Router } from 'express';
import { historyQuerySchema, publicationSchema, type Publication } from '../../client/schemas/desk.ts';
import { previewRequestSchema } from '../../client/schemas/preview.ts';
import { note } from '../../store/audit/index.ts';
import type { Database, Executor } from '../../store/connection.ts';
import {
  OtherBase,
  OtherPreview,
  TrialsFailed,
  foreseenOf,
  history,
  publish,
  publishedFiles,
  publishedVersion,
  type Published,
  type Verified,
} from '../../store/publish/index.ts';
import { keptPreview } from '../../store/preview/kept.ts';
import { refutedInvariants, triedTrials } from '../../store/trials/index.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { identitiesOf } from '../../core/passage/renames.ts';
import { checkedDraft } from '../answers/drafts.ts';
import { digestOf, previewAnswer, type Foreseeing } from '../answers/preview.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, hasUnlocked, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { rulebookBody } from './proof.ts';
import { send } from './records.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { jsonBody, offer, offerReport } from './route.ts';

/** Failed expectations that an answer names. */
const NAMED = 20;

/** What is to be in force, as a request says it: by its files, or by the version that had them. */
type Wanted = Pick<Publication, 'files' | 'restores' | 'takeBack'>;

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
        const {
          files,
          restores,
          preview = null,
          ...about
        } = parseInput(publicationSchema, jsonBody(request, ['application/json']));
        const foreseeing = await foreseen({ files, restores, takeBack: about.takeBack });
        const named = preview === 'make' ? await made(foreseeing, actor.name) : preview;
        const published = await answered(
          publish(database, foreseeing.draft, actor, verified, {
            ...about,
            restores: restores ?? null,
            preview: named,
          }),
        );
        send(response, 200, published);
      },
    },
    rulebookBody,
  );

  offerReport(router, '/preview', rulebookBody, async (request, response, progress) => {
    atLeast(response, 'author', 'proof');
    const foreseeing = await foreseen(
      parseInput(previewRequestSchema, jsonBody(request, ['application/json'])),
    );
    const present = await rulebooks.versionInForce(await version());
    const report = await previewAnswer(
      database,
      present,
      foreseeing,
      { unlocked: await hasUnlocked(database, response, 'publisher'), by: actorOf(response).name },
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
      send(response, 200, { ...about, files, identities, preview: await foreseenOf(database, version) });
    },
  });

  async function foreseen({ files, restores, takeBack = [] }: Wanted): Promise<Foreseeing> {
    const draft = checkedDraft({ files: files ?? (await filesOf(restores!)) });
    const restored =
      restores === undefined ? null : ((await publishedVersion(database, restores))?.names ?? null);
    return { draft, restores: restores ?? null, restored, takeBack };
  }

  /** The digest of a preview that nobody has looked at; one that somebody has is as good. */
  async function made(foreseeing: Foreseeing, by: string): Promise<string> {
    const present = await rulebooks.versionInForce(await version());
    const digest = digestOf(present, foreseeing);
    if ((await keptPreview(database, digest)) === null)
      await previewAnswer(database, present, foreseeing, { unlocked: false, by }, () => undefined);
    return digest;
  }

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
    if (error instanceof OtherPreview) throw new Problem('other-preview');
    if (error instanceof TrialsFailed)
      throw new Problem('trials-failed', {
        errors: error.trials.failures.slice(0, NAMED).map((message) => ({ message })),
      });
    throw error;
  }
}
