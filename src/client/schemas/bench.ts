import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

/** Identities that are looked through at once, at most. */
export const MOST_PINNED = 5;

const pinned = {
  files: rulebookFilesSchema.shape.files
    .optional()
    .describe('The draft; left out: the rules in force, on both sides'),
  as: z
    .array(z.string().min(1).max(100))
    .min(1)
    .max(MOST_PINNED)
    .refine((all) => new Set(all).size === all.length, { error: 'names somebody twice' })
    .describe('Test identities, and “visitor”: the marks of each are told in this order'),
};

export const benchRequestSchema = z
  .strictObject({
    ...pinned,
    where: z
      .string()
      .min(1)
      .max(4096)
      .optional()
      .describe('A filter, as in lists: each of them asks it through their own masks'),
    changed: z.boolean().optional().describe('Only records of which the draft changes something'),
    after: z.string().max(2_000).optional(),
    limit: z.int().min(1).max(200).default(50),
  })
  .meta({ id: 'BenchRequest' });

export const benchCountsRequestSchema = z.strictObject(pinned).meta({ id: 'BenchCountsRequest' });

const place = {
  code: z.string(),
  message: z.string(),
  file: z.string(),
  line: z.int(),
  column: z.int(),
  start: z.int().describe('Where it stands in the text, in UTF-16 code units'),
  end: z.int(),
};

const foundSchema = z.object({
  errors: z.array(
    z.object({
      ...place,
      hint: z.string().optional(),
      fix: z
        .object({ description: z.string(), start: z.int(), end: z.int(), text: z.string() })
        .optional()
        .describe('What was plainly meant, in the same file'),
    }),
  ),
  advice: z.array(z.object(place)).describe('None where there are errors'),
  problems: z.array(z.string()).describe('What stands in the way of trying it on the records that are there'),
});

const marks = z
  .string()
  .regex(/^[0-3]*$/)
  .describe(
    'One digit for each identity: 0 no, 1 by the draft alone, 2 by the rules in force alone, 3 by both',
  );

const benchRecordSchema = z.object({
  id: z.string(),
  label: z.string().nullable().describe('Null: none of them sees one in force'),
  values: z
    .record(z.string(), z.unknown())
    .describe('Present values that one of them sees in force; after an unlock, by the draft, too'),
  reads: marks,
  deletes: marks,
  acts: marks.describe('Could any action be carried out, as far as the record says?'),
  sees: z.record(z.string(), marks),
  changes: z.record(z.string(), marks),
  made: z
    .array(z.array(z.int()))
    .describe(
      'For each identity: the sentences that make its marks by the draft, by their place in `sentences`',
    ),
  lost: z
    .array(z.array(z.int()))
    .optional()
    .describe(
      'The same of rules in force that open something of the record; where the draft takes any of it away',
    ),
});

const benchPageSchema = z.object({
  label: z.string().nullable().describe('The field that names its records'),
  fields: z.array(
    z.object({
      name: z.string(),
      title: z.string().nullable(),
      type: z.string(),
      reference: z.string().nullable(),
      sensitive: z.boolean(),
      system: z.boolean(),
      side: z.enum(['both', 'new', 'gone']),
    }),
  ),
  hasActions: z.boolean(),
  records: z.array(benchRecordSchema),
  sentences: z
    .array(
      z.object({
        kind: z.enum(['rule', 'fence']),
        file: z.string(),
        start: z.int(),
        end: z.int(),
        text: z.string().describe('Who may do what, and when, as it was written'),
        operation: z.string().describe('The operation, or the name of an action'),
        fields: z.array(z.string()).nullable().describe('What it is about; null: the record'),
        shared: z.boolean().describe('It is of somebody who shares the record'),
        inForce: z.boolean().describe('It stands so in force; otherwise by the draft'),
      }),
    )
    .describe(
      'Sentences that have a part in the marks: what a rule opens, and what a fence holds back of that',
    ),
  labels: z
    .record(z.string(), z.record(z.string(), z.string()))
    .describe('What references are called: by field, by id'),
  next: z.string().nullable(),
  notCovered: z.array(z.string()),
});

export const benchSchema = foundSchema
  .extend({
    version: z.int().nullable().describe('The version in force'),
    page: benchPageSchema.nullable().describe('Null: the draft has errors, or cannot be tried'),
  })
  .meta({ id: 'Bench' });

export const benchCountsSchema = z
  .object({
    total: z.int(),
    identities: z.array(
      z.object({
        was: z.int().describe('Records that they read in force'),
        is: z.int(),
        gained: z.int(),
        lost: z.int(),
        effects: z
          .array(
            z.object({
              operation: z.enum(['read', 'update', 'delete', 'share']),
              field: z.string().nullable(),
              gained: z.int(),
              lost: z.int(),
            }),
          )
          .describe('Differences of sets, of records and of each field of them'),
      }),
    ),
    sentences: z.array(
      z.object({
        id: z.string(),
        kind: z.enum(['rule', 'fence']),
        file: z.string(),
        start: z.int(),
        end: z.int(),
        operation: z
          .string()
          .nullable()
          .describe(
            'What it is counted for; null: it is about creating alone, which no record that is there tells',
          ),
        counts: z
          .array(z.object({ own: z.int(), shared: z.int() }))
          .describe(
            'By identity: records that it opens, or a fence holds back, and how many of these another does, too',
          ),
      }),
    ),
  })
  .meta({
    id: 'BenchCounts',
    description: 'What the draft, and each of its sentences, does on the records that are there',
  });

export type BenchRequest = z.input<typeof benchRequestSchema>;
export type BenchCountsRequest = z.input<typeof benchCountsRequestSchema>;
export type BenchDocument = z.infer<typeof benchSchema>;
export type BenchPage = z.infer<typeof benchPageSchema>;
export type BenchRecord = z.infer<typeof benchRecordSchema>;
export type BenchCounts = z.infer<typeof benchCountsSchema>;
export type BenchError = BenchDocument['errors'][number];
