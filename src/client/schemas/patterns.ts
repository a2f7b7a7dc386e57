import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

export const patternListSchema = z
  .object({
    patterns: z.array(
      z.object({
        name: z.string(),
        title: z.string(),
        parameters: z.array(
          z.object({
            name: z.string(),
            about: z.string(),
            is: z.enum([
              'person field',
              'choice field',
              'reference field',
              'time field',
              'field',
              'role',
              'text',
            ]),
            usual: z.string(),
          }),
        ),
      }),
    ),
  })
  .meta({ id: 'PatternList' });

export const patternRequestSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files.describe('The rulebook that it is written for'),
    collection: z.string().min(1).max(100),
    parameters: z.record(z.string().max(100), z.string().max(500)).optional(),
  })
  .meta({ id: 'PatternRequest' });

export const writtenPatternSchema = z
  .object({
    file: z.string().describe('A name that no other text has'),
    text: z.string(),
    notes: z.array(z.string()),
  })
  .meta({ id: 'WrittenPattern' });

export type PatternRequest = z.input<typeof patternRequestSchema>;
export type PatternDocument = z.infer<typeof patternListSchema>['patterns'][number];
