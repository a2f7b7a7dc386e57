import { z } from 'zod';

/** Query parameters of `GET /v1/desk/can`. */
export const canQuerySchema = z.strictObject({
  as: z
    .string()
    .min(1)
    .max(320)
    .describe('A test identity, or “visitor”; or a person, by address or id, which takes an unlock'),
  operation: z
    .string()
    .min(1)
    .max(100)
    .describe('read, create, update, delete, share, or an action of the collection'),
  collection: z.string().min(1).max(100),
  record: z.string().min(1).max(500).optional().describe('Its id or its label; not for create'),
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
