import { z } from 'zod';

export const ownerlessSchema = z
  .object({
    collection: z.string(),
    owned_by: z.array(z.string()).describe('The paths that lead to an owner'),
    total: z.int(),
    without: z.int().describe('Records that none of them leads to an owner for'),
    since: z.string().nullable().describe('When the oldest of these was made'),
    examples: z.array(z.string()).describe('By label'),
    accepted: z
      .string()
      .nullable()
      .describe('Why the rulebook accepts records without an owner; null: it does not'),
  })
  .meta({ id: 'Ownerless' });

export const ownerAssignmentSchema = z
  .strictObject({
    field: z
      .string()
      .min(1)
      .max(64)
      .optional()
      .describe('The field of people that is filled; left out where “owned by” names one alone'),
    to: z.string().min(1).max(320).optional().describe('A person, by id or by address'),
    by: z.string().min(1).max(500).optional().describe('A path from the record to a person'),
    list: z
      .string()
      .min(1)
      .optional()
      .describe('CSV (RFC 4180) with a line for each record: its label or id, and a person by address or id'),
    where: z
      .string()
      .min(1)
      .max(4_000)
      .optional()
      .describe('Only records for which this is true, asked with full sight'),
    look: z.boolean().default(false).describe('Tell what it would do, and save nothing'),
  })
  .refine(({ to, by, list }) => [to, by, list].filter((each) => each !== undefined).length === 1, {
    error: 'say whose they are to be: one of “to”, “by”, “list”',
  })
  .meta({ id: 'OwnerAssignment' });

export const assignedSchema = z
  .object({
    id: z.string().nullable().describe('By which it can be undone; null: nothing was saved'),
    records: z.int().describe('That have an owner by it'),
    missed: z.int().describe('For which no person was found'),
    owners: z
      .array(
        z.object({
          person: z.string(),
          records: z.int(),
          was: z.int().describe('Records of the collection that they read before'),
          is: z.int(),
        }),
      )
      .describe('The first fifty'),
  })
  .meta({ id: 'OwnersAssigned' });

export const undoneSchema = z.object({ records: z.int() }).meta({ id: 'OwnersUndone' });

export type OwnerAssignment = z.input<typeof ownerAssignmentSchema>;
