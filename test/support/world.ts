import { mkdtempSync, readFileSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { loadDemo } from '../../demo/data/load.ts';
import { DeskClient } from '../../src/client/desk.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Source } from '../../src/core/language/source.ts';
import { issuerConfig, type IssuerSettings } from '../../src/service/config.ts';
import {
  DESK_AUDIENCE,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../../src/service/identity/development.ts';
import type { PostConfig } from '../../src/service/post/post.ts';
import { startService, type RunningService } from '../../src/service/start.ts';
import { SHARE_LIMITS, type ShareLimits } from '../../src/store/shares/index.ts';
import { ownDatabase, type OwnDatabase } from './database.ts';

/** A running service with a database, a key and a folder of its own. */
export interface World extends OwnDatabase {
  readonly service: RunningService;
  readonly folder: string;
  readonly desk: DeskClient;
  /** What `desk` asks with. */
  readonly deskToken: string;
  token(identity: string): Promise<string>;
  /** A client as a test identity; null: the visitor. */
  as(identity: string | null): Promise<DeskClient>;
  /** Another process’s worth of service on the same database, with the same key; its own memory. */
  another(): Promise<RunningService>;
  /** A plain HTTP request, as curl would make it; `url`: to another service. */
  ask(method: string, path: string, options?: AskOptions): Promise<Answer>;
  close(): Promise<void>;
}

export interface AskOptions {
  readonly as?: string;
  readonly token?: string;
  readonly body?: unknown;
  readonly headers?: Record<string, string>;
  readonly url?: string;
}

export interface Answer {
  readonly status: number;
  readonly headers: Headers;
  readonly text: string;
  // Whatever the test expects of it.
  // oxlint-disable-next-line typescript/no-explicit-any
  readonly json: any;
}

export interface WorldOptions {
  readonly issuers?: readonly IssuerSettings[];
  /** Another way to the database, such as through a door that can be shut. */
  readonly databaseUrl?: (url: string) => string | Promise<string>;
  readonly consoleFolder?: string;
  readonly post?: PostConfig;
  readonly origins?: readonly string[];
  readonly shares?: Partial<ShareLimits>;
}

export const demoRulebook: readonly Source[] = readdirSync('demo/rulebook').map((name) => ({
  name,
  text: readFileSync(join('demo/rulebook', name), 'utf8'),
}));

/** As long as a file of tests may take on a slow machine. */
const TOKEN_SECONDS = 7_200;

/** Starts a world and publishes a rulebook in it. */
export async function openWorld(
  files: readonly Source[] | string,
  options: WorldOptions = {},
): Promise<World> {
  const own = await ownDatabase();
  const folder = mkdtempSync(join(tmpdir(), 'firmgate-test-'));
  const keyFile = join(folder, 'development-key.json');
  const databaseUrl = (await options.databaseUrl?.(own.url)) ?? own.url;
  const start = async () => {
    const started = await startService({
      databaseUrl,
      host: '127.0.0.1',
      proxies: [],
      origins: options.origins ?? [],
      shares: { ...SHARE_LIMITS, ...options.shares },
      // A machine that is slow makes everything dear, and tests ask much of it; and it may close a connection just as somebody asks again.
      measure: { creditMs: 3_600_000 },
      keepAliveMs: 120_000,
      port: 0,
      issuers: (options.issuers ?? []).map(issuerConfig),
      leeway: 5,
      developmentKey: keyFile,
      post: options.post ?? null,
      welcome: 'https://members.hollowoak.example/welcome',
      logLevel: 'silent',
      consoleFolder: options.consoleFolder ?? null,
    });
    await started.ready;
    return started;
  };
  const service = await start();
  const others: RunningService[] = [];
  const key = await developmentKey(keyFile);
  const token = (identity: string) => developmentToken(key, identity, RECORDS_AUDIENCE, TOKEN_SECONDS);
  const deskToken = await developmentToken(key, 'test', DESK_AUDIENCE, TOKEN_SECONDS);
  const desk = new DeskClient({ url: service.url, token: deskToken });
  const sources = typeof files === 'string' ? [{ name: 'test.gate', text: files }] : [...files];
  await desk.unlock('this test changes what is in force', 60);
  // Without files it is as it was installed.
  if (sources.length > 0) await desk.publish({ files: sources });

  return {
    ...own,
    service,
    folder,
    desk,
    deskToken,
    token,
    async as(identity) {
      return new DeskClient(
        identity === null ? { url: service.url } : { url: service.url, token: await token(identity) },
      );
    },
    async another() {
      const started = await start();
      others.push(started);
      return started;
    },
    async ask(method, path, { as, token: given, body, headers, url = service.url } = {}) {
      const bearer = given ?? (as === undefined ? undefined : await token(as));
      const response = await fetch(url + path, {
        method,
        redirect: 'manual',
        headers: {
          ...(bearer === undefined ? {} : { authorization: `Bearer ${bearer}` }),
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
          ...headers,
        },
        ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
      });
      const text = await response.text();
      const isJson = /json/.test(response.headers.get('content-type') ?? '');
      return {
        status: response.status,
        headers: response.headers,
        text,
        json: isJson && text !== '' ? JSON.parse(text) : undefined,
      };
    },
    async close() {
      for (const each of [service, ...others]) await each.stop();
      await own.drop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** A world with the demo’s rulebook and records. */
export async function openDemo(options: WorldOptions = {}): Promise<World> {
  const world = await openWorld(demoRulebook, options);
  const checked = checkRulebook(demoRulebook);
  if (!checked.ok) throw new Error('the demo rulebook has errors');
  await loadDemo(world.database, checked.rulebook);
  return world;
}
