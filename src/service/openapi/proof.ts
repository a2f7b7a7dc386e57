import { z } from 'zod';
import {
  benchCountsRequestSchema,
  benchCountsSchema,
  benchRequestSchema,
  benchSchema,
} from '../../client/schemas/bench.ts';
import { canQuerySchema, canSchema } from '../../client/schemas/can.ts';
import {
  draftChangesSchema,
  draftFilesSchema,
  draftListSchema,
  draftSaveSchema,
  draftSavesSchema,
  draftWithFilesSchema,
  newDraftSchema,
  rebaseSchema,
} from '../../client/schemas/drafts.ts';
import {
  historyQuerySchema,
  historySchema,
  lookQuerySchema,
  lookSchema,
  overviewSchema,
  publicationSchema,
  publishedSchema,
  trialReportSchema,
  trialRequestSchema,
  versionFilesSchema,
} from '../../client/schemas/desk.ts';
import {
  patternListSchema,
  patternRequestSchema,
  writtenPatternSchema,
} from '../../client/schemas/patterns.ts';
import { previewRequestSchema, previewSchema } from '../../client/schemas/preview.ts';
import { mutateRequestSchema, mutateSchema } from '../../client/schemas/mutate.ts';
import {
  reachQuerySchema,
  reachSchema,
  reachersQuerySchema,
  reachersSchema,
} from '../../client/schemas/reach.ts';
import { sweepRequestSchema, sweepSchema } from '../../client/schemas/sweep.ts';
import { rehearseRequestSchema, rehearsedSchema } from '../../client/schemas/rehearse.ts';
import { whyRequestSchema, whySchema } from '../../client/schemas/why.ts';
import { json, deskProblems, type Operations } from './operation.ts';

/** The desk: looking, publishing and proving. */
const draftProblems = [
  ...deskProblems,
  'not-found',
  'draft-conflict',
  'changed-meanwhile',
  'precondition-required',
  'too-large',
  'unsupported-media-type',
] as const;

