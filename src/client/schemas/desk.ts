import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';
import { listQuerySchema, listSchema } from './records.ts';
import { explanationSchema } from './why.ts';

/** A text for people, that a terminal shows as it is. */
const oneLine = z
  .string()
  .trim()
  .max(500)
  .regex(/^\P{Cc}*$/u, { error: 'must be one line without control characters' });

/** What can be said of a publication. */
export const takeBackSchema = z
  .array(z.string().regex(/^[a-z_][a-z0-9_]*(\.[a-z_][a-z0-9_]*)?(@[1-9]\d{0,8})?$/))
  .max(1_000)
  .describe(
    'Collections and fields that begin with what was set aside under their name last, or by a version: NAME@VERSION',
  );

export const publicationSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files
      .optional()
      .describe('What is to be in force; left out where “restores” says it'),
    restores: z
      .int()
      .min(1)
      .max(2_147_483_647)
      .optional()
      .describe('A version whose files are to be in force again'),
    base: z
      .int()
      .min(0)
      .max(2_147_483_647)
      .optional()
      .describe('The version that this was made from, 0 for none; refused where another is in force'),
    message: oneLine.min(1).optional(),
    despite: oneLine
      .min(3)
      .optional()
      .describe('Why it is to be published though trials fail; kept in the audit trail'),
    takeBack: takeBackSchema.optional(),
    preview: z
      .union([z.literal('make'), z.string().regex(/^[\w-]{43}$/)])
      .optional()
      .describe(
        'The digest of the preview that was looked at: of this very text against what is in force, a day old at most. “make”: nobody looked, and one is made. What it counted is kept with the version',
      ),
  })
  .refine(({ files, restores }) => (files === undefined) !== (restores === undefined), {
    error: 'name either “files” or “restores”',
  })
  .meta({ id: 'Publication' });

export const keptPreviewSchema = z
  .object({
    made_at: z.string(),
    made_by: z.string(),
    effects: z
      .array(
        z.object({
          collection: z.string(),
          operation: z.string(),
          fields: z.array(z.string().nullable()).describe('Those with the same numbers; null: the record'),
          danger: z.string(),
          gained: z.int(),
          lost: z.int(),
          callers: z.int(),
        }),
      )
      .nullable()
      .describe('In counts alone; null: nothing was counted'),
    lockedOut: z.array(z.object({ collection: z.string(), callers: z.int() })),
    frozen: z.array(z.string()),
    withheld: z.boolean().describe('There was more, for so few people that it was not kept'),
  })
  .meta({ id: 'KeptPreview' });

export const versionSchema = z
  .object({
    version: z.int(),
    published_at: z.string(),
    published_by: z.string(),
    message: z.string().nullable(),
    restores: z.int().nullable().describe('The version that it took up again'),
    trials: z
      .object({ passed: z.int(), failed: z.int() })
      .nullable()
      .describe('What came of its trials; null: they were not run'),
    files: z.int().describe('How many'),
  })
  .meta({ id: 'Version' });

export const historyQuerySchema = z.strictObject({
  before: z.coerce.number().int().min(1).max(2_147_483_647).optional().describe('Versions before this one'),
  limit: z.coerce.number().int().min(1).max(200).default(50),
});

export const historySchema = z
  .object({ versions: z.array(versionSchema), next: z.int().nullable() })
  .meta({ id: 'History' });

export const versionFilesSchema = z
  .object({
    ...versionSchema.shape,
    files: rulebookFilesSchema.shape.files,
    identities: z
      .object({
        collections: z.record(
          z.string(),
          z.object({ id: z.string(), fields: z.record(z.string(), z.string()) }),
        ),
        roles: z.record(z.string(), z.string()),
        attributes: z.record(z.string(), z.string()),
      })
      .nullable()
      .describe('By which things of two versions are paired, whatever they are called; null: cannot be told'),
    preview: keptPreviewSchema
      .nullable()
      .describe('What it was foreseen to do when it was published; null: nobody named a preview'),
  })
  .meta({ id: 'VersionFiles' });

