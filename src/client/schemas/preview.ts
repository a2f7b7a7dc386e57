import { z } from 'zod';
import { takeBackSchema } from './desk.ts';
import { rulebookFilesSchema } from './files.ts';

/** What no count can say: told of every preview, and left out where a solver has been asked beside it. */
export const NOT_PROVED =
  'whether it is wider or narrower for records and people that there could be is not decided by this: “firmgate preview” asks a solver';

export const previewRequestSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files
      .optional()
      .describe('The draft; left out where “restores” names a version'),
    restores: z
      .int()
      .min(1)
      .max(2_147_483_647)
      .optional()
      .describe('A published version that would be in force again'),
    takeBack: takeBackSchema.optional(),
  })
  .refine(({ files, restores }) => (files === undefined) !== (restores === undefined), {
    error: 'name either “files” or “restores”',
  })
  .meta({ id: 'PreviewRequest' });

const whoSchema = z.object({
  kind: z.enum(['visitor', 'identity', 'person']),
  name: z.string().nullable().describe('Null for people, unless whoever asks has unlocked'),
  was: z.int(),
  is: z.int(),
  gained: z.int(),
  lost: z.int(),
  more: z.array(z.string()).describe('Some of the records gained, by label; none without an unlock'),
  less: z.array(z.string()),
});

export const effectSchema = z
  .object({
    collection: z.string(),
    operation: z.string().describe('read, update, delete, share, or an action'),
    field: z.string().nullable().describe('Null: the record'),
    sensitive: z.boolean(),
    danger: z.enum(['visitors', 'sensitive', 'changes', 'more', 'less']).describe('The first is the worst'),
    gained: z.int().describe('Over all who were looked at: a record that two gain counts twice'),
    lost: z.int(),
    who: z.array(whoSchema).describe('The first twenty'),
    others: z.int().describe('How many more'),
    because: z.array(z.string()).describe('The differences that bear on the collection, in words'),
  })
  .meta({ id: 'Effect' });

export const previewSchema = z
  .object({
    base: z.int().nullable().describe('The version in force'),
    digest: z
      .string()
      .describe('Names this preview where it is published: the same text against the same version'),
    differences: z.array(
      z.object({
        what: z.string(),
        collection: z.string().nullable(),
        how: z.enum(['new', 'changed', 'gone']),
        was: z.string().nullable(),
        is: z.string().nullable(),
        words: z.string(),
      }),
    ),
    beside: z
      .array(z.object({ collection: z.string(), operation: z.string(), sentences: z.array(z.string()) }))
      .describe('What is in force already for what the differences are about'),
    kept: z
      .object({
        changes: z.array(z.string()).describe('What becomes of the records, in sentences'),
        problems: z.array(z.string()).describe('What stands in the way of publishing it'),
      })
      .describe('Renames, types, fills, and what is set aside'),
    effects: z.array(effectSchema).nullable().describe('The most dangerous first; null: not counted'),
    withheld: z
      .boolean()
      .describe('Something changes for so few people that it is told after an unlock alone'),
    lockedOut: z.array(
      z.object({
        kind: z.enum(['visitor', 'identity', 'person']),
        name: z.string().nullable(),
        collection: z.string(),
      }),
    ),
    frozen: z.array(z.string()).describe('Collections that nobody who was looked at could change any more'),
    roles: z
      .array(z.object({ role: z.string(), how: z.enum(['gone', 'back']), holders: z.int() }))
      .describe(
        'Roles that people hold and that would be gone; or that would be back, and are then held by nobody',
      ),
    looked: z.object({ identities: z.int(), people: z.int() }),
    notCovered: z.array(z.string()).describe('What was not looked at, in sentences'),
  })
  .meta({ id: 'Preview' });

export type PreviewRequest = z.input<typeof previewRequestSchema>;
export type Preview = z.infer<typeof previewSchema>;
export type EffectDocument = z.infer<typeof effectSchema>;
