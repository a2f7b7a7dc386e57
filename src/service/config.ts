import { readFileSync } from 'node:fs';
import { z } from 'zod';
import type { ShareLimits } from '../store/shares/index.ts';
import type { Measure } from './measure.ts';
import type { PostConfig } from './post/post.ts';

/** Wrong settings: the message says which and what to do. Nothing has been started. */
export class ConfigError extends Error {
  override readonly name = 'ConfigError';
}

const algorithm = z.enum([
  'RS256',
  'RS384',
  'RS512',
  'PS256',
  'PS384',
  'PS512',
  'ES256',
  'ES384',
  'ES512',
  'EdDSA',
  'Ed25519',
]);

/** One issuer whose tokens are accepted. Algorithms are per issuer (RFC 8725); only asymmetric ones. */
const issuerSchema = z.strictObject({
  issuer: z.string().min(1),
  audience: z.string().min(1),
  algorithms: z.array(algorithm).min(1),
  /** A JWK Set (RFC 7517): an https URL (http on loopback), or a file. */
  keys: z.string().min(1),
  /** The claim that names the person. */
  person: z.string().min(1).max(100).default('sub'),
  /** Whether somebody whom nobody knows yet is added to people, without a role, at their first token. */
  newcomers: z.enum(['refuse', 'admit']).default('refuse'),
  /** Whether a newcomer with a verified address that staff have entered is taken for that person. */
  byAddress: z.enum(['refuse', 'link']).default('refuse'),
  /** Seconds that a fetched key set is kept. */
  keep: z.number().min(1).max(86_400).default(600),
  /** Seconds between two fetches of it, at least. */
  pause: z.number().min(0.1).max(3_600).default(30),
});

const issuersSchema = z.strictObject({
  issuers: z.array(issuerSchema),
  /** Seconds that clocks may differ by. */
  leeway: z.int().min(0).max(300).default(30),
});

export type IssuerConfig = z.output<typeof issuerSchema>;
export type IssuerSettings = z.input<typeof issuerSchema>;

/** One issuer with everything that it does not say filled in. */
export function issuerConfig(settings: IssuerSettings): IssuerConfig {
  return issuerSchema.parse(settings);
}

export interface ServiceConfig {
  readonly databaseUrl: string;
  readonly host: string;
  /** Addresses or networks of proxies in front, whose word on who asks, and over what, is taken; empty: nobody’s. */
  readonly proxies: readonly string[];
  /** Web pages of these origins may ask of the records from a browser; empty: only those of the service’s own. */
  readonly origins: readonly string[];
  /** Nothing said: those that SHARE_LIMITS says. */
  readonly shares?: ShareLimits;
  /** What one caller may have; what is not said is as `MEASURE` has it. */
  readonly measure?: Partial<Measure>;
  /** How long a connection that asks nothing stays open, in milliseconds; nothing said: five seconds. */
  readonly keepAliveMs?: number;
  /** Days in which what was discarded can still be kept; nothing said: 30. */
  readonly discardedDays?: number;
  /**
   * Where the service says how it is doing: at a door of its own, or to the process that watches over this one and has that door; null or
   * nothing said: nowhere.
   */
  readonly metrics?: Address | 'passed on' | null;
  /** Processes that serve on the port, this one among them; nothing said: one. */
  readonly processes?: number;
  /** Does this one do what is to be done once for all of them? Nothing said: it does. */
  readonly keepsHouse?: boolean;
  /** 0: any free port. */
  readonly port: number;
  readonly issuers: readonly IssuerConfig[];
  readonly leeway: number;
  /** The file of the development signing key; null: tokens for test identities are refused. */
  readonly developmentKey: string | null;
  /** How letters go out; null: none do. */
  readonly post: PostConfig | null;
  /** The page of the application on which invited people arrive, without a fragment. */
  readonly welcome: string;
  readonly logLevel: 'silent' | 'error' | 'warn' | 'info' | 'debug';
  /** The folder of the built console; null: none is served. */
  readonly consoleFolder: string | null;
}

export interface Address {
  readonly host: string;
  /** 0: any free port. */
  readonly port: number;
}

/** Reads the file that lists the issuers. */
export function readIssuers(path: string): { issuers: readonly IssuerConfig[]; leeway: number } {
  let raw: unknown;
  try {
    raw = JSON.parse(readFileSync(path, 'utf8'));
  } catch (error) {
    throw new ConfigError(`the issuers file ${path} cannot be read: ${(error as Error).message}`);
  }
  const parsed = issuersSchema.safeParse(raw);
  if (!parsed.success) {
    throw new ConfigError(`the issuers file ${path} is not well formed:\n${z.prettifyError(parsed.error)}`);
  }
  const names = new Set<string>();
  for (const { issuer, keys } of parsed.data.issuers) {
    refusePlainKeys(keys);
    if (names.has(issuer)) throw new ConfigError(`the issuer ${issuer} stands in ${path} twice`);
    names.add(issuer);
  }
  return parsed.data;
}

/** Keys that came over plain http could be anybody's; on loopback they cannot be. */
function refusePlainKeys(keys: string): void {
  if (!/^https?:/.test(keys)) return;
  const { protocol, hostname } = new URL(keys);
  const loopback = hostname === 'localhost' || hostname === '[::1]' || hostname.startsWith('127.');
  if (protocol !== 'https:' && !loopback) throw new ConfigError(`keys must be fetched over https: ${keys}`);
}
