import { z } from 'zod';

const moment = z.iso.datetime({ offset: true });
const state = z.enum(['open', 'not sent', 'accepted', 'expired', 'revoked']);

export const invitationSchema = z
  .object({
    id: z.uuid(),
    email: z.string(),
    roles: z.array(z.string()),
    ends: z.string().nullable().describe('When the roles end'),
    state,
    created_by: z.string(),
    created_at: z.string(),
    expires_at: z.string(),
  })
  .meta({ id: 'Invitation' });

export const invitationsQuerySchema = z.strictObject({
  state: state.optional(),
  search: z.string().trim().min(1).max(200).optional(),
  limit: z.coerce.number().int().min(1).max(500).default(50),
  after: z.string().max(2000).optional(),
});
export const invitationsSchema = z
  .object({ invitations: z.array(invitationSchema), next: z.string().nullable() })
  .meta({ id: 'Invitations', description: 'The newest first' });

export const letterSchema = z
  .strictObject({ subject: z.string().trim().min(1).max(200), body: z.string().min(1).max(20_000) })
  .meta({ id: 'Letter', description: 'With {{link}}, {{email}}, {{roles}}, {{until}}, {{expires}}, {{by}}' });
export const letterPreviewSchema = z
  .object({ subject: z.string(), text: z.string() })
  .meta({ id: 'LetterPreview', description: 'The letter as somebody would get it; the link is no real one' });

export const inviteSchema = z
  .strictObject({
    list: z
      .string()
      .min(1)
      .max(2_000_000)
      .describe('Addresses, pasted or one a line, or CSV with a column “email”'),
    roles: z.array(z.string().min(1).max(100)).max(50).default([]),
    until: moment.optional().describe('When the roles end; left out: never'),
    days: z.int().min(1).max(90).default(14).describe('How long the link is good for'),
  })
  .meta({ id: 'Invite' });
export const inviteReportSchema = z
  .object({
    sent: z.int(),
    bad: z.array(z.object({ line: z.int(), text: z.string(), why: z.string() })),
  })
  .meta({ id: 'InviteReport', description: 'Letters that went out, and each line that none went out for' });

export const acceptanceRequestSchema = z
  .strictObject({ code: z.string().min(1).max(200).describe('The part of the link behind the #') })
  .meta({ id: 'AcceptanceRequest' });
export const acceptanceSchema = z
  .object({ person: z.uuid(), roles: z.array(z.string()) })
  .meta({ id: 'Acceptance' });

export type InvitationDocument = z.infer<typeof invitationSchema>;
export type InvitationsQuery = z.input<typeof invitationsQuerySchema>;
export type LetterDocument = z.infer<typeof letterSchema>;
export type InviteRequest = z.input<typeof inviteSchema>;
export type InviteReport = z.infer<typeof inviteReportSchema>;
