import type { IncomingMessage, ServerResponse } from 'node:http';
import cors from 'cors';
import express, { Router, type Express, type RequestHandler } from 'express';
import helmet from 'helmet';
import type { JWK } from 'jose';
import type { Logger } from 'pino';
import { emptyRulebook } from '../core/ir/rulebook.ts';
import { arrive } from '../store/callers.ts';
import type { Database } from '../store/connection.ts';
import { fewAtOnce, fewGuesses } from './at-once.ts';
import { sharedOut } from './measure.ts';
import type { ServiceConfig } from './config.ts';
import { RULEBOOK, CallerFinder } from './identity/caller.ts';
import type { SigningKey } from './identity/development.ts';
import { StaffDoor, refuseOtherSites } from './identity/staff.ts';
import { TokenVerifier } from './identity/tokens.ts';
import { requestLog } from './log.ts';
import { problemHandler } from './problems/handler.ts';
import type { Metrics } from './metrics.ts';
import type { Post } from './post/post.ts';
import { Problem } from './problems/problem.ts';
import { aboutRoutes } from './routes/about.ts';
import { consoleRoutes } from './routes/console.ts';
import { SHARE_LIMITS } from '../store/shares/index.ts';
import { deskRoutes } from './routes/desk.ts';
import { acceptanceRoutes } from './routes/invitations.ts';
import { recordRoutes } from './routes/records.ts';
import { shareRoutes } from './routes/shares.ts';
import { sessionRoutes } from './routes/session.ts';
import { RulebookKeeper } from './rulebooks.ts';
import { scimRoutes } from './scim/routes.ts';
import { LoopbackDoor } from './sweep/door.ts';

export interface AppParts {
  readonly config: ServiceConfig;
  readonly database: Database;
  readonly logger: Logger;
  readonly developmentKey: JWK | null;
  /** Signs what the service asks itself, for verification. */
  readonly proofKey: SigningKey;
  readonly post: Post | null;
  /** Has the database been reached and brought up to date since the start? */
  readonly isReady: () => boolean;
  /** Notes each request; null where nobody asks for it. */
  readonly metrics: Metrics | null;
  /** Is nothing new to be begun, as the process is about to end? */
  readonly isStopping: () => boolean;
}

/** The whole HTTP interface, as an Express application. */
export function createApp({
  config,
  database,
  logger,
  developmentKey,
  proofKey,
  post,
  isReady,
  isStopping,
  metrics,
}: AppParts): Express {
  const tokens = new TokenVerifier(config.issuers, config.leeway, developmentKey, proofKey);
  const rulebooks = new RulebookKeeper(database, logger);
  const callers = new CallerFinder(database, tokens, rulebooks, logger);
  const staff = new StaffDoor(database, tokens);

  const inForce = async () =>
    rulebooks.inForce((await arrive(database, emptyRulebook, { kind: 'visitor' }))!.version);

  const app = express();
  app.disable('x-powered-by');
  app.set('trust proxy', [...config.proxies]);
  app.disable('etag');
  app.enable('case sensitive routing');
  app.use(requestLog(logger));
  if (metrics !== null) app.use(metrics.noting());
  app.use(letGo(isStopping));
  // Whether a domain and all below it are to be reached by TLS alone is for the proxy in front to say.
  app.use(guarding());
  app.use(refuseNul);
  if (config.origins.length > 0)
    app.use(
      ['/v1/records', '/v1/me', '/v1/rights', '/v1/invitations', '/v1/openapi.json'],
      fromPages(config.origins),
    );
  const perCaller = fewAtOnce(callers, { ...sharedOut(config.processes ?? 1), ...config.measure });
  // First, and one router for all of it: most requests are about records, and each place that is tried before takes its time.
  const records = Router({ caseSensitive: true, strict: true });
  records.use(refuseUntilReady(isReady), perCaller, fewGuesses(database));
  recordRoutes(records, database, callers);
  shareRoutes(records, database, callers, config.shares ?? SHARE_LIMITS);
  app.use('/v1/records', records);
  app.use('/v1/rights', refuseUntilReady(isReady), perCaller);
  app.use(aboutRoutes(database, callers, isReady));
  app.use('/v1', refuseUntilReady(isReady));
  app.use('/v1/invitations', acceptanceRoutes(database, callers));
  app.use('/scim/v2', refuseUntilReady(isReady), scimRoutes(database, staff, inForce));
  app.use('/v1/desk', refuseOtherSites);
  app.use(
    '/v1/desk',
    sessionRoutes(database, staff, developmentKey !== null),
    deskRoutes(database, callers, staff, rulebooks, { post, welcome: config.welcome }, config, () =>
      LoopbackDoor.open(app, proofKey),
    ),
  );
  if (config.consoleFolder !== null) {
    app.get('/', (_, response) => response.redirect('/console/'));
    app.use('/console', consoleRoutes(config.consoleFolder));
  }
  app.use(() => {
    throw new Problem('not-found');
  });
  app.use(problemHandler(logger));
  return app;
}

