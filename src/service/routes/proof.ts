import type { Response, Router } from 'express';
import { trialRequestSchema, type VerdictDocument } from '../../client/schemas/desk.ts';
import { mutateRequestSchema, type MutateDocument } from '../../client/schemas/mutate.ts';
import { reachQuerySchema, reachersQuerySchema } from '../../client/schemas/reach.ts';
import { rehearseRequestSchema } from '../../client/schemas/rehearse.ts';
import { sweepRequestSchema } from '../../client/schemas/sweep.ts';
import { whyRequestSchema, type PartDocument, type WhyDocument } from '../../client/schemas/why.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { positionAt } from '../../core/language/source.ts';
import { chosenTrials } from '../../core/trial/choice.ts';
import { touchedBy } from '../../core/trial/touched.ts';
import type { Verdict } from '../../core/trial/verdict.ts';
import { note, type Actor } from '../../store/audit/index.ts';
import type { Person } from '../../store/people/index.ts';
import type { Database } from '../../store/connection.ts';
import { reachersOf, wholeReach, type WholeReach } from '../../store/reach.ts';
import { tryOut } from '../../store/trials/index.ts';
import type { Version } from '../../core/passage/passage.ts';
import { digestOf } from '../answers/bench.ts';
import { checkedDraft } from '../answers/drafts.ts';
import { collectionNamed, parseInput } from '../answers/questions.ts';
import { mutateAnswer } from '../answers/mutate.ts';
import { rehearsalAnswer } from '../answers/rehearse.ts';
import { sweepAnswer } from '../answers/sweep.ts';
import { credentialsOf } from '../answers/who.ts';
import { knownName, recordNamed, whyAnswer } from '../answers/why.ts';
import { personNamed } from '../answers/people.ts';
import { actorOf, atLeast, hasUnlocked, unlocked } from '../identity/principal.ts';
import { jsonReader } from '../input/body.ts';
import type { LoopbackDoor } from '../sweep/door.ts';
import { passageFor, trying, type Tried } from '../../store/publish/index.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { send } from './records.ts';
import { jsonBody, offer, offerReport } from './route.ts';

/** RFC 9562. */
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;

/**
 * Whom staff ask about, and as whom it is noted. Of somebody of the application more is told than they themselves are: that takes an
 * unlock, whose reason is on record before anything is told.
 */
export async function askedAbout(
  database: Database,
  response: Response,
  as: string,
): Promise<{ readonly actor: Actor; readonly person: Person | null }> {
  if (!as.includes('@') && !UUID.test(as)) return { actor: actorOf(response), person: null };
  const actor = await unlocked(database, response, 'publisher', 'look');
  return { actor, person: await personNamed(database, as) };
}

/** A rulebook is larger than a record: 500 files of ordinary length. */
export const rulebookBody = jsonReader('16mb');

