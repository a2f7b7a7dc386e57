import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

export const mutateRequestSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files.optional().describe('A draft; left out: the published rulebook'),
    collections: z
      .array(z.string().min(1).max(100))
      .min(1)
      .max(1000)
      .optional()
      .describe('Faults in the rules of these alone'),
    most: z
      .int()
      .min(1)
      .max(5_000)
      .optional()
      .describe('At most so many faults, from everywhere among them (200)'),
  })
  .meta({ id: 'MutateRequest' });

export const mutateSchema = z
  .object({
    faults: z.array(
      z.object({
        kind: z.string(),
        file: z.string(),
        line: z.int(),
        was: z.string(),
        now: z.string(),
        foundBy: z
          .enum(['check', 'trials', 'invariants', 'sweep', 'nobody'])
          .describe('Who found it first; nobody: no answer that was looked at is another'),
        by: z.string().describe('The trial or invariant, or the first answer that is another'),
      }),
    ),
    failing: z
      .array(z.string())
      .describe('Trials and invariants that fail somewhere without any fault: there they find none'),
    possible: z.int().describe('Faults that could be planted; the rest was left out'),
    milliseconds: z.int(),
  })
  .meta({ id: 'Mutations', description: 'Faults that were planted, one at a time, and who found each' });

export type MutateRequest = z.infer<typeof mutateRequestSchema>;
export type MutateDocument = z.infer<typeof mutateSchema>;
