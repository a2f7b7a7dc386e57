import { Router, json } from 'express';
import { lookQuerySchema, rulebookFilesSchema, trialRequestSchema } from '../../client/schemas/desk.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { positionAt } from '../../core/language/source.ts';
import type { Schema } from '../../core/types/schema.ts';
import type { Verdict } from '../../core/trial/verdict.ts';
import type { VerdictDocument } from '../../client/schemas/desk.ts';
import { arrive, nothingKnown } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { countRecords, publish } from '../../store/publish/index.ts';
import { countVisible, listRecords } from '../../store/records/read.ts';
import { chosenTrials } from '../../core/trial/choice.ts';
import { suggestion } from '../../core/diagnostics/suggest.ts';
import { refutedInvariants, tryOut } from '../../store/trials/index.ts';
import { emptinessOf, overview } from '../answers/look.ts';
import { collectionNamed, listQuestion, parseInput } from '../answers/questions.ts';
import { nextPage, parseShape, recordDocuments } from '../answers/records.ts';
import type { CallerFinder } from '../identity/caller.ts';
import type { StaffDoor } from '../identity/staff.ts';
import { Problem } from '../problems/problem.ts';
import type { RulebookKeeper } from '../rulebooks.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** A rulebook is larger than a record: 500 files of ordinary length. */
const rulebookBody = json({ limit: '16mb' });

/** `/v1/desk`: the developer's side. Staff alone; records only through an identity. */
export function deskRoutes(
  database: Database,
  callers: CallerFinder,
  staff: StaffDoor,
  rulebooks: RulebookKeeper,
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
        const rulebook = draft(jsonBody(request, ['application/json']));
        send(
          response,
          200,
          await publish(database, rulebook, response.locals.staff as string, refutedInvariants),
        );
      },
    },
    [rulebookBody],
  );

  offer(
    router,
    '/trials',
    {
      /** Runs the trials of the files given, or, without any, of the published rulebook. */
      async post(request, response) {
        const { files, only, as } = parseInput(trialRequestSchema, jsonBody(request, ['application/json']));
        const inForce = await rulebooks.inForce((await present()).version);
        const rulebook = files === undefined ? inForce : draft({ files });
        const isDraft = rulebook !== inForce;
        if (isDraft) refuseOtherCollections(rulebook.schema, inForce.schema);
        if (as !== undefined) refuseUnknownIdentity(rulebook, as);
        const began = performance.now();
        const verdicts: VerdictDocument[] = [];
        await tryOut(
          database,
          rulebook,
          chosenTrials(rulebook, only ?? null, as ?? null),
          isDraft,
          (verdict) => verdicts.push(verdictDocument(verdict, rulebook)),
        );
        const passed = verdicts.filter((verdict) => verdict.passed).length;
        send(response, 200, {
          passed,
          failed: verdicts.length - passed,
          milliseconds: Math.round(performance.now() - began),
          verdicts,
        });
      },
    },
    [rulebookBody],
  );

  return router;

  async function present() {
    const arrival = await arrive(database, nothingKnown, { kind: 'visitor' });
    return arrival!;
  }
}

function refuseUnknownIdentity(rulebook: Rulebook, name: string): void {
  if (name === 'visitor' || rulebook.identities.has(name)) return;
  const hint = suggestion(name, [...rulebook.identities.keys(), 'visitor']);
  throw new Problem('malformed-request', {
    errors: [
      {
        message: `there is no test identity “${name}”`,
        field: 'as',
        ...(hint === undefined ? {} : { hint }),
      },
    ],
  });
}

/** The files of a body as a checked rulebook; 422 with every error otherwise. */
function draft(body: Record<string, unknown>): Rulebook {
  const { files } = parseInput(rulebookFilesSchema, body);
  const repeated = files.find((file, index) => files.findIndex((other) => other.name === file.name) < index);
  if (repeated !== undefined) {
    throw new Problem('malformed-request', {
      errors: [{ message: `the file ${repeated.name} is given twice`, field: 'files' }],
    });
  }
  const checked = checkRulebook(files);
  if (checked.ok) return checked.rulebook;
  throw new Problem('rulebook-errors', {
    errors: checked.diagnostics.map((diagnostic) => locate(diagnostic, files)),
  });
}

/** Trials run against the tables that are there, so a draft may change rules, and collections only by publishing. */
function refuseOtherCollections(drafted: Schema, published: Schema): void {
  if (describeSchema(drafted) === describeSchema(published)) return;
  throw new Problem('cannot-publish', {
    errors: [
      {
        message:
          'the collections of these files differ from the published ones: publish first, then run the trials',
      },
    ],
  });
}

function describeSchema(schema: Schema): string {
  const collections = [...schema.values()].map(({ name, fields, label }) => ({
    name,
    label,
    fields: [...fields.values()],
  }));
  return JSON.stringify(collections.toSorted((a, b) => (a.name < b.name ? -1 : 1)));
}

function verdictDocument(verdict: Verdict, rulebook: Rulebook): VerdictDocument {
  const { span, ...rest } = verdict;
  const source = rulebook.sources.find((each) => each.name === span.source)!;
  return { ...rest, file: span.source, line: positionAt(source, span.start).line } as VerdictDocument;
}