/** The developer's proof: trials, sweeps, planted faults, why and reach. Offered below `/v1/desk`, to staff alone. */
export function offerProof(
  router: Router,
  database: Database,
  rulebooks: RulebookKeeper,
  version: () => Promise<number | null>,
  openDoor: () => Promise<LoopbackDoor>,
): void {
  /** With the rulebook in force, or with a draft. */
  async function tried<T>(
    files: { name: string; text: string }[] | undefined,
    work: (tried: Tried, inForce: Rulebook) => Promise<T>,
  ): Promise<T> {
    const present = await rulebooks.versionInForce(await version());
    const inForce = present.rulebook;
    if (files === undefined)
      return work({ rulebook: inForce, enter: async () => undefined, left: [], passage: null }, inForce);
    const draft = checkedDraft({ files });
    return trying(database, present, draft, (tried_) => work(tried_, inForce));
  }

  /** A draft, as the records that are there can be read by it. */
  async function asItCanBeRead(present: Version, files: { name: string; text: string }[]): Promise<Rulebook> {
    const passage = await passageFor(database, present, checkedDraft({ files }));
    if (passage.problems.length === 0) return passage.present;
    throw new Problem('cannot-publish', { errors: passage.problems.map((message) => ({ message })) });
  }

  const published = async () => rulebooks.inForce(await version());

  offerReport(router, '/trials', rulebookBody, async (request, response, progress) => {
    atLeast(response, 'author', 'proof');
    const { files, only, as } = parseInput(trialRequestSchema, jsonBody(request, ['application/json']));
    const began = performance.now();
    const verdicts: { readonly place: number; readonly verdict: VerdictDocument }[] = [];
    let failed = 0;
    // By a draft what is found may be what nobody sees in force.
    const isHidden = files !== undefined && !(await hasUnlocked(database, response, 'publisher'));
    const left = await tried(files, async ({ rulebook, enter, left: untried, passage }, inForce) => {
      if (as !== undefined) knownName('as', as, [...rulebook.identities.keys(), 'visitor'], 'test identity');
      const choice = chosenTrials(rulebook, only ?? null, as ?? null);
      const tell = (verdict: Verdict, done: number, total: number, place: number) => {
        verdicts.push({ place, verdict: verdictDocument(isHidden ? untold(verdict) : verdict, rulebook) });
        failed += verdict.passed ? 0 : 1;
        progress({ done, total, doing: verdict.trial, failed });
      };
      const isFirst = passage === null ? () => false : touchedBy(inForce, rulebook, passage);
      await tryOut(database, rulebook, inForce, choice, tell, { enter, isFirst });
      return [...untried];
    });
    const passed = verdicts.length - failed;
    await note(database, actorOf(response), 'proof.trials', ofDraft(files), {
      expectations: verdicts.length,
      passed,
    });
    return {
      passed,
      failed,
      milliseconds: Math.round(performance.now() - began),
      verdicts: verdicts.toSorted((a, b) => a.place - b.place).map(({ verdict }) => verdict),
      left,
    };
  });

  offerReport(router, '/sweep', rulebookBody, async (request, response, progress) => {
    atLeast(response, 'author', 'proof');
    const asked = parseInput(sweepRequestSchema, jsonBody(request, ['application/json']));
    const report = await tried(asked.files, (draft, inForce) =>
      sweepAnswer(database, draft, inForce, openDoor, asked, progress),
    );
    await note(database, actorOf(response), 'proof.sweep', ofDraft(asked.files));
    return report;
  });

  offerReport(router, '/mutations', rulebookBody, async (request, response, progress) => {
    atLeast(response, 'author', 'proof');
    const asked = parseInput(mutateRequestSchema, jsonBody(request, ['application/json']));
    const isHidden = asked.files !== undefined && !(await hasUnlocked(database, response, 'publisher'));
    const found = await tried(asked.files, (draft) => mutateAnswer(database, draft, asked, progress));
    const report = isHidden ? withoutRecords(found) : found;
    await note(database, actorOf(response), 'proof.mutate', ofDraft(asked.files));
    return report;
  });

  offer(router, '/reach', {
    async get(request, response) {
      atLeast(response, 'viewer', 'look');
      const { as, role } = parseInput(reachQuerySchema, request.query);
      const rulebook = await published();
      if ((as === undefined) === (role === undefined))
        throw new Problem('malformed-request', {
          errors: [{ message: 'name a test identity or a role, one of the two', field: 'as' }],
        });
      if (role !== undefined) knownName('role', role, [...rulebook.roles.keys()], 'role');
      else knownName('as', as!, [...rulebook.identities.keys(), 'visitor'], 'test identity');
      const of = role === undefined ? { credentials: credentialsOf(as!) } : { role };
      const reach = await wholeReach(database, rulebook, of);
      await note(database, actorOf(response), 'look.reach', as ?? `role ${role}`);
      // Somebody who may not sign in reaches nothing.
      const nothing: WholeReach = {
        roles: [],
        collections: [],
        reach: [],
        adds: [],
        givesBack: [],
        undecided: [],
      };
      send(response, 200, reach ?? nothing);
    },
  });

  offer(router, '/reach/:collection/:record', {
    async get(request, response) {
      atLeast(response, 'viewer', 'look');
      const { people, field } = parseInput(reachersQuerySchema, request.query);
      const rulebook = await published();
      const collection = collectionNamed(rulebook, request.params.collection as string);
      const id = await recordNamed(database, rulebook, collection, request.params.record as string);
      if (field !== undefined) knownName('field', field, [...collection.fields.keys()], 'field');
      const found = await reachersOf(database, rulebook, collection.name, id, {
        withPeople: people === 'true',
        field: field ?? null,
      });
      if (found === null) throw new Problem('not-found');
      await note(database, actorOf(response), 'look.reachers', `${collection.name} ${id}`);
      send(response, 200, found);
    },
  });

  offer(
    router,
    '/rehearsals',
    {
      async post(request, response) {
        atLeast(response, 'author', 'proof');
        const { files, ...asked } = parseInput(
          rehearseRequestSchema,
          jsonBody(request, ['application/json']),
        );
        if (asked.stays === true && files !== undefined)
          throw new Problem('malformed-request', {
            errors: [{ message: 'by a draft nothing stays: publish it first', field: 'stays' }],
          });
        const actor =
          asked.stays === true ? await unlocked(database, response, 'publisher', 'look') : actorOf(response);
        const { as, operation, collection, record } = asked;
        const subject = record === undefined ? collection : `${collection} ${record}`;
        const draft = files === undefined ? {} : { draft: digestOf(files).slice(0, 12) };
        const did = asked.stays === true ? 'records.write-as' : 'proof.rehearse';
        await note(database, actor, did, subject, { as, operation, ...draft });
        const shows = files === undefined || (await hasUnlocked(database, response, 'publisher'));
        const answer = await tried(files, (draft_, inForce) =>
          rehearsalAnswer(database, draft_, inForce, asked, shows),
        );
        send(response, 200, answer);
      },
    },
    rulebookBody,
  );

  offer(
    router,
    '/why',
    {
      async post(request, response) {
        const { level } = atLeast(response, 'viewer', 'look');
        const { files, ...asked } = parseInput(whyRequestSchema, jsonBody(request, ['application/json']));
        const { as, operation, collection, record } = asked;
        // A draft is a question with full sight: authors alone ask it.
        if (files !== undefined) atLeast(response, 'author', 'proof');
        const { actor, person } = await askedAbout(database, response, as);
        const subject = record === undefined ? collection : `${collection} ${record}`;
        const draft = files === undefined ? {} : { draft: digestOf(files).slice(0, 12) };
        await note(database, actor, 'look.why', subject, { as, operation, ...draft });
        const present = await rulebooks.versionInForce(await version());
        const rulebook = files === undefined ? present.rulebook : await asItCanBeRead(present, files);
        const of = { showSensitive: level === 'manager', person };
        const why = await whyAnswer(database, rulebook, asked, present.rulebook, of);
        const isHidden = files !== undefined && !(await hasUnlocked(database, response, 'publisher'));
        send(response, 200, isHidden ? withoutValues(why) : why);
      },
    },
    rulebookBody,
  );
}

