import {
  assignedSchema,
  ownerAssignmentSchema,
  ownerlessSchema,
  undoneSchema,
} from '../../client/schemas/owners.ts';
import { asideChangeSchema, asideListSchema } from '../../client/schemas/aside.ts';
import { groupRolesSchema, groupSchema, groupsSchema } from '../../client/schemas/groups.ts';
import {
  inviteReportSchema,
  inviteSchema,
  invitationsQuerySchema,
  invitationsSchema,
  letterPreviewSchema,
  letterSchema,
} from '../../client/schemas/invitations.ts';
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
} from '../../client/schemas/people.ts';
import { reachSchema } from '../../client/schemas/reach.ts';
import { sharesQuerySchema, sharesSchema } from '../../client/schemas/shares.ts';
import { json, deskProblems, changeProblems, type Operations } from './operation.ts';

/** The desk: people, their roles, and how they come in. */
export const peopleOperations: Operations = {
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
  '/v1/desk/aside': {
    get: {
      id: 'listAside',
      summary: 'Collections and fields that the rulebook no longer speaks of, with what they hold',
      tag: 'desk',
      answers: { 200: asideListSchema },
      problems: deskProblems,
    },
    post: {
      id: 'changeAside',
      summary: 'Discard what is set aside, or keep it after all',
      tag: 'desk',
      body: { schema: asideChangeSchema, types: json },
      answers: { 200: asideListSchema },
      problems: [...changeProblems, 'not-found'],
    },
  },
  '/v1/desk/owners/{collection}': {
    get: {
      id: 'ownerless',
      summary: 'Records that nobody owns, by what the collection says of its owners',
      tag: 'desk',
      answers: { 200: ownerlessSchema },
      problems: [...deskProblems, 'not-found'],
    },
    post: {
      id: 'assignOwners',
      summary: 'Give owners to records that have none, all or nothing; it can be undone',
      tag: 'desk',
      body: { schema: ownerAssignmentSchema, types: json },
      answers: { 200: assignedSchema },
      problems: [
        ...deskProblems,
        'locked',
        'not-found',
        'value-taken',
        'too-large',
        'unsupported-media-type',
      ],
    },
  },
  '/v1/desk/owners/assignments/{id}': {
    delete: {
      id: 'undoOwners',
      summary: 'Take an assignment of owners back, as long as nobody has changed its records since',
      tag: 'desk',
      answers: { 200: undoneSchema },
      problems: [...deskProblems, 'locked', 'not-found', 'cannot-undo'],
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
};