export const trialRequestSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files.optional().describe('A draft; left out: the published rulebook'),
    only: z.string().min(1).max(200).optional().describe('Trials and invariants whose title has this in it'),
    as: z
      .string()
      .min(1)
      .max(100)
      .optional()
      .describe('The parts of this test identity alone, or of the “visitor”'),
  })
  .meta({ id: 'TrialRequest' });

export const publishedSchema = z
  .object({
    version: z.int(),
    changed: z.boolean().describe('False where the very same files were in force already'),
    setAside: z.array(z.string()).describe('Kept in the database, and no longer spoken of'),
    notes: z.array(z.string()),
  })
  .meta({ id: 'Published' });

export const verdictSchema = z
  .object({
    trial: z.string(),
    identity: z.string().nullable(),
    expectation: z.string(),
    file: z.string(),
    line: z.int(),
    passed: z.boolean(),
    notCovered: z
      .string()
      .optional()
      .describe('Of an invariant against which nothing was found: what was not looked at'),
    idle: z
      .literal(true)
      .optional()
      .describe(
        'Of an invariant: this identity can do what it speaks of to no record that there is, and is no test of it',
      ),
    failure: z
      .object({
        expected: z.string(),
        actual: z.string(),
        why: explanationSchema.nullable().describe('Null where it is not about one record'),
      })
      .optional(),
  })
  .meta({ id: 'Verdict', description: 'What came of one expectation of a trial' });

export const trialReportSchema = z
  .object({
    passed: z.int(),
    failed: z.int(),
    milliseconds: z.number(),
    verdicts: z.array(verdictSchema),
    left: z.array(z.string()).describe('What was not tried, in sentences'),
  })
  .meta({ id: 'TrialReport' });

export const overviewSchema = z
  .object({
    version: z.int().nullable(),
    collections: z.array(
      z.object({
        name: z.string(),
        title: z.string().nullable(),
        label: z.string().nullable(),
        owners: z.array(z.string()),
        fields: z.array(
          z.object({
            name: z.string(),
            title: z.string().nullable(),
            type: z.string(),
            reference: z.string().nullable(),
            sensitive: z.boolean(),
            system: z.boolean(),
          }),
        ),
        actions: z.array(
          z.object({
            name: z.string(),
            parameters: z.array(
              z.object({
                name: z.string(),
                type: z.string(),
                reference: z.string().nullable(),
                required: z.boolean(),
              }),
            ),
          }),
        ),
      }),
    ),
    roles: z.array(z.object({ name: z.string(), title: z.string().nullable() })),
    identities: z.array(
      z.object({
        name: z.string(),
        id: z.uuid().nullable(),
        email: z.string().nullable(),
        roles: z.array(z.string()),
        active: z.boolean(),
      }),
    ),
  })
  .meta({ id: 'Overview', description: 'What the published rulebook speaks of' });

/** `as`: a test identity by name, or `visitor`; without it, everything, which takes an unlock. */
export const lookQuerySchema = listQuerySchema
  .extend({
    as: z.string().min(1).max(64).optional(),
  })
  .strict();

export const emptinessSchema = z
  .object({
    reason: z.enum(['no rule', 'no rule for these roles', 'no record', 'no match', 'filtered', 'signed out']),
    explanation: z.string(),
    next: z.string(),
  })
  .meta({ id: 'Emptiness', description: 'Why a list is empty, for the developer' });

export const lookSchema = listSchema
  .extend({
    count: z.int(),
    total: z.int().describe('All records of the collection'),
    roles: z.array(z.string()).describe('That the identity holds at this moment, by hand or by a condition'),
    emptiness: emptinessSchema.nullable(),
  })
  .meta({ id: 'Look' });

export type RulebookFiles = z.infer<typeof rulebookFilesSchema>;
export type TrialRequest = z.infer<typeof trialRequestSchema>;
export type Publication = z.input<typeof publicationSchema>;
export type Version = z.infer<typeof versionSchema>;
export type KeptPreview = z.infer<typeof keptPreviewSchema>;
export type PublishedDocument = z.infer<typeof publishedSchema>;
export type VerdictDocument = z.infer<typeof verdictSchema>;
export type TrialReport = z.infer<typeof trialReportSchema>;
export type Overview = z.infer<typeof overviewSchema>;
export type Look = z.infer<typeof lookSchema>;
export type Emptiness = z.infer<typeof emptinessSchema>;
