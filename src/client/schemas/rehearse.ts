import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

export const rehearseRequestSchema = z
  .strictObject({
    as: z.string().min(1).max(100).describe('A test identity, or “visitor”'),
    operation: z.string().min(1).max(100).describe('create, update, delete, or an action of the collection'),
    collection: z.string().min(1).max(100),
    record: z.string().min(1).max(500).optional().describe('Its id or its label; not for create'),
    values: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('What is supplied; references by id, by label, or by the name of a test identity'),
    files: rulebookFilesSchema.shape.files.optional().describe('A draft by whose rules it is rehearsed'),
    stays: z
      .boolean()
      .optional()
      .describe('Carry it out so that it stays: by the rules in force alone, and after an unlock'),
  })
  .meta({ id: 'RehearseRequest' });

export const rehearsedSchema = z
  .object({
    status: z.int().describe('As the service would answer it'),
    body: z.record(z.string(), z.unknown()).nullable().describe('The same; null where there is none'),
    hidden: z
      .boolean()
      .describe(
        'By a draft, and without an unlock, the record is not shown: “body” has the names of its fields',
      ),
    request: z
      .object({ method: z.string(), path: z.string(), body: z.record(z.string(), z.unknown()).nullable() })
      .describe('The request that was carried out, as a program would send it'),
    left: z.array(z.string()).describe('What was not tried, in sentences'),
  })
  .meta({ id: 'Rehearsed' });

export type RehearseRequest = z.input<typeof rehearseRequestSchema>;
export type RehearsedDocument = z.infer<typeof rehearsedSchema>;
