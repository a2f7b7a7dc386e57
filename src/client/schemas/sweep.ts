import { z } from 'zod';
import { rulebookFilesSchema } from './files.ts';

const names = z.array(z.string().min(1).max(100)).min(1).max(1000);

export const sweepRequestSchema = z
  .strictObject({
    files: rulebookFilesSchema.shape.files
      .optional()
      .describe('A draft; left out: the published rulebook. Of a draft the service itself cannot be asked'),
    as: names.optional().describe('These test identities alone, and “visitor”'),
    collections: names.optional().describe('These collections alone'),
    everyRecord: z
      .int()
      .min(0)
      .max(100_000)
      .optional()
      .describe('Collections of at most so many records are compared record by record (1000)'),
    perKind: z
      .int()
      .min(0)
      .max(100)
      .optional()
      .describe('Of records that are alike for an identity, so many are asked about over HTTP (1); 0: none'),
  })
  .meta({ id: 'SweepRequest' });

const countsSchema = z.record(z.string(), z.int());

export const sweepSchema = z
  .object({
    passed: z.boolean().describe('Nothing found, no two answers that differ, and nothing left out'),
    identities: z.array(z.string()),
    signedOut: z.array(z.string()).describe('Deactivated: nobody reaches anything as them'),
    collections: z.array(
      z.object({
        name: z.string(),
        records: z.int(),
        ownerless: z.int().describe('Records without an owner'),
      }),
    ),
    reach: z
      .array(
        z.object({
          collection: z.string(),
          caller: z.string(),
          owner: z.string().nullable().describe('“*”: somebody who is no test identity; null: nobody'),
          relation: z.enum(['own', 'same group', 'another’s', 'nobody’s']),
          total: z.int().describe('Records of this owner'),
          records: countsSchema.describe('Operation → records'),
          fields: z.object({ read: countsSchema, update: countsSchema }),
          undecided: countsSchema.describe(
            '`update FIELD`, `delete`, an action, or `goes along: …` → records for which it was not decided',
          ),
          follows: countsSchema.describe(
            '`delete`, or `update FIELD` → records to which that happens when the caller deletes others',
          ),
          through: z.record(z.string(), z.array(z.string())).describe('Operation → rules'),
        }),
      )
      .describe('The map of caller against owner: only where something is reached'),
    creates: z
      .array(
        z.object({
          identity: z.string(),
          collection: z.string(),
          kind: z.string().describe('As a record that is there, with one field more, in another’s name, …'),
          field: z.string(),
          allowed: z.boolean(),
        }),
      )
      .describe('Ways of creating a record that were thought through'),
    declared: z
      .array(
        z.object({
          what: z.string().describe('Such as “rule hives/3”, “field hives.keeper”, “role office”'),
          file: z.string(),
          line: z.int(),
          collection: z.string().nullable(),
          name: z.string().nullable(),
          text: z.string(),
        }),
      )
      .optional()
      .describe('What the rulebook says, by which a later map tells where a number comes from'),
    findings: z.array(
      z.object({
        kind: z.enum([
          'changes another’s',
          'shares another’s',
          'takes another’s along',
          'hands over',
          'makes another’s',
          'sees another’s sensitive',
          'open to visitors',
          'without owner',
        ]),
        collection: z.string(),
        operation: z.string(),
        fields: z.array(z.string()),
        callers: z.array(z.string()),
        records: z.int(),
        through: z.array(z.string()),
        places: z
          .array(z.string())
          .describe('The sentences and declarations that let it happen, by file and line'),
        text: z.string(),
        accept: z.string().describe('What to write into the rulebook where it is meant to be so'),
      }),
    ),
    differences: z
      .array(
        z.object({
          between: z.enum(['closures and database', 'closures and counts', 'closures and service']),
          identity: z.string(),
          collection: z.string(),
          record: z.string(),
          operation: z.string(),
          field: z.string().nullable(),
          text: z.string(),
        }),
      )
      .describe('Answers that differ: a defect of the service, never of the rulebook'),
    left: z.array(z.string()).describe('What was not covered, and why'),
    covered: z.object({
      cells: z.int().describe('Answers of closures and database that were compared'),
      requests: z.int().describe('Requests that the service itself was asked'),
      asked: z.int().describe('Pairs of identity and record that it was asked about'),
      possible: z.int().describe('Of so many'),
    }),
    milliseconds: z.int(),
  })
  .meta({ id: 'Sweep' });

export type SweepRequest = z.infer<typeof sweepRequestSchema>;
export type SweepDocument = z.infer<typeof sweepSchema>;
