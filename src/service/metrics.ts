import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { RequestHandler } from 'express';
import { AggregatorRegistry, Counter, Gauge, Histogram, Registry, collectDefaultMetrics } from 'prom-client';
import { connectionsOf, type Database } from '../store/connection.ts';
import { tallies } from '../store/tallies.ts';

/** What a process says of itself: OpenMetrics 1.0. No label holds anything that a caller chose, nor the name of anything of theirs. */
export class Metrics {
  readonly registry = new Registry<'application/openmetrics-text; version=1.0.0; charset=utf-8'>();
  readonly #requests: Histogram<'route' | 'method' | 'outcome'>;

  constructor(database: Database) {
    this.registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
    const registers = [this.registry];
    collectDefaultMetrics({ register: this.registry });
    this.#requests = new Histogram({
      name: 'firmgate_request_seconds',
      help: 'Requests that were answered, by route and outcome, and how long they took',
      labelNames: ['route', 'method', 'outcome'],
      buckets: [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 10],
      registers,
    });
    const counter = <L extends string>(
      name: string,
      help: string,
      labels: readonly L[],
      read: (of: Counter<L>) => void,
    ) =>
      new Counter<L>({
        name,
        help,
        labelNames: [...labels],
        registers,
        collect() {
          this.reset();
          read(this as Counter<L>);
        },
      });
    counter('firmgate_batches', 'Trips to the database with several statements', [], (of) =>
      of.inc(tallies.batches),
    );
    counter(
      'firmgate_guesses',
      'Requests that were asked for as whom somebody was when last asked, by how that came out',
      ['outcome'],
      (of) => {
        for (const [outcome, count] of Object.entries(tallies.guesses)) of.inc({ outcome }, count);
      },
    );
    counter('firmgate_writes', 'Writes by one statement, and step by step', ['way'], (of) => {
      of.inc({ way: 'at once' }, tallies.writes.atOnce);
      of.inc({ way: 'by step' }, tallies.writes.byStep);
    });
    counter(
      'firmgate_planned',
      'Ways of finding records that the planner was asked for, by its choice',
      ['form'],
      (of) => {
        for (const [form, count] of tallies.planned) of.inc({ form }, count);
      },
    );
    new Gauge({
      name: 'firmgate_connections',
      help: 'Connections to the database, and requests that wait for one',
      labelNames: ['state'],
      registers,
      collect() {
        for (const [state, count] of Object.entries(connectionsOf(database))) this.set({ state }, count);
      },
    });
  }

  /** Notes each request when it ends: by the pattern of its route, never by its path. */
  noting(): RequestHandler {
    return (request, response, next) => {
      const begun = performance.now();
      response.once('close', () => {
        const route = (response.locals.route as string | undefined) ?? 'other';
        const outcome = response.writableFinished ? `${Math.floor(response.statusCode / 100)}xx` : 'aborted';
        const method = METHODS.has(request.method) ? request.method : 'other';
        this.#requests.observe({ route, method, outcome }, (performance.now() - begun) / 1_000);
      });
      next();
    };
  }
}

const METHODS: ReadonlySet<string> = new Set(['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS']);

/** What each of several processes has counted, put together. Rates are added up; of a lag the mean is told. */
export function metricsOfAll(each: readonly object[][]): Promise<string> {
  // Its second parameter is there, and missing in its types.
  const { aggregate } = AggregatorRegistry as unknown as {
    aggregate: (this: void, all: readonly object[][], type: string) => Registry;
  };
  return aggregate(each, Registry.OPENMETRICS_CONTENT_TYPE).metrics();
}

export function metricsUrl(server: Server): string {
  const { address, port } = server.address() as AddressInfo;
  return `http://${address.includes(':') ? `[${address}]` : address}:${port}/metrics`;
}

/** A door of its own for whoever watches over the service: it is not there for callers. Answers GET of `/metrics` alone. */
export function metricsServer(read: () => Promise<string>): Server {
  return createServer({ requestTimeout: 10_000, headersTimeout: 5_000 }, (request, response) => {
    if (request.url !== '/metrics' || (request.method !== 'GET' && request.method !== 'HEAD')) {
      if (request.url === '/metrics') response.writeHead(405, { Allow: 'GET, HEAD' }).end();
      else response.writeHead(404).end();
      return;
    }
    void read().then(
      (text) => {
        response.writeHead(200, {
          'Content-Type': Registry.OPENMETRICS_CONTENT_TYPE,
          'Cache-Control': 'no-store',
        });
        response.end(text);
      },
      () => response.writeHead(503).end(),
    );
  });
}
