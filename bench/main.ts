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
/** Records that are there to be deleted, before each measurement of that. */
const TO_DELETE = 20_000;

interface Figures {
  /** Requests a second. */
  readonly rate: number;
  /** Microseconds of processor time a request: of the server, and of the database. */
  readonly server: number;
  readonly database: number;
}

async function load(
  server: Server,
  requests: (path: string) => Request[] | Promise<Request[]>,
  connections = 8,
): Promise<Figures & { readonly p99: number; readonly most: number }> {
  const asked = await requests(server.path);
  const before = [timeOf(server.process.pid!), databaseTimes()] as const;
  const result = await autocannon({ url: server.url, connections, duration: seconds, requests: asked });
  const own = timeOf(server.process.pid!) - before[0];
  // Connections that have ended meanwhile are not counted; those of the measurement stay.
  const ofDatabase = [...databaseTimes()].reduce(
    (sum, [pid, time]) => sum + time - (before[1].get(pid) ?? 0),
    0,
  );
  if (result.non2xx > 0 || result.errors > 0)
    throw new Error(`${server.name}: ${JSON.stringify(result.statusCodeStats)}, ${result.errors} errors`);
  const { total } = result.requests;
  return {
    rate: total / result.duration,
    server: own / total,
    database: ofDatabase / total,
    p99: result.latency.p99,
    most: result.latency.max,
  };
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
async function toDelete(): Promise<{ readonly id: string; readonly keeper: number }[]> {
  await run(database, sql`delete from records.hives where code like 'SPARE-%'`);
  const spare = Array.from({ length: TO_DELETE }, (_, n) => ({ id: uuid(), keeper: n % KEEPERS }));
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

type Requests = (path: string) => Request[] | Promise<Request[]>;
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
    async (path) => {
      const spare = await toDelete();
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
    `Node ${process.version}, ${cpus().length} × ${cpus()[0]!.model}; ${rounds} rounds of ${seconds} s each, 8 connections, in turns\n`,
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
        requests: (await requests(gated.path)).slice(1),
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
    for (const server of asked) await load(server, requests);
    const found = new Map<Server, Figures[]>(asked.map((server) => [server, []]));
    for (let round = 0; round < rounds; round++) {
      // Whoever goes second finds the other's data in the cache, so they take turns at that too.
      for (const server of round % 2 === 0 ? asked : asked.toReversed())
        found.get(server)!.push(await load(server, requests));
    }
    const rateOf = (server: Server) => median(found.get(server)!.map(({ rate }) => rate));
    const cells = servers.map((server) => {
      const figures = found.get(server);
      if (figures === undefined) return '';
      const [own, of] = [
        median(figures.map((each) => each.server)),
        median(figures.map((each) => each.database)),
      ];
      return `${rateOf(server).toFixed(0)} (${own.toFixed(0)} / ${of.toFixed(0)})`;
    });
    const ratio = (to: Server) => (rateOf(gated) / rateOf(to)).toFixed(2);
    console.log(`| ${title} | ${cells.join(' | ')} | ${ratio(written)} | ${ratio(asking)} |`);
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
      const found: Figures[][] = [[], []];
      for (let round = 0; round <= rounds; round++)
        for (const which of round % 2 === 0 ? [0, 1] : [1, 0]) {
          from = which * MANY;
          const figures = await load(gated, requests);
          // The first of each finds nothing remembered.
          if (round > 0) found[which]!.push(figures);
        }
      const [one, ten] = found.map((figures) => ({
        rate: median(figures.map(({ rate }) => rate)),
        server: median(figures.map(({ server }) => server)),
        database: median(figures.map(({ database: of }) => of)),
      })) as [Figures, Figures];
      const cell = ({ rate, server, database: of }: Figures) =>
        `${rate.toFixed(0)} (${server.toFixed(0)} / ${of.toFixed(0)})`;
      console.log(`| ${title} | ${cell(one)} | ${cell(ten)} | ${(one.rate / ten.rate).toFixed(2)} |`);
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
      await load(gated, requests, connections);
      const { rate, p99, most } = await load(gated, requests, connections);
      console.log(`| ${title} | ${connections} | ${rate.toFixed(0)} | ${p99} | ${most} |`);
    }
}
