import { z } from 'zod';

/**
 * Every problem that the service answers with (RFC 9457), by the last part of its `type`. A type never changes its
 * meaning. Each resolves at the service itself: GET /problems/NAME.
 */
export const problemTypes = {
  'malformed-request': {
    status: 400,
    title: 'The request is not well formed',
    next: 'Correct what “errors” names, and send it again.',
  },
  'malformed-filter': {
    status: 400,
    title: 'The filter or order cannot be read',
    next: 'Correct the spot that “errors” names. Filters are written in the conditions of the rule language.',
  },
  'invalid-token': {
    status: 401,
    title: 'The token is not accepted',
    next: 'Get a new token from your issuer. Without any token you are a visitor.',
  },
  'not-signed-in': {
    status: 401,
    title: 'Nobody is signed in',
    next: 'Sign in as staff first: at the console, or with “firmgate sign-in EMAIL”.',
  },
  'link-not-good': {
    status: 403,
    title: 'The link is not good',
    next: 'It is wrong, used up, taken back, or too old. Ask whoever sent it for a new one.',
  },
  'wrong-address': {
    status: 403,
    title: 'The invitation is for another address',
    next: 'Sign in with the address that the letter came to, which your issuer must have verified.',
  },
  'not-allowed': {
    status: 403,
    title: 'No rule allows this',
    next: 'A rule that is true for this record is needed. Look at the collection’s rules.',
  },
  'fields-not-covered': {
    status: 403,
    title: 'No rule lets you supply these fields',
    next: 'Leave out the fields that “fields” names.',
  },
  'level-too-low': {
    status: 403,
    title: 'Your level does not allow this',
    next: 'Ask a manager to do it, or to give you the level that “errors” names.',
  },
  locked: {
    status: 403,
    title: 'What is in force can only be changed after an unlock',
    next: 'Unlock first, with a reason: “firmgate unlock REASON”, or Unlock at the top of the console.',
  },
  'cross-site': {
    status: 403,
    title: 'The request came from another site',
    next: 'Send it from the console itself.',
  },
  'not-found': {
    status: 404,
    title: 'There is no such thing here for you',
    next: 'Check the collection and the id. What you may not read answers just like what is not there.',
  },
  'method-not-allowed': {
    status: 405,
    title: 'This method is not offered here',
    next: 'Use one of the methods in the Allow header.',
  },
  'not-acceptable': {
    status: 406,
    title: 'No representation fits your Accept header',
    next: 'Accept application/json.',
  },
  'value-taken': {
    status: 409,
    title: 'The value stands in another record',
    next: 'Choose another value: the field is unique.',
  },
  'tree-circle': {
    status: 409,
    title: 'The record would lie below itself',
    next: 'Choose a parent that is not below the record.',
  },
  'last-manager': {
    status: 409,
    title: 'Nobody would be left who can manage staff',
    next: 'Make somebody else a manager first.',
  },
  'name-taken': {
    status: 409,
    title: 'The name is in use',
    next: 'Choose another one, or change what has it.',
  },
  'no-post': {
    status: 409,
    title: 'No letter can be sent',
    next: 'Start the service with --smtp or --outbox, and --welcome.',
  },
  'managed-by-rulebook': {
    status: 409,
    title: 'The rulebook says what this is',
    next: 'Change it there, and publish.',
  },
  'still-referenced': {
    status: 409,
    title: 'Other records point at this one',
    next: 'Change or delete those first.',
  },
  'cannot-publish': {
    status: 409,
    title: 'The rulebook does not fit the records that are there',
    next: 'Each of “errors” says what to do.',
  },
  'other-version': {
    status: 409,
    title: 'Another version is in force than this was made from',
    next: 'Look at what came between (firmgate history differences), bring it together, and publish again.',
  },
  'other-preview': {
    status: 409,
    title: 'The preview is of something else, or a day old',
    next: 'Look at the preview of these very files against what is in force now, and name its digest; or “make”: one is made then.',
  },
  'trials-failed': {
    status: 409,
    title: 'Trials of this rulebook fail',
    next: 'Each of “errors” is one. Correct the rules or the trial, or publish all the same, with a reason (“despite”).',
  },
  'cannot-undo': {
    status: 409,
    title: 'It cannot be undone any more',
    next: '“errors” says why. Nothing was changed.',
  },
  'too-many-shares': {
    status: 409,
    title: 'There are too many shares already',
    next: 'Take shares back first; or let a rule or a role say it instead.',
  },
  'draft-conflict': {
    status: 409,
    title: 'Two people changed the same differently',
    next: 'Each of “errors” holds both texts. Read the draft again, bring them together, and save with its new tag.',
  },
  'changed-meanwhile': {
    status: 412,
    title: 'The record is no longer the one you have seen',
    next: 'Read it again, and decide anew.',
  },
  'too-large': {
    status: 413,
    title: 'The body is too large',
    next: 'Send less at a time: 1 MiB, of a list of addresses or owners 4 MiB, of a rulebook 16 MiB.',
  },
  'unsupported-media-type': {
    status: 415,
    title: 'The body is not JSON',
    next: 'Send application/json, or application/merge-patch+json for changes.',
  },
  'reference-not-found': {
    status: 422,
    title: 'A reference points at nothing that you can read',
    next: 'Use the id of a record that you can read.',
  },
  'value-required': {
    status: 422,
    title: 'A required field has no value',
    next: 'Supply the fields that “fields” names.',
  },
  'value-too-large': {
    status: 422,
    title: 'A value is larger than its field can hold',
    next: 'Send less: a text holds as many characters as the rulebook says, a unique one some 2,000 bytes, a JSON value 1 MiB after the change.',
  },
  'rulebook-errors': {
    status: 422,
    title: 'The rulebook has errors',
    next: 'Correct what “errors” names; nothing was changed.',
  },
  'too-many-records': {
    status: 422,
    title: 'Too many records would have to be looked at',
    next: 'Ask about a smaller part: fewer identities, or another collection.',
  },
  'precondition-required': {
    status: 428,
    title: 'It must be said what this was made from',
    next: 'Send the tag that you read it with in If-Match (RFC 6585).',
  },
  'too-many-attempts': { status: 429, title: 'Too many attempts', next: 'Wait as long as Retry-After says.' },
  'too-many-requests': {
    status: 429,
    title: 'You have too many requests under way',
    next: 'Wait for the answers to some of them, at least as long as Retry-After says.',
  },
  internal: {
    status: 500,
    title: 'Something went wrong in the service',
    next: 'Nothing was changed. Tell those who run the service the request id.',
  },
  unavailable: {
    status: 503,
    title: 'The service cannot reach its database, or is too busy',
    next: 'Try again shortly; nothing was changed.',
  },
} as const satisfies Record<string, { status: number; title: string; next: string }>;

export type ProblemType = keyof typeof problemTypes;

export const problemSchema = z
  .object({
    type: z.string().describe('A path below this service that explains the type'),
    title: z.string(),
    status: z.int(),
    detail: z.string().describe('What to do next, for people'),
    fields: z.array(z.string()).optional().describe('The fields that it is about'),
    errors: z
      .array(
        z.object({
          message: z.string(),
          field: z.string().optional(),
          pointer: z.string().optional().describe('Where in the body: a JSON Pointer (RFC 6901)'),
          code: z.string().optional(),
          file: z.string().optional(),
          line: z.int().optional(),
          column: z.int().optional(),
          hint: z.string().optional(),
          unknown: z
            .literal(true)
            .optional()
            .describe('The rulebook in force has no such name: the request may be made for another version'),
        }),
      )
      .optional(),
    request: z.string().optional().describe('The request id, also in the log'),
  })
  .meta({ id: 'Problem', description: 'Problem details, RFC 9457' });

export type ProblemDocument = z.infer<typeof problemSchema>;
