import { readFileSync, readdirSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import autocannon, { type Request } from 'autocannon';
import { v7 as uuid } from 'uuid';
import { sql, value } from '../src/core/sql/fragment.ts';
import { run } from '../src/store/connection.ts';
import { start, startGated, type Server } from './serving.ts';
import { issuer, prepare } from './world.ts';

/**
 * npm run bench: the gated service against hand-written routes, in turns, on the same million hives. The ratio of requests per second is
 * the result; above 1 the gated one is faster. With --beside: how long everybody else waits beside one caller who asks the dearest
 * questions as fast as they can. With --connections=16,64: the gated one alone, with so many callers at once. With
 * --rules: the gated one alone, for callers of five roles with ten rules, against callers of one role.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const seconds = Number(flags.find((flag) => flag.startsWith('--seconds='))?.slice(10) ?? 4);
const rounds = Number(flags.find((flag) => flag.startsWith('--rounds='))?.slice(9) ?? 5);
const only = flags.find((flag) => flag.startsWith('--only='))?.slice(7);
const url = process.env.DATABASE_URL!;
const KEEPERS = 40;
/** Where those begin who hold five other roles instead, with --rules. */
const MANY = 100;
/** Records that are there to be deleted, for each second of that: more than go in it. */
const TO_DELETE = 6_000;

interface Figures {
  /** Requests a second. */
  readonly rate: number;
  /** Microseconds of processor time a request: of the server, and of the database. */
  readonly server: number;
  readonly database: number;
}

async function load(
  server: Server,
  requests: Requests,
  { connections = 8, duration = seconds } = {},
): Promise<Sums & { readonly p99: number; readonly most: number }> {
  const asked = await requests(server.path, duration);
  const before = [timeOf(server.process.pid!), databaseTimes()] as const;
  const result = await autocannon({ url: server.url, connections, duration, requests: asked });
  const own = timeOf(server.process.pid!) - before[0];
  // Connections that have ended meanwhile are not counted; those of the measurement stay.
  const ofDatabase = [...databaseTimes()].reduce(
    (sum, [pid, time]) => sum + time - (before[1].get(pid) ?? 0),
    0,
  );
  if (result.non2xx > 0 || result.errors > 0)
    throw new Error(`${server.name}: ${JSON.stringify(result.statusCodeStats)}, ${result.errors} errors`);
  const { p99, max: most } = result.latency;
  return {
    total: result.requests.total,
    seconds: result.duration,
    server: own,
    database: ofDatabase,
    p99,
    most,
  };
}

/** Requests that were answered, in how many seconds, and microseconds of processor time in all. */
interface Sums {
  readonly total: number;
  readonly seconds: number;
  readonly server: number;
  readonly database: number;
}

/**
 * One round: each is asked for a second, in turns, until each has been for as long as a round takes. What else the machine does meets all
 * of them alike. Whoever goes second finds the other's data in the cache, so they take turns at that too.
 */
async function inSlices<T>(all: readonly T[], ask: (each: T) => Promise<Sums>): Promise<Map<T, Figures>> {
  const found = new Map<T, Sums[]>(all.map((each) => [each, []]));
  for (let slice = 0; slice < seconds; slice++)
    for (const each of slice % 2 === 0 ? all : all.toReversed()) found.get(each)!.push(await ask(each));
  const sum = (of: readonly Sums[], name: keyof Sums) => of.reduce((before, each) => before + each[name], 0);
  return new Map(
    [...found].map(([each, of]) => {
      const total = sum(of, 'total');
      const [rate, server, database] = [
        total / sum(of, 'seconds'),
        sum(of, 'server') / total,
        sum(of, 'database') / total,
      ];
      return [each, { rate, server, database }];
    }),
  );
}

/** The medians of several rounds. */
function figured<T>(roundsOf: readonly Map<T, Figures>[], of: T): string {
  const figures = roundsOf.map((round) => round.get(of)!);
  const middle = (name: keyof Figures) => median(figures.map((each) => each[name])).toFixed(0);
  return `${middle('rate')} (${middle('server')} / ${middle('database')})`;
}

/** How many times as many requests one answers as another, in the same round: the median of several. */
function ratioOf<T>(roundsOf: readonly Map<T, Figures>[], one: T, other: T): string {
  return median(roundsOf.map((round) => round.get(one)!.rate / round.get(other)!.rate)).toFixed(2);
}

/** Microseconds that a process has run, as the system counts them: proc(5), in ticks of a hundredth of a second. */
function timeOf(pid: number): number {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
    return (Number(fields[11]) + Number(fields[12])) * 10_000;
  } catch {
    // It has ended.
    return 0;
  }
}

/** The same of each process of the database. */
function databaseTimes(): Map<string, number> {
  const command = (pid: string) => {
    try {
      return readFileSync(`/proc/${pid}/comm`, 'utf8').trim();
    } catch {
      return '';
    }
  };
  const all = readdirSync('/proc').filter((name) => /^\d+$/.test(name) && command(name) === 'postgres');
  return new Map(all.map((pid) => [pid, timeOf(Number(pid))]));
}

