import { z } from 'zod';
import {
  lookQuerySchema,
  lookSchema,
  overviewSchema,
  publishedSchema,
  rulebookFilesSchema,
  trialReportSchema,
  trialRequestSchema,
} from '../client/schemas/desk.ts';
import {
  auditExportQuerySchema,
  auditPageSchema,
  auditQuerySchema,
  auditVerificationQuerySchema,
  auditVerificationSchema,
} from '../client/schemas/audit.ts';
import {
  loginRequestSchema,
  peopleQuerySchema,
  peopleSchema,
  personChangeSchema,
  personDetailSchema,
  personRequestSchema,
  roleChangeSchema,
  roleChangedSchema,
  rolePreviewSchema,
  rolesSchema,
} from '../client/schemas/people.ts';
import {
  shareRequestSchema,
  shareSchema,
  sharesQuerySchema,
  sharesSchema,
} from '../client/schemas/shares.ts';
import {
  acceptanceRequestSchema,
  acceptanceSchema,
  inviteReportSchema,
  inviteSchema,
  invitationsQuerySchema,
  invitationsSchema,
  letterPreviewSchema,
  letterSchema,
} from '../client/schemas/invitations.ts';
import { groupRolesSchema, groupSchema, groupsSchema } from '../client/schemas/groups.ts';
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
} from '../client/schemas/staff.ts';
import { problemSchema, problemTypes, type ProblemType } from '../client/schemas/problems.ts';
import {
  healthSchema,
  listQuerySchema,
  listSchema,
  meSchema,
  parametersSchema,
  recordQuerySchema,
  recordSchema,
  suppliedSchema,
} from '../client/schemas/records.ts';
import { mutateRequestSchema, mutateSchema } from '../client/schemas/mutate.ts';
import {
  reachQuerySchema,
  reachSchema,
  reachersQuerySchema,
  reachersSchema,
} from '../client/schemas/reach.ts';
import { sweepRequestSchema, sweepSchema } from '../client/schemas/sweep.ts';
import { whyRequestSchema, whySchema } from '../client/schemas/why.ts';

interface Operation {
  readonly id: string;
  readonly summary: string;
  readonly tag: 'records' | 'about' | 'desk' | 'provisioning';
  /** Where the answers are of another media type than JSON’s own. */
  readonly media?: string;
  readonly query?: z.ZodObject;
  readonly body?: { readonly schema: z.ZodType; readonly types: readonly string[] };
  readonly conditional?: 'If-Match' | 'If-None-Match';
  readonly answers: Readonly<Record<number, z.ZodType | string>>;
  readonly problems: readonly ProblemType[];
}

const json = ['application/json'] as const;
const everyRecordProblem = [
  'malformed-request',
  'invalid-token',
  'not-found',
  'not-acceptable',
  'internal',
  'unavailable',
] as const;
const writeProblems = [
  'not-allowed',
  'fields-not-covered',
  'too-large',
  'unsupported-media-type',
  'reference-not-found',
  'value-taken',
  'tree-circle',
] as const;
const deskProblems = [
  'malformed-request',
  'not-signed-in',
  'invalid-token',
  'level-too-low',
  'cross-site',
  'internal',
  'unavailable',
] as const;
const changeProblems = [...deskProblems, 'locked', 'unsupported-media-type', 'too-large'] as const;
const signInProblems = [...deskProblems, 'unsupported-media-type', 'too-many-attempts'] as const;
const unlockAnswerSchema = z.object({ unlock: unlockSchema.nullable() });

const SCIM = 'application/scim+json';
const scimResource = z
  .looseObject({ schemas: z.array(z.string()), id: z.string().optional() })
  .meta({ id: 'ScimResource', description: 'A resource of RFC 7643, as /scim/v2/Schemas describes it' });
const scimList = z
  .object({
    schemas: z.array(z.string()),
    totalResults: z.int(),
    startIndex: z.int(),
    itemsPerPage: z.int(),
    Resources: z.array(scimResource),
  })
  .meta({ id: 'ScimList', description: 'A list response of RFC 7644' });
