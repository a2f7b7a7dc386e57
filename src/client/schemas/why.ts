import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

const truth = z.boolean().nullable().describe('null: unknown, because something that it needs is missing');

export const whyRequestSchema = z
  .strictObject({
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
    fields: z.array(z.string().max(100)).max(500).optional().describe('For read: the fields in question'),
    values: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('What would be supplied; references by id, by label, or by the name of a test identity'),
    unchanged: z
      .array(z.string().max(100))
      .max(500)
      .optional()
      .describe(
        'For update: fields supplied with the value that they have, to ask whether they may be changed',
      ),
    at: z.iso.datetime({ offset: true }).optional().describe('Another moment than now'),
    files: rulebookFilesSchema.shape.files
      .optional()
      .describe('A draft whose rules are asked; values are shown after an unlock alone'),
  })
  .meta({ id: 'WhyRequest' });

export interface PartDocument {
  text: string;
  truth: boolean | null;
  values: { name: string; value: string | null }[];
  parts: PartDocument[];
  note: string | null;
}

const partSchema: z.ZodType<PartDocument> = z
  .lazy(() =>
    z.object({
      text: z.string(),
      truth,
      values: z.array(
        z.object({
          name: z.string(),
          value: z.string().nullable().describe('null: not shown, as it is sensitive, or a draft is asked'),
        }),
      ),
      parts: z.array(partSchema),
      note: z.string().nullable(),
    }),
  )
  .meta({ id: 'WhyPart', description: 'A part of a condition, what it came to, and the values that it saw' });

const whyRuleSchema = z.object({
  id: z.string(),
  kind: z.enum(['rule', 'fence']),
  sentence: z.string(),
  because: z.string().nullable(),
  file: z.string(),
  line: z.int(),
  fields: z.array(z.string()).nullable().describe('Of the fields in question, those that it covers'),
  sides: z
    .array(z.object({ side: z.enum(['as it is', 'as it would be']), part: partSchema }))
    .nullable()
    .describe('null: it does not speak of this caller'),
  truth,
});

/** The explanation of one answer. */
const sentenceEditSchema = z
  .object({
    file: z.string(),
    line: z.int(),
    column: z.int().describe('From 1, in code points'),
    operation: z
      .string()
      .nullable()
      .describe(
        'The operation for which it would name these fields; null: whom it would speak of or, a fence, not concern',
      ),
    choices: z.array(z.array(z.string())).describe('Each of them alone would do'),
    identity: z
      .string()
      .optional()
      .describe(
        'The test identity that stands there, who would hold these roles; otherwise it is a sentence',
      ),
    field: z
      .string()
      .optional()
      .describe('Where that identity would have this value, as it is written, and no other roles'),
  })
  .describe('What would be written into a sentence');

export type SentenceEdit = z.infer<typeof sentenceEditSchema>;

export const explanationSchema = z.object({
  allowed: z.boolean(),
  summary: z.string(),
  stages: z.array(
    z.object({
      question: z.string(),
      answer: z.boolean(),
      note: z.string().nullable(),
      rules: z.array(whyRuleSchema),
    }),
  ),
  remedies: z
    .array(
      z.object({
        kind: z.enum(['role', 'value', 'rule']),
        text: z.string(),
        edit: sentenceEditSchema.nullish(),
      }),
    )
    .describe('Small changes, each of which alone would make it a yes'),
});

export const whySchema = explanationSchema
  .extend({
    served: z
      .object({ allowed: z.boolean(), note: z.string().nullable() })
      .nullable()
      .describe('The same answer by the serving side; where the two differ, that is a defect of the service'),
  })
  .meta({ id: 'Why' });

export type WhyRequest = z.infer<typeof whyRequestSchema>;
export type WhyDocument = z.infer<typeof whySchema>;