function median(values: readonly number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)]!;
}

const database = await prepare(url, root);
const { issuersFile, keysFile, token } = await issuer(process.env.FIRMGATE_STATE!);
const tokens = await Promise.all(Array.from({ length: MANY + KEEPERS }, (_, index) => token(index)));
const people = await run<{ id: string; email: string }>(
  database,
  sql`select id, email from records.people where email ~ '^keeper[.][0-9]{1,3}@'`,
);
const keeperOf = (index: number) =>
  people.find((each) => each.email === `keeper.${index}@hollowoak.example`)!.id;
const hives = await run<{ id: string; keeper: string }>(
  database,
  sql`select distinct on (h.keeper) h.id, h.keeper from records.hives as h
    where h.status = 'active' and h.keeper = any(${value(tokens.map((_, index) => keeperOf(index)))}::uuid[]) order by h.keeper, h.id`,
);
const hiveOf = (index: number) => hives.find((hive) => hive.keeper === keeperOf(index))!.id;
const headers = (index: number) => ({
  authorization: `Bearer ${tokens[index]}`,
  'content-type': 'application/json',
});
/** Whose requests are measured: forty, from this one on. */
let from = 0;
const each = (request: (index: number) => Omit<Request, 'headers'>): Request[] =>
  Array.from(
    { length: KEEPERS },
    (_, n) => ({ ...request(from + n), headers: headers(from + n) }) as Request,
  );

/** Hives of the keepers in turn, that nothing else is asked of. */
async function toDelete(duration: number): Promise<{ readonly id: string; readonly keeper: number }[]> {
  await run(database, sql`delete from records.hives where code like 'SPARE-%'`);
  const spare = Array.from({ length: TO_DELETE * duration }, (_, n) => ({ id: uuid(), keeper: n % KEEPERS }));
  const [ids, keepers] = [spare.map(({ id }) => id), spare.map(({ keeper }) => keeperOf(keeper))];
  await run(
    database,
    sql`insert into records.hives (id, code, keeper, visibility, status, created_at, updated_at)
      select id, 'SPARE-' || id, keeper, 'private', 'active', now(), now()
      from unnest(${value(ids)}::uuid[], ${value(keepers)}::uuid[]) as spare (id, keeper)`,
  );
  return spare;
}

let made = 0;

type Requests = (path: string, duration: number) => Request[] | Promise<Request[]>;
const all: [string, Requests][] = [
  ['a list of 50 own records', (path) => each(() => ({ method: 'GET', path }))],
  ['one own record by id', (path) => each((index) => ({ method: 'GET', path: `${path}/${hiveOf(index)}` }))],
  [
    'an update of one own record',
    (path) =>
      each((index) => ({
        method: 'PATCH',
        path: `${path}/${hiveOf(index)}`,
        body: JSON.stringify({ notes: 'seen', queen_year: 2025 }),
      })),
  ],
  [
    'a create of one record',
    async (path) => {
      await run(database, sql`delete from records.hives where code like 'MADE-%'`);
      const next = (request: Request): Request => {
        // What was under way when the last measurement ended may have come since.
        const code = `MADE-${++made}`;
        const body = JSON.stringify({ code, visibility: 'private', queen_year: 2025, notes: 'new' });
        return { ...request, headers: headers(made % KEEPERS), body };
      };
      return [{ method: 'POST', path, setupRequest: next } as Request];
    },
  ],
  [
    'a delete of one own record',
    async (path, duration) => {
      const spare = await toDelete(duration);
      const next = (request: Request): Request => {
        const { id, keeper } = spare.pop()!;
        return { ...request, path: `${path}/${id}`, headers: headers(keeper) };
      };
      return [{ method: 'DELETE', path, setupRequest: next } as Request];
    },
  ],
];
const questions = all.filter(([title]) => only === undefined || title.includes(only));

const gated = await startGated(root, url, issuersFile);
const byHand = (name: string, program: string, env: Record<string, string> = {}) =>
  start(name, '/hives', [join(root, `dist/bench/${program}.js`)], { KEYS: keysFile, ...env });
const written = await byHand('by hand', 'handwritten');
const asking = await byHand('by hand, and who calls', 'handwritten', { WHO: 'true' });
const floor = await byHand('floor', 'floor');
const servers = [gated, written, asking, floor];
try {
  console.log(
    `Node ${process.version}, ${cpus().length} × ${cpus()[0]!.model}; ${rounds} rounds of ${seconds} s each, in turns second by second, 8 connections\n`,
  );
  const crowds = flags.find((flag) => flag.startsWith('--connections='))?.slice(14);
  if (flags.includes('--beside')) await beside();
  else if (flags.includes('--rules')) await withRules();
  else if (crowds !== undefined) await crowded(crowds.split(',').map(Number));
  else await inTurns();
} finally {
  for (const server of servers) server.process.removeAllListeners('exit').kill();
  await run(database, sql`delete from records.hives where code like 'SPARE-%' or code like 'MADE-%'`);
  await database.destroy();
}

