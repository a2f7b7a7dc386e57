import { z } from 'zod';

/** A page holds 50 records unless asked otherwise, and never more than this. */
export const LARGEST_PAGE = 200;

/** Query parameters of a list. Strict: a mistyped `where` must not turn into a list without a filter. */
export const listQuerySchema = z.strictObject({
  where: z
    .string()
    .min(1)
    .max(4096)
    .optional()
    .describe('A condition of the rule language, such as: queen_year >= 2024 and notes is present'),
  order: z
    .string()
    .min(1)
    .max(400)
    .optional()
    .describe('Fields with commas between them, each may be followed by “desc”. Missing values come last.'),
  fields: z.string().min(1).max(2000).optional().describe('Only these fields, with commas between them'),
  include: z
    .string()
    .min(1)
    .max(400)
    .optional()
    .describe('References to bring along, with commas between them'),
  limit: z.coerce.number().int().min(1).max(LARGEST_PAGE).default(50),
  after: z.string().min(1).max(4096).optional().describe('The `next` of the page before'),
  count: z.enum(['true', 'false']).default('false').describe('Also say how many records there are in all'),
  rights: z
    .enum(['true', 'false'])
    .default('false')
    .describe('Also say of each record what this caller may do with it, and its tag for If-Match'),
});

/** Query parameters of a single record. */
export const recordQuerySchema = listQuerySchema.pick({ fields: true, include: true, rights: true }).strict();

const names = z.array(z.string()).readonly();

export const recordRightsSchema = z
  .object({
    update: names.describe('Fields that some request would change, or that may be sent as they are'),
    delete: z.boolean(),
    share: z.boolean(),
    actions: names.describe('Actions that some parameters would carry out'),
    undecided: z
      .object({ update: names, delete: z.boolean(), actions: names })
      .readonly()
      .optional()
      .describe(
        'What could be neither called possible nor ruled out; left out where there is nothing of the kind',
      ),
  })
  .readonly()
  .meta({ id: 'RecordRights', description: 'What this caller may do with one record' });

export const recordSchema = z
  .looseObject({
    id: z.uuid(),
    _withheld: names
      .optional()
      .describe('Fields that this caller does not see of this record; a missing value is null'),
    _included: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('Records that were asked for with include; null where there is none to see'),
    _rights: recordRightsSchema.optional().describe('Where rights=true asks for them'),
    _tag: z.string().optional().describe('Where rights are asked for: what If-Match takes, also from a list'),
  })
  .meta({ id: 'Record', description: 'A record as this caller sees it' });

export const listSchema = z
  .object({
    records: z.array(recordSchema),
    next: z.string().nullable().describe('For `after`; null on the last page'),
    count: z.int().optional(),
  })
  .meta({ id: 'RecordList' });

/** What a create or an update brings: values by field; null takes a value away (RFC 7396). */
export const suppliedSchema = z.record(z.string(), z.unknown()).meta({
  id: 'Supplied',
  description: 'Values by field, as the rulebook types them; null for a missing value',
});

/** The parameters of an action, by name. */
export const parametersSchema = z.record(z.string(), z.unknown()).meta({
  id: 'Parameters',
  description: 'The parameters of the action, as the rulebook types them; one that is left out is missing',
});

export const meSchema = z
  .object({
    kind: z.enum(['person', 'visitor']),
    id: z.uuid().nullable(),
    roles: z.array(z.string()).describe('Held, or brought along by one that is'),
    attributes: z.record(z.string(), z.unknown()).describe('What is known beside the fields of people'),
  })
  .meta({ id: 'Me', description: 'Who the service thinks is calling' });

export const healthSchema = z
  .object({
    status: z.enum(['ok', 'unavailable']),
    database: z.enum(['reachable', 'unreachable']),
    rulebook: z.int().nullable().describe('The published version in force; null before the first'),
  })
  .meta({ id: 'Health' });

export type RecordRights = z.infer<typeof recordRightsSchema>;
export type RecordDocument = z.infer<typeof recordSchema>;
export type RecordListDocument = z.infer<typeof listSchema>;
export type MeDocument = z.infer<typeof meSchema>;
export type HealthDocument = z.infer<typeof healthSchema>;
