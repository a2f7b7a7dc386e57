import { z } from 'zod';

const operation = z.enum(['read', 'update', 'delete']);

export const shareSchema = z
  .object({
    id: z.uuid(),
    collection: z.string(),
    record: z.uuid(),
    operations: z.array(operation),
    sharer: z.uuid().describe('The person who shares it'),
    person: z.uuid().nullable(),
    role: z.string().nullable(),
    audience: z.enum(['people', 'everybody']).nullable(),
    created_at: z.string(),
    ends: z.string().nullable(),
  })
  .meta({ id: 'Share', description: 'One record, shared with a person, a role, all people, or everybody' });

export const sharesSchema = z.object({ shares: z.array(shareSchema) }).meta({ id: 'Shares' });

export const shareRequestSchema = z
  .strictObject({
    person: z.uuid().optional().describe('Somebody whom the caller can read'),
    role: z.string().min(1).max(100).optional(),
    audience: z.enum(['people', 'everybody']).optional(),
    for: z.array(operation).min(1).max(3).default(['read']).describe('Reading is always among it'),
    until: z.iso.datetime({ offset: true }).optional().describe('Left out: until it is taken back'),
  })
  .refine(
    ({ person, role, audience }) =>
      [person, role, audience].filter((each) => each !== undefined).length === 1,
    'name one of person, role and audience',
  )
  .meta({ id: 'ShareRequest' });

export const sharesQuerySchema = z.strictObject({
  collection: z.string().min(1).max(100).optional(),
  record: z.uuid().optional(),
  by: z.string().min(1).max(320).optional().describe('Who shares: by id or address'),
  with: z.string().min(1).max(320).optional().describe('The person it is shared with: by id or address'),
});

export type ShareDocument = z.infer<typeof shareSchema>;
export type ShareRequest = z.input<typeof shareRequestSchema>;
export type SharesQuery = { [Name in keyof z.infer<typeof sharesQuerySchema>]: string | undefined };