/** Everybody but the first, who is the hostile one. */
async function beside(): Promise<void> {
  const filters = Array.from({ length: 90 }, (_, n) => `notes contains "no such thing ${n}"`).join(' or ');
  const dear: Request = {
    method: 'GET',
    path: `/v1/records/hives?count=true&where=${encodeURIComponent(filters)}`,
    headers: headers(0),
  };
  console.log(
    '| question | alone: half within, ms | 99 of 100 | beside: half within, ms | 99 of 100 | ratio |',
  );
  console.log('|---|---|---|---|---|---|');
  for (const [title, requests] of questions.slice(0, 3)) {
    const ordinary = async () => {
      const { latency } = await autocannon({
        url: gated.url,
        connections: 4,
        duration: seconds,
        requests: (await requests(gated.path, seconds)).slice(1),
      });
      return latency;
    };
    await ordinary();
    const alone = await ordinary();
    const hostile = autocannon({ url: gated.url, connections: 120, duration: 600, requests: [dear] });
    await new Promise((resolve) => setTimeout(resolve, 30_000));
    const other = await ordinary();
    (hostile as unknown as { stop(): void }).stop();
    await hostile;
    const figures = [alone.p50, alone.p99, other.p50, other.p99, (other.p99 / alone.p99).toFixed(1)];
    console.log(`| ${title} | ${figures.join(' | ')} |`);
  }
}

async function inTurns(): Promise<void> {
  const names = servers.map(({ name }) => name);
  console.log(
    `| question | ${names.map((name) => `${name}, requests/s (server µs / database µs)`).join(' | ')} | ratio to by hand | to who calls |`,
  );
  console.log(`|---|${'---|'.repeat(names.length + 2)}`);
  for (const [title, requests] of questions) {
    const asked = servers.filter((server) => server !== floor || isRead(title));
    const ask = (server: Server) => load(server, requests, { duration: 1 });
    for (const server of asked) await ask(server);
    const found: Map<Server, Figures>[] = [];
    while (found.length < rounds) found.push(await inSlices(asked, ask));
    const cells = servers.map((server) => (asked.includes(server) ? figured(found, server) : ''));
    const ratios = [written, asking].map((other) => ratioOf(found, gated, other));
    console.log(`| ${[title, ...cells, ...ratios].join(' | ')} |`);
  }
}

/** What the floor answers. */
function isRead(title: string): boolean {
  return title === all[0]![0] || title === all[1]![0];
}

/** Ten rules and five roles, against one rule and one role. */
async function withRules(): Promise<void> {
  const many = Array.from({ length: KEEPERS }, (_, n) => keeperOf(MANY + n));
  const theirs = sql`person = any(${value(many)}::uuid[])`;
  await run(database, sql`delete from gate.role_assignments where ${theirs}`);
  await run(
    database,
    sql`insert into gate.role_assignments (person, role) select person, 'many_' || n from unnest(${value(many)}::uuid[]) as person, generate_series(1, 5) as n`,
  );
  try {
    console.log('| question | one rule, requests/s (server µs / database µs) | ten rules | times as long |');
    console.log('|---|---|---|---|');
    for (const [title, requests] of all.slice(0, 3)) {
      const ask = (which: 0 | 1) => {
        from = which * MANY;
        return load(gated, requests, { duration: 1 });
      };
      // The first of each finds nothing remembered.
      await inSlices([0, 1] as const, ask);
      const found: Map<0 | 1, Figures>[] = [];
      while (found.length < rounds) found.push(await inSlices([0, 1] as const, ask));
      console.log(`| ${[title, figured(found, 0), figured(found, 1), ratioOf(found, 0, 1)].join(' | ')} |`);
    }
  } finally {
    await run(database, sql`delete from gate.role_assignments where ${theirs}`);
    await run(
      database,
      sql`insert into gate.role_assignments (person, role) select person, 'keeper' from unnest(${value(many)}::uuid[]) as person`,
    );
  }
}

/** The gated one alone: does it stall where many ask at once? */
async function crowded(crowds: readonly number[]): Promise<void> {
  console.log('| question | connections | requests/s | 99 of 100 within, ms | longest, ms |');
  console.log('|---|---|---|---|---|');
  for (const [title, requests] of questions)
    for (const connections of [8, ...crowds]) {
      await load(gated, requests, { connections });
      const { total, seconds: took, p99, most } = await load(gated, requests, { connections });
      console.log(`| ${title} | ${connections} | ${(total / took).toFixed(0)} | ${p99} | ${most} |`);
    }
}