/** The same without what any record holds: a draft could be written to ask for it. */
function withoutValues<T extends Pick<WhyDocument, 'stages' | 'remedies'>>(why: T): T {
  const hidden = (part: PartDocument): PartDocument => ({
    ...part,
    values: part.values.map(({ name }) => ({ name, value: null })),
    parts: part.parts.map(hidden),
  });
  const stages = why.stages.map((stage) => ({
    ...stage,
    rules: stage.rules.map((rule) => ({
      ...rule,
      sides: rule.sides?.map(({ side, part }) => ({ side, part: hidden(part) })) ?? null,
    })),
  }));
  // What a value would have to be tells what it is not.
  return { ...why, stages, remedies: why.remedies.filter(({ kind }) => kind !== 'value') };
}

/** The same without the records that a fault of a draft shows. */
function withoutRecords(report: MutateDocument): MutateDocument {
  const faults = report.faults.map((fault) =>
    fault.foundBy === 'sweep' ? { ...fault, by: fault.by.replaceAll(/"(?:[^"\\]|\\.)*"/g, '"…"') } : fault,
  );
  return { ...report, faults };
}

function ofDraft(files: object | undefined): string {
  return files === undefined ? 'the rulebook in force' : 'a draft';
}

/** The verdict for whoever may not be told what records there are, and what they hold. */
function untold(verdict: Verdict): Verdict {
  const { failure } = verdict;
  if (failure === undefined) return verdict;
  const { expected, actual, untold: without, why } = failure;
  if (without !== undefined)
    return {
      ...verdict,
      failure: { expected, actual: `${without}; more is told after an unlock`, why: null },
    };
  const document = why as unknown as WhyDocument | null;
  return {
    ...verdict,
    failure: {
      expected,
      actual,
      why: document === null ? null : (withoutValues(document) as unknown as typeof why),
    },
  };
}

function verdictDocument({ span, failure, ...rest }: Verdict, rulebook: Rulebook): VerdictDocument {
  const source = rulebook.sources.find((each) => each.name === span.source)!;
  const { untold: _, ...told } = failure ?? {};
  return {
    ...rest,
    ...(failure === undefined ? {} : { failure: told }),
    file: span.source,
    line: positionAt(source, span.start).line,
  } as VerdictDocument;
}