/**
 * What tells browsers to be careful, the same with every answer: worked out once, and set as it is. Whether a domain and all below it are to
 * be reached by TLS alone is for the proxy in front to say.
 */
function guarding(): RequestHandler {
  const headers: [string, string][] = [];
  const example = {
    setHeader: (name: string, value: string) => headers.push([name, value]),
    removeHeader: () => undefined,
  };
  const guard = helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        baseUri: ["'none'"],
        formAction: ["'none'"],
        frameAncestors: ["'none'"],
      },
    },
    strictTransportSecurity: false,
  });
  guard({} as IncomingMessage, example as unknown as ServerResponse, (error?: unknown) => {
    if (error !== undefined) throw error;
  });
  return (_, response, next) => {
    for (const [name, value] of headers) response.setHeader(name, value);
    next();
  };
}

/**
 * Web pages of other origins (Fetch, section 3.2): those of the settings may ask, with a token that they bring along themselves. No
 * cookie counts there, so none is let along. All others are answered as ever, without the words that a browser waits for.
 */
function fromPages(origins: readonly string[]): RequestHandler {
  const answer = cors({
    origin: [...origins],
    methods: ['GET', 'HEAD', 'POST', 'PATCH', 'DELETE'],
    allowedHeaders: [
      'Authorization', 'Content-Type', 'If-Match', 'If-None-Match', 'Firmgate-Rehearsal', 'X-Request-ID', 'traceparent',
    ],
    exposedHeaders: ['ETag', 'Link', 'Location', 'Retry-After', 'Firmgate-Rehearsal', RULEBOOK, 'X-Request-ID'],
    maxAge: 600,
  }); // prettier-ignore
  return (request, response, next) => {
    const isPreflight = request.headers['access-control-request-method'] !== undefined;
    // Any other OPTIONS asks what is offered here.
    if (request.method === 'OPTIONS' && !isPreflight) next();
    else answer(request, response, next);
  };
}

/** Whoever keeps a connection to a process that is about to end, is told to take another one (RFC 9112, section 9.6). */
function letGo(isStopping: () => boolean): RequestHandler {
  return (_, response, next) => {
    if (isStopping()) response.setHeader('Connection', 'close');
    next();
  };
}

/** U+0000 stands in no name and no value, as PostgreSQL holds it nowhere: so nothing that it could name is there. */
const refuseNul: RequestHandler = (request, _, next) => {
  const at = request.url.indexOf('%00');
  if (at < 0) {
    next();
    return;
  }
  const query = request.url.indexOf('?');
  if (query < 0 || at < query) throw new Problem('not-found');
  throw new Problem('malformed-request', {
    errors: [{ message: 'the address must not contain the character U+0000' }],
  });
};

/** Before the database has been brought up to date there is nothing that could be asked. */
function refuseUntilReady(isReady: () => boolean): RequestHandler {
  return (_, __, next) => {
    if (!isReady()) throw new Problem('unavailable', {}, { 'Retry-After': '1' });
    next();
  };
}
