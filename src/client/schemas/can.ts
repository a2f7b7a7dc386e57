import { z } from 'zod';
import { whyRequestSchema } from './why.ts';

const asked = whyRequestSchema.shape;

/** Query parameters of `GET /v1/desk/can`. */
export const canQuerySchema = z.strictObject({
  as: asked.as,
  operation: asked.operation,
  collection: asked.collection,
  record: asked.record,
  fields: z
    .string()
    .min(1)
    .max(2000)
    .optional()
    .describe('Of read, create and update: the fields in question, with commas between them'),
});

const answer = z.enum(['yes', 'no', 'not decided']);

export const canSchema = z
  .object({
    answer: answer.describe('Of several fields the least: each is asked for by itself'),
    fields: z
      .array(z.object({ field: z.string(), answer }))
      .describe('Of read, create and update: each field, where anything is possible at all'),
  })
  .meta({ id: 'Can', description: 'What the rights of one caller say of one operation' });

export type CanQuery = z.infer<typeof canQuerySchema>;
export type CanDocument = z.infer<typeof canSchema>;
export type CanAnswer = CanDocument['answer'];
