import { z } from 'zod';
import { acceptanceRequestSchema, acceptanceSchema } from '../../client/schemas/invitations.ts';
import {
  healthSchema,
  listQuerySchema,
  listSchema,
  meSchema,
  parametersSchema,
  recordQuerySchema,
  recordSchema,
  suppliedSchema,
} from '../../client/schemas/records.ts';
import { collectionRightsSchema, rightsSchema } from '../../client/schemas/rights.ts';
import { shareRequestSchema, shareSchema, sharesSchema } from '../../client/schemas/shares.ts';
import { json, writeProblems, everyRecordProblem, type Operations } from './operation.ts';

/** Records, invitations that are accepted, and what the service says of itself. */
export const recordsOperations: Operations = {
  '/v1/records/{collection}': {
    get: {
      id: 'listRecords',
      summary: 'The records that the caller may read',
      tag: 'records',
      query: listQuerySchema,
      answers: { 200: listSchema },
      problems: [...everyRecordProblem, 'malformed-filter'],
    },
    post: {
      id: 'createRecord',
      summary: 'Make a record',
      tag: 'records',
      rehearsed: true,
      body: { schema: suppliedSchema, types: json },
      answers: { 201: recordSchema },
      problems: [...everyRecordProblem, ...writeProblems, 'value-required'],
    },
  },
  '/v1/records/{collection}/{id}': {
    get: {
      id: 'readRecord',
      summary: 'One record',
      tag: 'records',
      query: recordQuerySchema,
      conditional: 'If-None-Match',
      answers: { 200: recordSchema, 304: 'The record is the one that the caller has' },
      problems: everyRecordProblem,
    },
    patch: {
      id: 'updateRecord',
      summary: 'Change fields of a record (RFC 7396)',
      tag: 'records',
      rehearsed: true,
      conditional: 'If-Match',
      body: { schema: suppliedSchema, types: ['application/merge-patch+json', 'application/json'] },
      answers: { 200: recordSchema, 204: 'Changed, and no longer readable for the caller' },
      problems: [...everyRecordProblem, ...writeProblems, 'changed-meanwhile', 'value-required'],
    },
    delete: {
      id: 'deleteRecord',
      summary: 'Remove a record',
      tag: 'records',
      rehearsed: true,
      conditional: 'If-Match',
      answers: { 204: 'Removed' },
      problems: [...everyRecordProblem, 'not-allowed', 'changed-meanwhile', 'still-referenced'],
    },
  },
  '/v1/records/{collection}/{id}/actions/{action}': {
    post: {
      id: 'act',
      summary: 'Carry out an action that the rulebook declares',
      tag: 'records',
      rehearsed: true,
      conditional: 'If-Match',
      body: { schema: parametersSchema, types: json },
      answers: { 200: recordSchema, 204: 'Done, and no longer readable for the caller' },
      problems: [...everyRecordProblem, ...writeProblems, 'changed-meanwhile', 'value-required'],
    },
  },
  '/v1/records/{collection}/{id}/shares': {
    get: {
      id: 'listShares',
      summary: 'With whom a record is shared: for whoever may share it; others see what they shared themself',
      tag: 'records',
      answers: { 200: sharesSchema },
      problems: everyRecordProblem,
    },
    post: {
      id: 'share',
      summary: 'Share one record, as far as a rule lets the caller, and they could do it by themself',
      tag: 'records',
      rehearsed: true,
      body: { schema: shareRequestSchema, types: json },
      answers: { 201: shareSchema },
      problems: [
        ...everyRecordProblem,
        'not-allowed',
        'too-large',
        'unsupported-media-type',
        'reference-not-found',
        'too-many-shares',
      ],
    },
  },
  '/v1/records/{collection}/{id}/shares/{share}': {
    delete: {
      id: 'unshare',
      summary: 'Take a share back',
      tag: 'records',
      rehearsed: true,
      answers: { 204: 'Taken back' },
      problems: everyRecordProblem,
    },
  },
  '/v1/invitations/acceptance': {
    post: {
      id: 'acceptInvitation',
      rehearsed: true,
      summary: 'Use an invitation up: the code of the letter, with the invited person’s own token',
      tag: 'about',
      body: { schema: acceptanceRequestSchema, types: json },
      answers: { 200: acceptanceSchema },
      problems: [
        'malformed-request',
        'invalid-token',
        'link-not-good',
        'wrong-address',
        'name-taken',
        'too-large',
        'unsupported-media-type',
        'internal',
        'unavailable',
      ],
    },
  },
  '/v1/me': {
    get: {
      id: 'whoAmI',
      summary: 'Who the service thinks is calling',
      tag: 'about',
      answers: { 200: meSchema },
      problems: ['invalid-token', 'internal', 'unavailable'],
    },
  },
  '/v1/rights': {
    get: {
      id: 'rights',
      summary: 'What the caller could do with records of any collection',
      tag: 'records',
      answers: { 200: rightsSchema },
      problems: everyRecordProblem,
    },
  },
  '/v1/rights/{collection}': {
    get: {
      id: 'rightsOnCollection',
      summary: 'What the caller could do with records of one collection',
      tag: 'records',
      answers: { 200: collectionRightsSchema },
      problems: everyRecordProblem,
    },
  },
  '/v1/health': {
    get: {
      id: 'health',
      summary: 'Whether the service can answer',
      tag: 'about',
      answers: { 200: healthSchema, 503: healthSchema },
      problems: ['not-acceptable'],
    },
  },
  '/v1/openapi.json': {
    get: {
      id: 'describe',
      summary: 'This description',
      tag: 'about',
      answers: { 200: z.looseObject({}) },
      problems: ['not-acceptable'],
    },
  },
};
