import { z } from 'zod';

/** From the one that may least to the one that may most; each may all that those before it may. */
export const levels = ['viewer', 'author', 'publisher', 'manager'] as const;
export const levelSchema = z.enum(levels);
export type Level = z.infer<typeof levelSchema>;

/** What a key can be for. Staff and keys themselves are no area: no key makes another. */
export const areas = ['look', 'proof', 'rulebook', 'people', 'audit', 'scim'] as const;
export const areaSchema = z.enum(areas);
export type Area = z.infer<typeof areaSchema>;

export const SHORTEST_PASSWORD = 12;
const password = z.string().min(1).max(1000);
const newPassword = z
  .string()
  .min(SHORTEST_PASSWORD, `a password has at least ${SHORTEST_PASSWORD} characters`)
  .max(1000);
/** Lower case: one account, however its address is typed. */
export const emailSchema = z
  .string()
  .trim()
  .toLowerCase()
  .max(320)
  .regex(/^[^\s@,;<>"]+@[^\s@,;<>"]+$/, 'this is not an e-mail address');

export const signInSchema = z
  .strictObject({ email: z.string().trim().toLowerCase().min(1).max(320), password })
  .meta({ id: 'SignIn' });

export const passwordChangeSchema = z
  .strictObject({ password, new: newPassword })
  .meta({ id: 'PasswordChange' });

export const joinSchema = z
  .strictObject({
    secret: z.string().min(1).max(100).describe('The part of the link behind the #'),
    email: emailSchema
      .optional()
      .describe('The address of the first manager; any other link has its own already'),
    password: newPassword,
  })
  .meta({ id: 'Join' });

export const unlockSchema = z
  .object({ reason: z.string(), began: z.string(), ends: z.string() })
  .meta({ id: 'Unlock', description: 'The right to change what is in force, while it lasts' });

export const sessionSchema = z
  .object({
    name: z.string().describe('As the audit trail names them'),
    kind: z.enum(['staff', 'key', 'development']),
    level: levelSchema,
    areas: z
      .array(areaSchema)
      .nullable()
      .describe('What a key is for; null: everything that the level allows'),
    unlock: unlockSchema.nullable(),
    development: z.boolean().describe('Whether the development issuer is on'),
  })
  .meta({ id: 'Session', description: 'Who is asking at the desk' });

export const unlockRequestSchema = z
  .strictObject({
    reason: z.string().trim().min(8, 'say in a few words what it is for: 8 characters or more').max(500),
    minutes: z.int().min(1).max(60, 'an unlock lasts 60 minutes at most').default(30),
  })
  .meta({ id: 'UnlockRequest' });

export const staffAccountSchema = z
  .object({ email: z.string(), level: levelSchema, active: z.boolean(), created_at: z.string() })
  .meta({ id: 'StaffAccount' });
export const staffListSchema = z.object({ staff: z.array(staffAccountSchema) }).meta({ id: 'StaffList' });
export const staffInviteSchema = z
  .strictObject({ email: emailSchema, level: levelSchema })
  .meta({ id: 'StaffInvite' });
export const staffChangeSchema = z
  .strictObject({ level: levelSchema.optional(), active: z.boolean().optional() })
  .refine((change) => Object.keys(change).length > 0, 'say what is to change: level or active')
  .meta({ id: 'StaffChange' });
export const staffLinkSchema = z
  .object({
    email: z.string(),
    level: levelSchema,
    link: z.string().describe('Where they choose their password, once; it is shown here alone'),
    expires: z.string(),
  })
  .meta({ id: 'StaffLink' });

export const keySchema = z
  .object({
    name: z.string(),
    level: levelSchema,
    areas: z.array(areaSchema),
    issuer: z.string().nullable().describe('Of a provider’s key: whose tokens speak for its people'),
    created_by: z.string(),
    created_at: z.string(),
    expires_at: z.string().nullable(),
    revoked_at: z.string().nullable(),
    last_used_at: z.string().nullable().describe('To the minute'),
  })
  .meta({ id: 'Key' });
export const keyListSchema = z.object({ keys: z.array(keySchema) }).meta({ id: 'KeyList' });
export const keyRequestSchema = z
  .strictObject({
    name: z
      .string()
      .trim()
      .min(1)
      .max(60)
      .regex(/^[\w .:-]+$/u, 'a name has letters, digits, blanks and . : - _'),
    level: levelSchema,
    areas: z.array(areaSchema).min(1).describe('What the key is for'),
    expires: z.iso.datetime({ offset: true }).optional(),
    issuer: z
      .string()
      .min(1)
      .max(500)
      .optional()
      .describe(
        'Of a provider’s key: tokens of this issuer, with the external id as subject, speak for its people',
      ),
  })
  .meta({ id: 'KeyRequest' });
export const newKeySchema = keySchema
  .extend({ secret: z.string().describe('Shown here alone; the service keeps a hash') })
  .meta({ id: 'NewKey' });

export type SessionDocument = z.infer<typeof sessionSchema>;
export type UnlockDocument = z.infer<typeof unlockSchema>;
export type StaffAccountDocument = z.infer<typeof staffAccountSchema>;
export type StaffLinkDocument = z.infer<typeof staffLinkSchema>;
export type KeyDocument = z.infer<typeof keySchema>;
export type KeyRequest = z.infer<typeof keyRequestSchema>;