export const proofOperations: Operations = {
  '/v1/desk/overview': {
    get: {
      id: 'overview',
      summary: 'What the published rulebook speaks of',
      tag: 'desk',
      answers: { 200: overviewSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/types': {
    get: {
      id: 'types',
      summary: 'The collections in force as TypeScript, for firmgate/client',
      tag: 'desk',
      media: 'text/plain',
      answers: { 200: z.string() },
      problems: [...deskProblems, 'not-acceptable'],
    },
  },
  '/v1/desk/openapi.json': {
    get: {
      id: 'describeCollections',
      summary: 'The collections in force as OpenAPI 3.1, each by its name',
      tag: 'desk',
      answers: { 200: z.looseObject({}) },
      problems: [...deskProblems, 'not-acceptable'],
    },
  },
  '/v1/desk/can': {
    get: {
      id: 'can',
      summary: 'What the rights of somebody say of one operation',
      tag: 'desk',
      query: canQuerySchema,
      answers: { 200: canSchema },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/look/{collection}': {
    get: {
      id: 'look',
      summary: 'A list through a test identity, with the reason where it is empty',
      tag: 'desk',
      query: lookQuerySchema,
      answers: { 200: lookSchema },
      problems: [...deskProblems, 'locked', 'malformed-filter', 'not-found'],
    },
  },
  '/v1/desk/bench/{collection}': {
    post: {
      id: 'bench',
      summary: 'What a draft does to records for several identities, with its errors and advice',
      tag: 'desk',
      body: { schema: benchRequestSchema, types: json },
      answers: { 200: benchSchema },
      problems: [
        ...deskProblems,
        'malformed-filter',
        'not-found',
        'too-many-records',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/bench/{collection}/counts': {
    post: {
      id: 'benchCounts',
      summary: 'The same in numbers, for the whole collection and each of its sentences',
      tag: 'desk',
      body: { schema: benchCountsRequestSchema, types: json },
      answers: { 200: benchCountsSchema },
      problems: [
        ...deskProblems,
        'cannot-publish',
        'rulebook-errors',
        'not-found',
        'too-many-records',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/patterns': {
    get: {
      id: 'patterns',
      summary: 'Ready pieces of rulebook',
      tag: 'desk',
      answers: { 200: patternListSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/patterns/{pattern}': {
    post: {
      id: 'writePattern',
      summary: 'One of them, written for a collection of a draft',
      tag: 'desk',
      body: { schema: patternRequestSchema, types: json },
      answers: { 200: writtenPatternSchema },
      problems: [...deskProblems, 'not-found', 'rulebook-errors', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/publications/{version}': {
    get: {
      id: 'version',
      summary: 'One published version, with its files',
      tag: 'desk',
      answers: { 200: versionFilesSchema },
      problems: [...deskProblems, 'not-found'],
    },
  },
  '/v1/desk/publications': {
    get: {
      id: 'history',
      summary: 'The published versions, the newest first',
      tag: 'desk',
      query: historyQuerySchema,
      answers: { 200: historySchema },
      problems: deskProblems,
    },
    post: {
      id: 'publish',
      summary: 'Put a rulebook in force',
      tag: 'desk',
      body: { schema: publicationSchema, types: json },
      answers: { 200: publishedSchema },
      problems: [
        ...deskProblems,
        'locked',
        'rulebook-errors',
        'cannot-publish',
        'other-version',
        'other-preview',
        'trials-failed',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/drafts': {
    get: {
      id: 'listDrafts',
      summary: 'The drafts, the one that was saved last first',
      tag: 'desk',
      answers: { 200: draftListSchema },
      problems: deskProblems,
    },
    post: {
      id: 'makeDraft',
      summary: 'Make a draft of files, or of a version',
      tag: 'desk',
      body: { schema: newDraftSchema, types: json },
      answers: { 201: draftWithFilesSchema },
      problems: [...deskProblems, 'name-taken', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/drafts/{draft}': {
    get: {
      id: 'readDraft',
      summary: 'A draft with its files, its errors and advice; its ETag is what a save is made from',
      tag: 'desk',
      answers: { 200: draftWithFilesSchema },
      problems: [...deskProblems, 'not-found'],
    },
    put: {
      id: 'saveDraft',
      summary: 'Save all files of a draft; what others have saved since is put together with them',
      tag: 'desk',
      conditional: 'If-Match',
      body: { schema: draftFilesSchema, types: json },
      answers: { 200: draftWithFilesSchema },
      problems: draftProblems,
    },
    patch: {
      id: 'changeDraft',
      summary: 'Change single texts of a draft, whoever saved it last',
      tag: 'desk',
      body: { schema: draftChangesSchema, types: json },
      answers: { 200: draftWithFilesSchema },
      problems: draftProblems,
    },
    delete: {
      id: 'deleteDraft',
      summary: 'Delete a draft with all of its saves',
      tag: 'desk',
      conditional: 'If-Match',
      answers: { 204: 'Deleted' },
      problems: [...deskProblems, 'not-found', 'changed-meanwhile'],
    },
  },
  '/v1/desk/drafts/{draft}/rebase': {
    post: {
      id: 'rebaseDraft',
      summary: 'Move a draft onto another version than it was made from',
      tag: 'desk',
      body: { schema: rebaseSchema, types: json },
      answers: { 200: draftWithFilesSchema },
      problems: draftProblems,
    },
  },
  '/v1/desk/drafts/{draft}/saves': {
    get: {
      id: 'listDraftSaves',
      summary: 'Every save that is kept of a draft, the last first',
      tag: 'desk',
      answers: { 200: draftSavesSchema },
      problems: [...deskProblems, 'not-found'],
    },
  },
  '/v1/desk/drafts/{draft}/saves/{save}': {
    get: {
      id: 'readDraftSave',
      summary: 'The files of one save',
      tag: 'desk',
      answers: { 200: draftSaveSchema },
      problems: [...deskProblems, 'not-found'],
    },
  },
  '/v1/desk/rehearsals': {
    post: {
      id: 'rehearseAs',
      summary: 'A write as a test identity, answered as it goes over HTTP and taken back; by a draft, too',
      tag: 'desk',
      body: { schema: rehearseRequestSchema, types: json },
      answers: { 200: rehearsedSchema },
      problems: [
        ...deskProblems,
        'locked',
        'not-found',
        'rulebook-errors',
        'cannot-publish',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/why': {
    post: {
      id: 'why',
      summary: 'Why an identity may or may not do something',
      tag: 'desk',
      body: { schema: whyRequestSchema, types: json },
      answers: { 200: whySchema },
      problems: [
        ...deskProblems,
        'locked',
        'not-found',
        'too-many-records',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/mutations': {
    post: {
      id: 'mutate',
      summary:
        'Plant faults in the rules, one at a time, and tell whether trials, invariants or a sweep find each',
      tag: 'desk',
      body: { schema: mutateRequestSchema, types: json },
      answers: { 200: mutateSchema },
      problems: [...deskProblems, 'rulebook-errors', 'cannot-publish', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/reach': {
    get: {
      id: 'reach',
      summary: 'Everything that a test identity, or whoever holds a role alone, can do, and through what',
      tag: 'desk',
      query: reachQuerySchema,
      answers: { 200: reachSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/reach/{collection}/{record}': {
    get: {
      id: 'reachers',
      summary: 'Who reaches a record (by id or label), which fields of it, and through what',
      tag: 'desk',
      query: reachersQuerySchema,
      answers: { 200: reachersSchema },
      problems: [...deskProblems, 'not-found', 'too-many-records'],
    },
  },
  '/v1/desk/preview': {
    post: {
      id: 'preview',
      summary:
        'What a draft says and does on the records that are there, beside what is in force; nothing is saved',
      tag: 'desk',
      body: { schema: previewRequestSchema, types: json },
      answers: { 200: previewSchema },
      problems: [...deskProblems, 'rulebook-errors', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/sweep': {
    post: {
      id: 'sweep',
      summary:
        'What every test identity reaches, by closures, database and service, and what of it nobody accepted',
      tag: 'desk',
      body: { schema: sweepRequestSchema, types: json },
      answers: { 200: sweepSchema },
      problems: [...deskProblems, 'rulebook-errors', 'cannot-publish', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/trials': {
    post: {
      id: 'runTrials',
      summary: 'Run trials and take everything back; without files, those of the published rulebook',
      tag: 'desk',
      body: { schema: trialRequestSchema, types: json },
      answers: { 200: trialReportSchema },
      problems: [...deskProblems, 'rulebook-errors', 'cannot-publish', 'too-large', 'unsupported-media-type'],
    },
  },
};