const scimPatch = z
  .object({
    schemas: z.array(z.string()),
    Operations: z.array(z.looseObject({ op: z.string(), path: z.string().optional() })),
  })
  .meta({ id: 'ScimPatch', description: 'Operations of RFC 7644, 3.5.2' });
const scimQuery = z.object({
  filter: z.string().optional(),
  startIndex: z.int().optional(),
  count: z.int().optional(),
  attributes: z.string().optional(),
  excludedAttributes: z.string().optional(),
});
const scimBody = { schema: scimResource, types: [SCIM] } as const;
const patchBody = { schema: scimPatch, types: [SCIM] } as const;

/** One entry a route: test/api holds it against the routes that answer. */
export const operations: Readonly<
  Record<string, Readonly<Partial<Record<'get' | 'post' | 'put' | 'patch' | 'delete', Operation>>>>
> = {
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
      conditional: 'If-Match',
      body: { schema: suppliedSchema, types: ['application/merge-patch+json', 'application/json'] },
      answers: { 200: recordSchema, 204: 'Changed, and no longer readable for the caller' },
      problems: [...everyRecordProblem, ...writeProblems, 'changed-meanwhile', 'value-required'],
    },
    delete: {
      id: 'deleteRecord',
      summary: 'Remove a record',
      tag: 'records',
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
      answers: { 204: 'Taken back' },
      problems: everyRecordProblem,
    },
  },
  '/v1/invitations/acceptance': {
    post: {
      id: 'acceptInvitation',
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
  '/scim/v2/ServiceProviderConfig': {
    get: provisioned('scimConfig', 'What of SCIM is offered', 200, scimResource),
  },
  '/scim/v2/ResourceTypes': {
    get: provisioned('scimResourceTypes', 'The kinds of resources', 200, scimList),
  },
  '/scim/v2/ResourceTypes/{id}': {
    get: provisioned('scimResourceType', 'One kind of resource', 200, scimResource),
  },
  '/scim/v2/Schemas': { get: provisioned('scimSchemas', 'What resources look like', 200, scimList) },
  '/scim/v2/Schemas/{id}': {
    get: provisioned('scimSchema', 'What one kind of resource looks like', 200, scimResource),
  },
  '/scim/v2/Users': {
    get: provisioned('scimUsers', 'The users that the provider keeps', 200, scimList, { query: scimQuery }),
    post: provisioned('scimMakeUser', 'Bring a user', 201, scimResource, { body: scimBody }),
  },
  '/scim/v2/Users/{id}': {
    get: provisioned('scimUser', 'One user', 200, scimResource),
    put: provisioned('scimPutUser', 'Make a user just so', 200, scimResource, { body: scimBody }),
    patch: provisioned('scimPatchUser', 'Change a user in part', 200, scimResource, { body: patchBody }),
    delete: provisionedGone('scimRemoveUser', 'Let a user go'),
  },
  '/scim/v2/Groups': {
    get: provisioned('scimGroups', 'The groups that the provider keeps', 200, scimList, { query: scimQuery }),
    post: provisioned('scimMakeGroup', 'Bring a group', 201, scimResource, { body: scimBody }),
  },
  '/scim/v2/Groups/{id}': {
    get: provisioned('scimGroup', 'One group', 200, scimResource),
    put: provisioned('scimPutGroup', 'Make a group just so', 200, scimResource, { body: scimBody }),
    patch: provisioned('scimPatchGroup', 'Change a group in part', 200, scimResource, { body: patchBody }),
    delete: provisionedGone('scimRemoveGroup', 'Let a group go'),
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
  '/v1/desk/people': {
    get: {
      id: 'listPeople',
      summary: 'The directory, by name',
      tag: 'desk',
      query: peopleQuerySchema,
      answers: { 200: peopleSchema },
      problems: deskProblems,
    },
    post: {
      id: 'addPerson',
      summary: 'Add somebody',
      tag: 'desk',
      body: { schema: personRequestSchema, types: json },
      answers: { 201: personDetailSchema },
      problems: [...changeProblems, 'value-taken', 'value-required', 'reference-not-found', 'name-taken'],
    },
  },
  '/v1/desk/people/{person}': {
    get: {
      id: 'readPerson',
      summary: 'Somebody, by id or address, with their roles and logins',
      tag: 'desk',
      answers: { 200: personDetailSchema },
      problems: [...deskProblems, 'not-found'],
    },
    patch: {
      id: 'changePerson',
      summary: 'Change name or address, deactivate, or let in again',
      tag: 'desk',
      body: { schema: personChangeSchema, types: json },
      answers: { 200: personDetailSchema },
      problems: [...changeProblems, 'not-found', 'value-taken', 'value-required', 'managed-by-rulebook'],
    },
  },
  '/v1/desk/people/{person}/reach': {
    get: {
      id: 'personReach',
      summary: 'Everything that somebody can do, and through what; without what a token would add',
      tag: 'desk',
      answers: { 200: reachSchema },
      problems: [...deskProblems, 'not-found'],
    },
  },
  '/v1/desk/people/{person}/logins': {
    post: {
      id: 'addLogin',
      summary: 'Let the tokens of an issuer with this subject speak for somebody',
      tag: 'desk',
      body: { schema: loginRequestSchema, types: json },
      answers: { 200: personDetailSchema },
      problems: [...changeProblems, 'not-found', 'name-taken', 'managed-by-rulebook'],
    },
    delete: {
      id: 'removeLogin',
      summary: 'Let them speak for nobody any more',
      tag: 'desk',
      query: loginRequestSchema,
      answers: { 204: 'Removed' },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/roles/changes': {
    post: {
      id: 'changeRoles',
      summary: 'Give and take roles, to all of these people alike',
      tag: 'desk',
      body: { schema: roleChangeSchema, types: json },
      answers: { 200: roleChangedSchema },
      problems: [...changeProblems, 'managed-by-rulebook'],
    },
  },
  '/v1/desk/roles/preview': {
    post: {
      id: 'previewRoles',
      summary:
        'What people would gain and lose by a change of roles, with numbers of records; nothing is saved',
      tag: 'desk',
      body: { schema: roleChangeSchema, types: json },
      answers: { 200: rolePreviewSchema },
      problems: [...deskProblems, 'unsupported-media-type', 'too-large', 'managed-by-rulebook'],
    },
  },
  '/v1/desk/roles': {
    get: {
      id: 'listRoles',
      summary: 'The roles of the rulebook, how each is held, and by how many',
      tag: 'desk',
      answers: { 200: rolesSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/shares': {
    get: {
      id: 'everyShare',
      summary: 'What people share with each other, the newest first',
      tag: 'desk',
      query: sharesQuerySchema,
      answers: { 200: sharesSchema },
      problems: [...deskProblems, 'not-found'],
    },
  },
  '/v1/desk/shares/{share}': {
    delete: {
      id: 'removeShare',
      summary: 'Take a share back',
      tag: 'desk',
      answers: { 204: 'Taken back' },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/groups': {
    get: {
      id: 'listGroups',
      summary: 'The groups that a provider keeps, with the roles that staff give them',
      tag: 'desk',
      answers: { 200: groupsSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/groups/{group}/roles': {
    put: {
      id: 'setGroupRoles',
      summary: 'Give these roles and no others to whoever is in a group, by name or id',
      tag: 'desk',
      body: { schema: groupRolesSchema, types: json },
      answers: { 200: groupSchema },
      problems: [...changeProblems, 'not-found'],
    },
  },
  '/v1/desk/groups/{group}/preview': {
    post: {
      id: 'previewGroup',
      summary: 'What the members of a group would gain and lose by its roles; nothing is saved',
      tag: 'desk',
      body: { schema: groupRolesSchema, types: json },
      answers: { 200: rolePreviewSchema },
      problems: [...deskProblems, 'not-found', 'too-large', 'unsupported-media-type'],
    },
  },
  '/v1/desk/invitations': {
    get: {
      id: 'listInvitations',
      summary: 'Who was invited, and what came of it; the newest first',
      tag: 'desk',
      query: invitationsQuerySchema,
      answers: { 200: invitationsSchema },
      problems: deskProblems,
    },
  },
  '/v1/desk/invitations/letters': {
    post: {
      id: 'invite',
      summary: 'Send a letter to every good address of a list, and tell each line that none went out for',
      tag: 'desk',
      body: { schema: inviteSchema, types: json },
      answers: { 200: inviteReportSchema },
      problems: [...changeProblems, 'no-post'],
    },
  },
  '/v1/desk/invitations/{invitation}': {
    delete: {
      id: 'revokeInvitation',
      summary: 'Take an open invitation back',
      tag: 'desk',
      answers: { 204: 'Taken back' },
      problems: [...deskProblems, 'locked', 'not-found'],
    },
  },
  '/v1/desk/letter': {
    get: {
      id: 'letter',
      summary: 'What an invitation says',
      tag: 'desk',
      answers: { 200: letterSchema },
      problems: deskProblems,
    },
    put: {
      id: 'saveLetter',
      summary: 'Write another letter',
      tag: 'desk',
      body: { schema: letterSchema, types: json },
      answers: { 200: letterSchema },
      problems: changeProblems,
    },
  },
  '/v1/desk/letter/preview': {
    post: {
      id: 'previewLetter',
      summary: 'A letter as somebody would get it',
      tag: 'desk',
      body: { schema: letterSchema, types: json },
      answers: { 200: letterPreviewSchema },
      problems: [...deskProblems, 'too-large', 'unsupported-media-type'],
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
  '/v1/desk/overview': {
    get: {
      id: 'overview',
      summary: 'What the published rulebook speaks of',
      tag: 'desk',
      answers: { 200: overviewSchema },
      problems: deskProblems,
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
  '/v1/desk/publications': {
    post: {
      id: 'publish',
      summary: 'Put a rulebook in force',
      tag: 'desk',
      body: { schema: rulebookFilesSchema, types: json },
      answers: { 200: publishedSchema },
      problems: [
        ...deskProblems,
        'locked',
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
      problems: [...deskProblems, 'too-many-records', 'too-large', 'unsupported-media-type'],
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

function provisioned(
  id: string,
  summary: string,
  status: 200 | 201,
  schema: z.ZodType,
  more: Partial<Operation> = {},
): Operation {
  return {
    id,
    summary,
    tag: 'provisioning',
    media: SCIM,
    answers: { [status]: schema, 400: 'An error of RFC 7644, with its scimType' },
    problems: [],
    ...(more.query === undefined ? {} : { query: more.query }),
    ...(more.body === undefined ? {} : { body: more.body }),
  };
}

function provisionedGone(id: string, summary: string): Operation {
  return { id, summary, tag: 'provisioning', answers: { 204: 'Gone' }, problems: [] };
}

let made: object | null = null;

/** The service's description as OpenAPI 3.1, from the very schemas that check requests. Made once. */
export function openApiDocument(): object {
  made ??= makeDocument();
  return made;
}

function makeDocument(): object {
  const components: Record<string, unknown> = { Problem: component(problemSchema, 'output', {}) };
  const paths: Record<string, Record<string, unknown>> = {};
  for (const [path, methods] of Object.entries(operations)) {
    const parameters = [...path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
      name,
      in: 'path',
      required: true,
      schema: { type: 'string' },
    }));
    paths[path] = parameters.length === 0 ? {} : { parameters };
    for (const [method, operation] of Object.entries(methods))
      paths[path][method] = describe(operation, components);
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Firm Gate',
      version: '1.0.0',
      description: 'Records, each caller seeing and changing what the published rules allow.',
    },
    servers: [{ url: '/' }],
    tags: [
      { name: 'records', description: 'The end users’ side' },
      { name: 'about', description: 'What the service says of itself' },
      { name: 'desk', description: 'The developers’ side' },
      { name: 'provisioning', description: 'SCIM 2.0 (RFC 7643, RFC 7644), for an identity provider' },
    ],
    paths,
    components: {
      schemas: components,
      securitySchemes: {
        bearer: { type: 'http', scheme: 'bearer', bearerFormat: 'JWT' },
        session: { type: 'apiKey', in: 'cookie', name: 'firmgate_session' },
      },
    },
  };
}

function describe(operation: Operation, components: Record<string, unknown>): object {
  const responses: Record<string, unknown> = {};
  for (const [status, answer] of Object.entries(operation.answers)) {
    responses[status] =
      typeof answer === 'string'
        ? { description: answer }
        : {
            description: 'The answer',
            content: {
              [operation.media ?? 'application/json']: { schema: reference(answer, 'output', components) },
            },
          };
  }
  for (const status of new Set(operation.problems.map((type) => problemTypes[type].status))) {
    if (responses[status] !== undefined) continue;
    const types = operation.problems.filter((type) => problemTypes[type].status === status);
    const description = types.map((type) => `${type}: ${problemTypes[type].title}`).join('; ');
    responses[status] = {
      description,
      content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } },
    };
  }
  const security =
    operation.id === 'acceptInvitation' || operation.tag === 'provisioning'
      ? [{ bearer: [] }]
      : operation.tag === 'records' || operation.id === 'whoAmI'
        ? [{}, { bearer: [] }]
        : operation.tag === 'desk' && operation.id !== 'signIn' && operation.id !== 'join'
          ? [{ session: [] }, { bearer: [] }]
          : [{}];
  return {
    operationId: operation.id,
    summary: operation.summary,
    tags: [operation.tag],
    security,
    parameters: parametersOf(operation),
    ...(operation.body === undefined ? {} : { requestBody: requestBody(operation.body, components) }),
    responses,
  };
}

function parametersOf({ query, conditional }: Operation): object[] {
  const parameters: object[] = [];
  if (conditional !== undefined)
    parameters.push({ name: conditional, in: 'header', schema: { type: 'string' } });
  if (query === undefined) return parameters;
  const { properties = {} } = z.toJSONSchema(query, { target: 'draft-2020-12', io: 'input' });
  for (const [name, property] of Object.entries(properties)) {
    const { description, ...schema } = property as { description?: string };
    parameters.push({ name, in: 'query', ...(description === undefined ? {} : { description }), schema });
  }
  return parameters;
}

function requestBody(
  { schema, types }: NonNullable<Operation['body']>,
  components: Record<string, unknown>,
): object {
  const described = reference(schema, 'input', components);
  return { required: true, content: Object.fromEntries(types.map((type) => [type, { schema: described }])) };
}

/** A schema with an id stands once under components; any other where it is used. */
function reference(schema: z.ZodType, io: 'input' | 'output', components: Record<string, unknown>): object {
  const id = schema.meta()?.id;
  if (id === undefined) return component(schema, io, components);
  components[id] ??= component(schema, io, components);
  return { $ref: `#/components/schemas/${id}` };
}

function component(schema: z.ZodType, io: 'input' | 'output', components: Record<string, unknown>): object {
  const {
    $schema: _,
    $defs: definitions,
    id: __,
    ...rest
  } = z.toJSONSchema(schema, {
    target: 'draft-2020-12',
    io,
    reused: 'inline',
  }) as Record<string, unknown>;
  // Nested schemas with ids come as definitions beside; inside one document they are inlined instead.
  return new Inliner((definitions ?? {}) as Definitions, components).inline(rest) as object;
}

type Definitions = Readonly<Record<string, Record<string, unknown>>>;

class Inliner {
  readonly #definitions: Definitions;
  readonly #components: Record<string, unknown>;

  constructor(definitions: Definitions, components: Record<string, unknown>) {
    this.#definitions = definitions;
    this.#components = components;
  }

  inline(node: unknown): unknown {
    if (Array.isArray(node)) return node.map((each) => this.inline(each));
    if (typeof node !== 'object' || node === null) return node;
    const { $ref: target } = node as { $ref?: unknown };
    const name = typeof target === 'string' ? /^#\/\$defs\/(.+)$/.exec(target)?.[1] : undefined;
    if (name === undefined)
      return Object.fromEntries(Object.entries(node).map(([key, value]) => [key, this.inline(value)]));
    const { id: _, ...definition } = this.#definitions[name]!;
    // One that holds itself can only be pointed at.
    if (!JSON.stringify(definition).includes(`"#/$defs/${name}"`)) return this.inline(definition);
    if (this.#components[name] === undefined) {
      this.#components[name] = {};
      this.#components[name] = this.inline(definition);
    }
    return { $ref: `#/components/schemas/${name}` };
  }
}
