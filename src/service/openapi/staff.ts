import { z } from 'zod';
import {
  auditExportQuerySchema,
  auditPageSchema,
  auditQuerySchema,
  auditVerificationQuerySchema,
  auditVerificationSchema,
} from '../../client/schemas/audit.ts';
import {
  joinSchema,
  keyListSchema,
  keyRequestSchema,
  newKeySchema,
  passwordChangeSchema,
  sessionSchema,
  signInSchema,
  staffAccountSchema,
  staffChangeSchema,
  staffInviteSchema,
  staffLinkSchema,
  staffListSchema,
  unlockRequestSchema,
  unlockSchema,
} from '../../client/schemas/staff.ts';
import { settingsSchema } from '../../client/schemas/settings.ts';
import { json, deskProblems, changeProblems, type Operations } from './operation.ts';

const signInProblems = [...deskProblems, 'unsupported-media-type', 'too-many-attempts'] as const;
const unlockAnswerSchema = z.object({ unlock: unlockSchema.nullable() });

/** The desk: who is asking, who may ask, and what they did. */
export const staffOperations: Operations = {
  '/v1/desk/settings': {
    get: {
      id: 'settings',
      summary: 'With what the service was started; nothing secret',
      tag: 'desk',
      answers: { 200: settingsSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/session': {
    get: {
      id: 'staffSession',
      summary: 'Who is signed in as staff',
      tag: 'desk',
      answers: { 200: sessionSchema },
      problems: deskProblems,
    },
    post: {
      id: 'signIn',
      summary: 'Sign in as staff',
      tag: 'desk',
      body: { schema: signInSchema, types: json },
      answers: { 200: sessionSchema },
      problems: signInProblems,
    },
    patch: {
      id: 'changePassword',
      summary: 'Choose another password; every other session ends',
      tag: 'desk',
      body: { schema: passwordChangeSchema, types: json },
      answers: { 200: sessionSchema },
      problems: signInProblems,
    },
    delete: {
      id: 'signOut',
      summary: 'Sign out',
      tag: 'desk',
      answers: { 204: 'Signed out' },
      problems: ['cross-site'],
    },
  },
  '/v1/desk/join': {
    post: {
      id: 'join',
      summary: 'Use a one-time link up: choose the password of an account, and sign in',
      tag: 'desk',
      body: { schema: joinSchema, types: json },
      answers: { 200: sessionSchema },
      problems: [...signInProblems, 'link-not-good'],
    },
  },
  '/v1/desk/unlock': {
    get: {
      id: 'currentUnlock',
      summary: 'The unlock that is under way',
      tag: 'desk',
      answers: { 200: unlockAnswerSchema },
      problems: deskProblems,
    },
    post: {
      id: 'unlock',
      summary: 'Begin the right to change what is in force, with a reason, for at most 60 minutes',
      tag: 'desk',
      body: { schema: unlockRequestSchema, types: json },
      answers: { 200: unlockAnswerSchema },
      problems: [...deskProblems, 'unsupported-media-type', 'too-large'],
    },
    delete: {
      id: 'lock',
      summary: 'End the unlock before its time',
      tag: 'desk',
      answers: { 204: 'Locked' },
      problems: deskProblems,
    },
  },
  '/v1/desk/staff': {
    get: {
      id: 'listStaff',
      summary: 'Those who run the gate, with their levels',
      tag: 'desk',
      answers: { 200: staffListSchema },
      problems: deskProblems,
    },
    post: {
      id: 'inviteStaff',
      summary: 'Make a link with which somebody becomes staff, once',
      tag: 'desk',
      body: { schema: staffInviteSchema, types: json },
      answers: { 201: staffLinkSchema },
      problems: [...changeProblems, 'name-taken'],
    },
  },
  '/v1/desk/staff/{email}': {
    patch: {
      id: 'changeStaff',
      summary: 'Change the level of an account, or let it in or out',
      tag: 'desk',
      body: { schema: staffChangeSchema, types: json },
      answers: { 200: staffAccountSchema },
      problems: [...changeProblems, 'not-found', 'last-manager'],
    },
  },
  '/v1/desk/staff/{email}/link': {
    post: {
      id: 'staffLink',
      summary: 'Make a link with which an account chooses another password, once',
      tag: 'desk',
      answers: { 201: staffLinkSchema },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/keys': {
    get: {
      id: 'listKeys',
      summary: 'The keys of pipelines and providers, without their secrets',
      tag: 'desk',
      answers: { 200: keyListSchema },
      problems: deskProblems,
    },
    post: {
      id: 'makeKey',
      summary: 'Make a key; its secret is in this answer alone',
      tag: 'desk',
      body: { schema: keyRequestSchema, types: json },
      answers: { 201: newKeySchema },
      problems: [...changeProblems, 'name-taken'],
    },
  },
  '/v1/desk/keys/{name}': {
    delete: {
      id: 'revokeKey',
      summary: 'Revoke a key; it stays in the list',
      tag: 'desk',
      answers: { 204: 'Revoked' },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/audit': {
    get: {
      id: 'listAudit',
      summary: 'Who did what, when, from where, with what reason; newest first',
      tag: 'desk',
      query: auditQuerySchema,
      answers: { 200: auditPageSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/audit/export': {
    get: {
      id: 'exportAudit',
      summary: 'All entries, oldest first, as newline-delimited JSON or CSV (RFC 4180)',
      tag: 'desk',
      query: auditExportQuerySchema,
      answers: { 200: 'One entry a line' },
      problems: [...deskProblems, 'not-acceptable'],
    },
  },
  '/v1/desk/audit/verification': {
    get: {
      id: 'verifyAudit',
      summary: 'Whether any entry was changed, cut out, put in or cut off',
      tag: 'desk',
      query: auditVerificationQuerySchema,
      answers: { 200: auditVerificationSchema },
      problems: deskProblems,
    },
  },
};
