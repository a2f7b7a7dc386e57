import { z } from 'zod';

export const reachQuerySchema = z.strictObject({
  as: z.string().min(1).max(100).optional().describe('A test identity, or “visitor”'),
  role: z.string().min(1).max(100).optional().describe('Somebody who holds this role alone'),
});

export const reachersQuerySchema = z.strictObject({
  people: z.enum(['true', 'false']).optional().describe('Also people beside the test identities'),
  field: z.string().min(1).max(100).optional().describe('Who sees or may change this field of it'),
});

const throughSchema = z.object({ rule: z.string(), audience: z.string() });
const countsSchema = z.record(z.string(), z.int());

export const reachSchema = z
  .object({
    roles: z.array(z.string()),
    collections: z.array(z.object({ name: z.string(), total: z.int() })),
    reach: z.array(
      z.object({
        collection: z.string(),
        operation: z.string(),
        records: z.int(),
        fields: countsSchema.describe('Of read and update: records with each field'),
        through: z.array(throughSchema.extend({ records: z.int() })),
      }),
    ),
    adds: z
      .array(
        z.object({
          role: z.string(),
          collection: z.string(),
          operation: z.string(),
          records: z.int(),
          fields: countsSchema,
        }),
      )
      .describe('Of somebody with several roles: what each adds that the others do not'),
    givesBack: z
      .array(
        z.object({
          collection: z.string(),
          field: z.string(),
          withheldBy: throughSchema,
          givenBy: throughSchema,
          records: z.int(),
        }),
      )
      .describe('Fields that one rule leaves out and another shows, both true for the same record'),
    undecided: z.array(z.string()).describe('What could not be decided'),
  })
  .meta({ id: 'Reach', description: 'Everything that somebody can do, and through what' });

export const reachersSchema = z
  .object({
    reachers: z.array(
      z.object({
        name: z.string(),
        shown: z.array(z.string()),
        updatable: z.array(z.string()),
        operations: z.array(z.string()),
        undecided: z
          .array(z.string())
          .describe('`update FIELD`, `delete`, actions, and `goes along: …`, that could not be decided'),
        through: z.record(z.string(), z.array(throughSchema)),
      }),
    ),
    asked: z.int().describe('Whoever was looked at'),
    left: z.int().describe('People who were not, as there are too many'),
  })
  .meta({ id: 'Reachers', description: 'Who reaches one record, and through what' });

export type ReachQuery = z.infer<typeof reachQuerySchema>;
export type ReachDocument = z.infer<typeof reachSchema>;
export type ReachersDocument = z.infer<typeof reachersSchema>;
