import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

/** Texts that can be kept: valid Unicode, without U+0000. */
const text = z
  .string()
  .max(1_048_576)
  .refine((each) => each.isWellFormed() && !each.includes('\u0000'), {
    error: 'must be valid Unicode without U+0000',
  });

export const draftNameSchema = z.string().regex(/^[a-z0-9](?:[a-z0-9-]{0,58}[a-z0-9])?$/, {
  error: 'a draft is called by small letters, digits and hyphens, at most 60',
});

/** Characters of all files of a draft together. */
const MOST_TEXT = 4_000_000;

const files = z
  .array(z.strictObject({ name: rulebookFilesSchema.shape.files.element.shape.name, text }))
  .min(1)
  .max(500)
  .refine((all) => all.reduce((sum, each) => sum + each.text.length, 0) <= MOST_TEXT, {
    error: `must be at most ${MOST_TEXT} characters together`,
  });

const message = z
  .string()
  .trim()
  .min(1)
  .max(500)
  .regex(/^\P{Cc}*$/u, { error: 'must be one line without control characters' })
  .optional();

export const newDraftSchema = z
  .strictObject({
    name: draftNameSchema,
    files: files.optional().describe('Left out: those of the version that it is made from'),
    base: z
      .int()
      .min(0)
      .max(2_147_483_647)
      .optional()
      .describe('The version that it is made from, 0 for none; left out: the one in force'),
    message,
  })
  .meta({ id: 'NewDraft' });

export const draftFilesSchema = z
  .strictObject({ files, message })
  .meta({ id: 'DraftFiles', description: 'All files of a draft, made from the save that If-Match names' });

export const draftChangesSchema = z
  .strictObject({
    changes: z
      .array(
        z.strictObject({
          file: rulebookFilesSchema.shape.files.element.shape.name,
          was: text.describe('What stands there, exactly once; empty: it is added at the end'),
          is: text.describe('What is to stand there; empty: nothing'),
        }),
      )
      .min(1)
      .max(200),
    message,
  })
  .meta({ id: 'DraftChanges', description: 'Single texts, such as one declaration, whoever saved last' });

export const rebaseSchema = z
  .strictObject({
    onto: z.int().min(0).max(2_147_483_647).optional().describe('Left out: the version in force'),
  })
  .meta({ id: 'Rebase' });

const saveFields = {
  save: z.int(),
  base: z.int().describe('The version that it was made from; 0: none'),
  saved_by: z.string(),
  saved_at: z.string(),
  message: z.string().nullable(),
};

export const draftSchema = z
  .object({ name: z.string(), made_by: z.string(), made_at: z.string(), ...saveFields })
  .meta({ id: 'Draft' });

export const draftListSchema = z.object({ drafts: z.array(draftSchema) }).meta({ id: 'DraftList' });

const place = { message: z.string(), file: z.string(), line: z.int(), column: z.int() };

export const draftWithFilesSchema = draftSchema
  .extend({
    files: z.array(z.object({ name: z.string(), text: z.string() })),
    merged: z.boolean().describe('It was put together with what somebody else had saved'),
    inForce: z.int().nullable().describe('The version in force; another than “base”: move the draft onto it'),
    errors: z.array(z.object({ code: z.string(), ...place, hint: z.string().optional() })),
    advice: z.array(z.object({ code: z.string(), ...place })).describe('None where there are errors'),
  })
  .meta({ id: 'DraftWithFiles' });

export const draftSavesSchema = z.object({ saves: z.array(z.object(saveFields)) }).meta({ id: 'DraftSaves' });

export const draftSaveSchema = z
  .object({ save: z.int(), files: z.array(z.object({ name: z.string(), text: z.string() })) })
  .meta({ id: 'DraftSave' });

export type NewDraft = z.input<typeof newDraftSchema>;
export type DraftChanges = z.input<typeof draftChangesSchema>;
export type DraftFiles = z.input<typeof draftFilesSchema>;
export type DraftDocument = z.infer<typeof draftWithFilesSchema>;
