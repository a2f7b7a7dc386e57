import type { AddressInfo } from 'node:net';
import type { Server } from 'node:http';
import { Server as NetServer } from 'node:net';
import { pino, type Logger } from 'pino';
import { connect, type Database } from '../store/connection.ts';
import { migrate } from '../store/migrations/index.ts';
import { DISCARDED_DAYS, dropDiscarded, resume } from '../store/publish/index.ts';
import { firstManagerLink } from '../store/staff/index.ts';
import { UnfitSessions, assureSessions } from '../store/sessions.ts';
import { classify } from '../store/failures.ts';
import { createApp } from './app.ts';
import { ConfigError, type Address, type ServiceConfig } from './config.ts';
import { Metrics, metricsServer, metricsUrl } from './metrics.ts';
import { developmentKey, proofKey } from './identity/development.ts';
import { openPost } from './post/post.ts';
import { serverFor } from './server.ts';
import { joinPath } from './routes/staff.ts';

export interface RunningService {
  /** Such as `http://127.0.0.1:7430`. */
  readonly url: string;
  /** Where the metrics are, such as `http://127.0.0.1:7431/metrics`; null where they are nowhere. */
  readonly metricsUrl: string | null;
  /** The same as data, for whoever puts those of several processes together; none where nothing is counted. */
  metrics(): Promise<object[]>;
  readonly logger: Logger;
  /** Resolves once the database has been reached and brought up to date. */
  readonly ready: Promise<void>;
  /**
   * Where the first manager chooses a password, once, within a day; made anew each time, for as long as there is no
   * staff. Null once there is. To be asked for when it is ready.
   */
  firstManagerLink(): Promise<string | null>;
  /**
   * Finishes the requests under way, at most for a few seconds, and lets go of the database. `gently`: another process takes what is new,
   * so nobody is cut off who has a connection and asks nothing: they are told with their next answer to take another one, or have asked
   * nothing for so long that the connection would have been closed.
   */
  stop(how?: { readonly gently?: boolean }): Promise<void>;
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
  const { metrics: door = null } = config;
  const metrics = door === null ? null : new Metrics(database);
  const app = createApp({
    metrics,
    post,
    config,
    database,
    logger,
    developmentKey: key,
    proofKey: await proofKey(),
    isReady: () => state.ready,
    isStopping: () => state.stopped,
  });
  // Slow senders are cut off before they can hold every connection: looked at each second, or it would be half a minute later.
  const server = serverFor(app, {
    headersTimeout: 10_000,
    requestTimeout: 30_000,
    connectionsCheckingInterval: 1_000,
    keepAliveTimeout: config.keepAliveMs ?? 5_000,
  });
  await listen(server, config);
  const watched = await openMetrics(metrics, door);
  const ready = prepare(database, logger, state);
  const dropping =
    config.keepsHouse === false
      ? null
      : dropRegularly(database, logger, config.discardedDays ?? DISCARDED_DAYS, ready);
  // Whoever waits for it is told; nobody waiting must not end the process.
  ready.catch(() => undefined);
  const { port } = server.address() as AddressInfo;
  const host = config.host.includes(':') ? `[${config.host}]` : config.host;
  return {
    url: `http://${host}:${port}`,
    metricsUrl: watched === null ? null : metricsUrl(watched),
    async metrics() {
      return (await metrics?.registry.getMetricsAsJSON()) ?? [];
    },
    logger,
    ready,
    async firstManagerLink() {
      const link = await firstManagerLink(database);
      return link === null ? null : `http://${host}:${port}${joinPath(link.secret)}`;
    },
    async stop({ gently = false } = {}) {
      state.stopped = true;
      dropping?.stop();
      watched?.close();
      const closed = new Promise<void>((resolve) => {
        // The way of plain servers: that of HTTP would close connections that ask nothing at once.
        if (gently) NetServer.prototype.close.call(server, () => resolve());
        else server.close(() => resolve());
      });
      const grace = gently ? server.keepAliveTimeout + 1_000 : 0;
      const idle = setTimeout(() => server.closeIdleConnections(), grace);
      const force = setTimeout(() => server.closeAllConnections(), grace + 5_000);
      await closed;
      clearTimeout(idle);
      clearTimeout(force);
      await ready.catch(() => undefined);
      post?.close();
      await database.destroy();
    },
  };
}

async function openMetrics(
  metrics: Metrics | null,
  door: Address | 'passed on' | null,
): Promise<Server | null> {
  if (metrics === null || door === null || door === 'passed on') return null;
  const server = metricsServer(() => metrics.registry.metrics());
  await listen(server, door, '--metrics');
  return server;
}

/** Opens a door; a port in use, or an address that is not this machine’s, is a `ConfigError`. */
export function listen(
  server: Server,
  config: Address,
  option = '--port, or PORT for the demo',
): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) => {
      if (error.code === 'EADDRINUSE') {
        reject(
          new ConfigError(
            `port ${config.port} on ${config.host} is in use: stop what listens there, or choose another with ${option}`,
          ),
        );
      } else if (error.code === 'EACCES') {
        reject(
          new ConfigError(
            `port ${config.port} may not be opened by this user: choose one above 1023 with --port`,
          ),
        );
      } else if (error.code === 'EADDRNOTAVAIL' || error.code === 'ENOTFOUND') {
        reject(
          new ConfigError(
            `${config.host} is no address of this machine: choose another with ${option.startsWith('--port') ? '--host' : option}`,
          ),
        );
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
      await assureSessions(database);
      await migrate(database);
      await resume(database);
      state.ready = true;
      if (told) logger.info('the database is there');
      return;
    } catch (error) {
      if (error instanceof UnfitSessions) {
        logger.fatal(error.message);
        throw new ConfigError(error.message);
      }
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
