import { z } from 'zod';

const name = z
  .string()
  .regex(/^[a-z_][a-z0-9_]*(\.[a-z_][a-z0-9_]*)?$/)
  .describe('A collection, or a field as collection.field');

export const asideChangeSchema = z
  .strictObject({
    name,
    version: z.int().min(1).max(2_147_483_647).optional().describe('Only what that version set aside'),
    keep: z.boolean().default(false).describe('Keep it after all, where it was discarded'),
  })
  .meta({ id: 'AsideChange' });

export const asideSchema = z
  .object({
    name,
    kind: z.enum(['collection', 'field']),
    version: z.int().describe('The version that does not speak of it any more'),
    since: z.string(),
    count: z.int().describe('Records of a collection, values of a field'),
    discarded_by: z.string().nullable(),
    dropped_after: z.string().nullable().describe('When it is dropped for good; null: it is kept'),
  })
  .meta({ id: 'Aside' });

export const asideListSchema = z.object({ aside: z.array(asideSchema) }).meta({ id: 'AsideList' });

export type AsideChange = z.input<typeof asideChangeSchema>;
export type AsideDocument = z.infer<typeof asideSchema>;
