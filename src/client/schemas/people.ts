import { z } from 'zod';
import { emailSchema } from './staff.ts';

const moment = z.iso.datetime({ offset: true });

export const assignmentSchema = z
  .object({
    role: z.string(),
    starts: z.string().nullable().describe('Null: from ever'),
    ends: z.string().nullable().describe('Null: for ever'),
    given_by: z.string(),
    given_at: z.string(),
  })
  .meta({ id: 'Assignment', description: 'A role that was given by hand' });

export const personSchema = z
  .object({
    id: z.uuid(),
    name: z.string().nullable(),
    email: z.string().nullable(),
    email_verified: z.boolean().describe('Rules see no other address'),
    active: z.boolean(),
    identity: z.string().nullable().describe('The test identity that it is made for; null: a real person'),
    roles: z.array(assignmentSchema).describe('Given by hand'),
    by_group: z
      .array(z.object({ role: z.string(), group: z.string() }))
      .describe('Through a group of a provider'),
  })
  .meta({
    id: 'Person',
    description: 'An entry of the directory; fields of the application’s own are records',
  });

export const peopleQuerySchema = z.strictObject({
  search: z.string().trim().min(1).max(200).optional().describe('Somewhere in the name or the address'),
  role: z
    .string()
    .min(1)
    .max(100)
    .optional()
    .describe('Who holds this role now, given by hand or through a group'),
  state: z.enum(['active', 'deactivated']).optional(),
  kind: z.enum(['people', 'test identities', 'all']).default('people'),
  limit: z.coerce.number().int().min(1).max(500).default(50),
  after: z.string().max(2000).optional().describe('The “next” of the page before'),
});

export const peopleSchema = z
  .object({ people: z.array(personSchema), next: z.string().nullable(), count: z.int() })
  .meta({ id: 'People' });

const loginSchema = z.strictObject({
  issuer: z.string().min(1).max(500).describe('As the token’s “iss” says it'),
  subject: z
    .string()
    .min(1)
    .max(500)
    .describe('As its “sub” says, or the claim that this issuer names people by'),
});

export const personDetailSchema = personSchema
  .extend({
    held: z
      .array(z.string())
      .describe('Roles that count now: given, by a condition that needs no token, and brought along'),
    unknown: z
      .array(z.string())
      .describe('Given roles that the rulebook does not know: they count for nothing'),
    groups: z.array(z.object({ name: z.string(), roles: z.array(z.string()) })).describe('Of a provider'),
    logins: z.array(z.object({ issuer: z.string(), subject: z.string() })),
  })
  .meta({ id: 'PersonDetail' });

export const personRequestSchema = z
  .strictObject({
    name: z.string().trim().min(1).max(200).optional(),
    email: emailSchema.optional(),
    values: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('Fields that the application adds to people; references are ids'),
    login: loginSchema.optional(),
  })
  .meta({ id: 'PersonRequest' });

export const personChangeSchema = z
  .strictObject({
    name: z.string().trim().min(1).max(200).nullable().optional(),
    email: emailSchema
      .nullable()
      .optional()
      .describe('Counts as unverified until an issuer or an invitation says so'),
    active: z.boolean().optional().describe('False: nobody, from the next request on'),
  })
  .refine((change) => Object.keys(change).length > 0, 'say what is to change: name, email or active')
  .meta({ id: 'PersonChange' });

export const loginRequestSchema = loginSchema.meta({ id: 'Login' });

export const roleChangeSchema = z
  .strictObject({
    people: z.array(z.string().min(1).max(320)).min(1).max(10_000).describe('By id, or by address'),
    give: z
      .array(
        z.strictObject({
          role: z.string().min(1).max(100),
          starts: moment.optional().describe('Left out: at once'),
          ends: moment.optional().describe('Left out: for ever'),
        }),
      )
      .max(50)
      .default([]),
    take: z.array(z.string().min(1).max(100)).max(50).default([]),
  })
  .meta({ id: 'RoleChange', description: 'The same for all of these people' });

export const roleChangedSchema = z
  .object({ people: z.int(), changed: z.int().describe('Whose roles are other ones now') })
  .meta({ id: 'RoleChanged' });

export const rolePreviewSchema = z
  .object({
    at: z
      .string()
      .nullable()
      .describe('The moment that was looked at: when the last of the roles begins; null: now'),
    people: z.array(
      z.object({
        id: z.uuid(),
        name: z.string().nullable(),
        email: z.string().nullable(),
        roles: z.object({ was: z.array(z.string()), is: z.array(z.string()) }),
        changes: z
          .array(
            z.object({
              collection: z.string(),
              operation: z.string(),
              records: z.object({ was: z.int(), is: z.int() }),
              fields: z.array(z.object({ field: z.string(), was: z.int(), is: z.int() })),
            }),
          )
          .describe('Where anything is gained or lost; of create, one record where they may'),
        undecided: z.array(z.string()).describe('What could not be decided'),
      }),
    ),
    left: z.int().describe('People that were not looked at: too many'),
  })
  .meta({ id: 'RolePreview', description: 'What would be gained and lost; nothing is saved' });

export const rolesSchema = z
  .object({
    roles: z.array(
      z.object({
        name: z.string(),
        title: z.string().nullable(),
        held: z
          .enum(['by hand', 'by condition', 'unknown'])
          .describe('Unknown: the rulebook has no such role'),
        includes: z.array(z.string()).describe('Roles that it brings along'),
        people: z
          .object({ now: z.int(), later: z.int(), ended: z.int() })
          .describe('Who was given it by hand'),
      }),
    ),
  })
  .meta({ id: 'Roles' });

export type PersonDocument = z.infer<typeof personSchema>;
export type PersonDetail = z.infer<typeof personDetailSchema>;
export type PeopleQuery = z.input<typeof peopleQuerySchema>;
export type PersonRequest = z.infer<typeof personRequestSchema>;
export type PersonChange = z.infer<typeof personChangeSchema>;
export type RoleChangeRequest = z.input<typeof roleChangeSchema>;
export type RolePreview = z.infer<typeof rolePreviewSchema>;
export type RolesDocument = z.infer<typeof rolesSchema>;
