import { json, type Router } from 'express';
import { trialRequestSchema, type VerdictDocument } from '../../client/schemas/desk.ts';
import { sweepRequestSchema } from '../../client/schemas/sweep.ts';
import { whyRequestSchema } from '../../client/schemas/why.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { positionAt } from '../../core/language/source.ts';
import { chosenTrials } from '../../core/trial/choice.ts';
import type { Verdict } from '../../core/trial/verdict.ts';
import type { Database } from '../../store/connection.ts';
import { tryOut } from '../../store/trials/index.ts';
import { checkedDraft, refuseOtherCollections } from '../answers/drafts.ts';
import { parseInput } from '../answers/questions.ts';
import { sweepAnswer } from '../answers/sweep.ts';
import type { LoopbackDoor } from '../sweep/door.ts';
import { knownName, whyAnswer } from '../answers/why.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { send } from './records.ts';
import { jsonBody, offer, offerReport } from './route.ts';

/** A rulebook is larger than a record: 500 files of ordinary length. */
export const rulebookBody = json({ limit: '16mb' });

/** The developer's proof: trials, sweeps and why. Offered below `/v1/desk`, to staff alone. */
export function offerProof(
  router: Router,
  database: Database,
  rulebooks: RulebookKeeper,
  version: () => Promise<number | null>,
  openDoor: () => Promise<LoopbackDoor>,
): void {
  /** The rulebook in force, or a draft over the same collections. */
  async function rulebookOf(files: { name: string; text: string }[] | undefined) {
    const inForce = await rulebooks.inForce(await version());
    if (files === undefined) return { rulebook: inForce, inForce };
    const rulebook = checkedDraft({ files });
    refuseOtherCollections(rulebook.schema, inForce.schema);
    return { rulebook, inForce };
  }

  offerReport(router, '/trials', [rulebookBody], async (request, progress) => {
    const { files, only, as } = parseInput(trialRequestSchema, jsonBody(request, ['application/json']));
    const { rulebook, inForce } = await rulebookOf(files);
    if (as !== undefined) knownName('as', as, [...rulebook.identities.keys(), 'visitor'], 'test identity');
    const choice = chosenTrials(rulebook, only ?? null, as ?? null);
    const began = performance.now();
    const verdicts: VerdictDocument[] = [];
    await tryOut(database, rulebook, inForce, choice, (verdict, done, total) => {
      verdicts.push(verdictDocument(verdict, rulebook));
      progress({ done, total, doing: verdict.trial });
    });
    const passed = verdicts.filter((verdict) => verdict.passed).length;
    return {
      passed,
      failed: verdicts.length - passed,
      milliseconds: Math.round(performance.now() - began),
      verdicts,
    };
  });

  offerReport(router, '/sweep', [rulebookBody], async (request, progress) => {
    const asked = parseInput(sweepRequestSchema, jsonBody(request, ['application/json']));
    const { rulebook, inForce } = await rulebookOf(asked.files);
    return sweepAnswer(database, rulebook, inForce, openDoor, asked, progress);
  });

  offer(
    router,
    '/why',
    {
      async post(request, response) {
        const asked = parseInput(whyRequestSchema, jsonBody(request, ['application/json']));
        const { rulebook } = await rulebookOf(undefined);
        send(response, 200, await whyAnswer(database, rulebook, asked, false));
      },
    },
    [rulebookBody],
  );
}

function verdictDocument(verdict: Verdict, rulebook: Rulebook): VerdictDocument {
  const { span, ...rest } = verdict;
  const source = rulebook.sources.find((each) => each.name === span.source)!;
  return { ...rest, file: span.source, line: positionAt(source, span.start).line } as VerdictDocument;
}
