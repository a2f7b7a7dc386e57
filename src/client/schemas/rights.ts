import { z } from 'zod';

const names = z.array(z.string());

/** The types of the rule language, as a form needs them. */
const scalarSchema = {
  type: z.enum([
    'text', 'integer', 'decimal', 'boolean', 'date', 'timestamp', 'uuid', 'one of', 'ref', 'list', 'json',
  ]), // prettier-ignore
  choices: names.optional().describe('Of “one of”: what can be chosen'),
  collection: z
    .string()
    .optional()
    .describe('Of “ref”: where it points, if that is a collection of which this caller could see anything'),
};

const valueTypeSchema = z.object({
  ...scalarSchema,
  of: z.object(scalarSchema).optional().describe('Of “list”: the type of each item'),
});

export const fieldDescriptionSchema = valueTypeSchema
  .extend({
    title: z.string().describe('The name as people write it'),
    required: z.boolean(),
    most: z.int().optional().describe('Of “text”: characters at most'),
  })
  .meta({ id: 'FieldDescription' });

export const actionDescriptionSchema = z
  .object({
    title: z.string(),
    parameters: z.record(z.string(), valueTypeSchema.extend({ title: z.string(), required: z.boolean() })),
  })
  .meta({ id: 'ActionDescription' });

export const collectionRightsSchema = z
  .object({
    title: z.string(),
    label: z.string().nullable().describe('The field that people know a record by, where it could be seen'),
    read: names.describe('Fields that could be seen'),
    create: z
      .object({
        fields: names.describe('Fields that could be supplied'),
        required: names.describe('Of these, those without which no record can be made'),
        filled: names.describe('Those that the service fills in where they are left out'),
      })
      .nullable(),
    update: names.describe('Fields that could be changed'),
    delete: z.boolean(),
    share: z.boolean(),
    actions: z.record(z.string(), actionDescriptionSchema),
    fields: z.record(z.string(), fieldDescriptionSchema).describe('Every field that is named above'),
  })
  .meta({
    id: 'CollectionRights',
    description: 'What this caller could do with records of one collection, if these are such',
  });

export const rightsSchema = z.object({ collections: z.record(z.string(), collectionRightsSchema) }).meta({
  id: 'Rights',
  description:
    'What this caller could do, worked out from rules, roles and attributes, never from records: what is not named is ruled out. What they can do with one record, rights=true tells',
});

export type FieldDescription = z.infer<typeof fieldDescriptionSchema>;
export type CollectionRights = z.infer<typeof collectionRightsSchema>;
export type RightsDocument = z.infer<typeof rightsSchema>;
