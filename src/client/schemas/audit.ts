import { z } from 'zod';

export const auditEntrySchema = z
  .object({
    seq: z.int(),
    at: z.string().describe('RFC 3339, UTC, microseconds'),
    actor: z.string(),
    from: z.string().nullable().describe('The address that the request came from'),
    action: z.string(),
    subject: z.string(),
    reason: z.string().nullable().describe('Of the unlock under which it was done'),
    detail: z.record(z.string(), z.unknown()),
    previous: z.string().describe('The hash of the entry before'),
    hash: z.string(),
  })
  .meta({ id: 'AuditEntry' });

/** The last line of an export: one without it was cut short. */
export const auditEndSchema = z.strictObject({ end: z.strictObject({ entries: z.int() }) });

const filters = {
  actor: z.string().min(1).max(400).optional(),
  action: z
    .string()
    .min(1)
    .max(60)
    .optional()
    .describe('Such as role.give, or role for all that was done with roles'),
  subject: z.string().min(1).max(400).optional(),
  since: z.iso.datetime({ offset: true }).optional(),
  until: z.iso.datetime({ offset: true }).optional(),
};
export const auditQuerySchema = z.strictObject({
  ...filters,
  limit: z.coerce.number().int().min(1).max(500).default(50),
  before: z.coerce.number().int().min(1).optional().describe('The “next” of the page before'),
});
export const auditExportQuerySchema = z.strictObject(filters);
export const auditPageSchema = z
  .object({ entries: z.array(auditEntrySchema), next: z.int().nullable() })
  .meta({ id: 'AuditPage', description: 'Newest first' });

export const auditVerificationQuerySchema = z.strictObject({
  head: z
    .string()
    .regex(/^\d{1,15}:[0-9a-f]{64}$/, 'write the head as it was noted: NUMBER:HASH')
    .optional()
    .describe('A head that was noted before: shows also a trail that was made anew'),
});
export const auditVerificationSchema = z
  .object({
    entries: z.int(),
    head: z.object({ seq: z.int(), hash: z.string() }),
    faults: z.array(z.object({ seq: z.int(), what: z.string() })),
  })
  .meta({ id: 'AuditVerification' });

export type AuditEndDocument = z.infer<typeof auditEndSchema>;
export type AuditEntryDocument = z.infer<typeof auditEntrySchema>;
export type AuditQuery = z.input<typeof auditQuerySchema>;
export type AuditVerification = z.infer<typeof auditVerificationSchema>;
