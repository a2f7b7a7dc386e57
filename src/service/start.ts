import type { AddressInfo } from 'node:net';
import type { Server } from 'node:http';
import { pino, type Logger } from 'pino';
import { connect, type Database } from '../store/connection.ts';
import { migrate } from '../store/migrations/index.ts';
import { DISCARDED_DAYS, dropDiscarded, resume } from '../store/publish/index.ts';
import { firstManagerLink } from '../store/staff/index.ts';
import { classify } from '../store/failures.ts';
import { createApp } from './app.ts';
import { ConfigError, type ServiceConfig } from './config.ts';
import { developmentKey, proofKey } from './identity/development.ts';
import { openPost } from './post/post.ts';
import { serverFor } from './server.ts';
import { joinPath } from './routes/staff.ts';

export interface RunningService {
  /** Such as `http://127.0.0.1:7430`. */
  readonly url: string;
  readonly logger: Logger;
  /** Resolves once the database has been reached and brought up to date. */
  readonly ready: Promise<void>;
  /**
   * Where the first manager chooses a password, once, within a day; made anew each time, for as long as there is no
   * staff. Null once there is. To be asked for when it is ready.
   */
  firstManagerLink(): Promise<string | null>;
  /** Finishes the requests under way, at most for a few seconds, and lets go of the database. */
  stop(): Promise<void>;
}

/** How long the database is left alone between two tries at the start. */
const RETRY_MILLISECONDS = 1_000;

/**
 * Starts the service. A database that cannot be reached yet is waited for, with 503 meanwhile; a port in use or a
 * wrong setting is a `ConfigError`.
 */
export async function startService(config: ServiceConfig): Promise<RunningService> {
  const logger = pino({ level: config.logLevel });
  const key = config.developmentKey === null ? null : await developmentKey(config.developmentKey);
  if (key !== null)
    logger.warn(
      'the development issuer is on: whoever has its key can call as any test identity, and as staff',
    );
  const database = connect({ url: config.databaseUrl });
  const state = { ready: false, stopped: false };
  const post = config.post === null ? null : openPost(config.post);
  const app = createApp({
    post,
    config,
    database,
    logger,
    developmentKey: key,
    proofKey: await proofKey(),
    isReady: () => state.ready,
  });
  // Slow senders are cut off before they can hold every connection: looked at each second, or it would be half a minute later.
  const server = serverFor(app, {
    headersTimeout: 10_000,
    requestTimeout: 30_000,
    connectionsCheckingInterval: 1_000,
  });
  await listen(server, config);
  const ready = prepare(database, logger, state);
  const dropping = dropRegularly(database, logger, config.discardedDays ?? DISCARDED_DAYS, ready);
  // Whoever waits for it is told; nobody waiting must not end the process.
  ready.catch(() => undefined);
  const { port } = server.address() as AddressInfo;
  const host = config.host.includes(':') ? `[${config.host}]` : config.host;
  return {
    url: `http://${host}:${port}`,
    logger,
    ready,
    async firstManagerLink() {
      const link = await firstManagerLink(database);
      return link === null ? null : `http://${host}:${port}${joinPath(link.secret)}`;
    },
    async stop() {
      state.stopped = true;
      dropping.stop();
      server.closeIdleConnections();
      const closed = new Promise<void>((resolve) => server.close(() => resolve()));
      const force = setTimeout(() => server.closeAllConnections(), 5_000);
      await closed;
      clearTimeout(force);
      await ready.catch(() => undefined);
      post?.close();
      await database.destroy();
    },
  };
}

function listen(server: Server, config: ServiceConfig): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) => {
      if (error.code === 'EADDRINUSE') {
        reject(
          new ConfigError(
            `port ${config.port} on ${config.host} is in use: stop what listens there, or choose another (serve --port, PORT for the demo)`,
          ),
        );
      } else if (error.code === 'EACCES') {
        reject(
          new ConfigError(
            `port ${config.port} may not be opened by this user: choose one above 1023 with --port`,
          ),
        );
      } else if (error.code === 'EADDRNOTAVAIL' || error.code === 'ENOTFOUND') {
        reject(new ConfigError(`${config.host} is no address of this machine: choose another with --host`));
      } else reject(error);
    });
    server.listen(config.port, config.host, resolve);
  });
}

/** What was discarded is looked for once an hour. */
const DROP_EVERY_MS = 3_600_000;

function dropRegularly(database: Database, logger: Logger, days: number, ready: Promise<void>) {
  const drop = async () => {
    try {
      await ready;
      const names = await dropDiscarded(database, days);
      if (names.length > 0) logger.info({ names }, 'what was discarded is dropped');
    } catch (error) {
      // Nothing is lost by doing it an hour later.
      logger.warn({ kind: (error as Error).name }, 'what was discarded could not be dropped');
    }
  };
  const timer = setInterval(drop, DROP_EVERY_MS);
  timer.unref();
  return { stop: () => clearInterval(timer) };
}

async function prepare(
  database: Database,
  logger: Logger,
  state: { ready: boolean; stopped: boolean },
): Promise<void> {
  let told = false;
  while (!state.stopped) {
    try {
      await migrate(database);
      await resume(database);
      state.ready = true;
      if (told) logger.info('the database is there');
      return;
    } catch (error) {
      if (classify(error).kind !== 'unavailable') {
        logger.fatal(
          { code: (error as NodeJS.ErrnoException).code },
          'the database cannot be brought up to date',
        );
        throw new ConfigError(
          'the database cannot be brought up to date: its role must be able to create schemas there, and the service must not be older than the database',
        );
      }
      if (!told)
        logger.warn(
          'the database cannot be reached; trying again every second. Is it running, and is DATABASE_URL right?',
        );
      told = true;
      await new Promise((resolve) => setTimeout(resolve, RETRY_MILLISECONDS));
    }
  }
}
