import { z } from 'zod';

/** With what the service was started. Nothing secret: no password, no key, and of addresses neither user nor query. */
export const settingsSchema = z
  .object({
    issuers: z.array(
      z.object({
        issuer: z.string(),
        audience: z.string(),
        algorithms: z.array(z.string()),
        keys: z.string().describe('Where its keys come from: a URL, or a file on the machine'),
        person: z.string().describe('The claim that names the person'),
        newcomers: z.enum(['refuse', 'admit']),
        byAddress: z.enum(['refuse', 'link']),
      }),
    ),
    leeway: z.int().describe('Seconds that clocks may differ by'),
    development: z.boolean().describe('Tokens for test identities are accepted: never in production'),
    letters: z
      .object({
        by: z.enum(['mail server', 'outbox']),
        to: z.string().describe('The host of the mail server, or the folder'),
        from: z.string(),
      })
      .nullable()
      .describe('How letters go out; null: none do'),
    welcome: z.string().describe('Where invited people arrive; empty: nowhere'),
    origins: z.array(z.string()).describe('Web pages that may ask of the records from a browser'),
    proxies: z.array(z.string()).describe('In front, whose word on who asks is taken'),
    shares: z.object({ byOne: z.int(), withOne: z.int(), sharers: z.int() }),
    discardedDays: z.int().describe('How long what was discarded can still be kept'),
    processes: z.int(),
  })
  .meta({ id: 'Settings' });

export type Settings = z.infer<typeof settingsSchema>;
