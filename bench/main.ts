import { spawn, type ChildProcess } from 'node:child_process';
import { cpus } from 'node:os';
import { join } from 'node:path';
import autocannon, { type Request } from 'autocannon';
import { sql, value } from '../src/core/sql/fragment.ts';
import { run } from '../src/store/connection.ts';
import { issuer, prepare } from './world.ts';

/**
 * npm run bench: the gated service against the ordinary hand-written route, in turns, on the same million hives.
 * The ratio of requests per second is the result; above 1 the gated one is faster. With --beside: how long everybody else waits
 * beside one caller who asks the dearest questions as fast as they can.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const seconds = Number(flags.find((flag) => flag.startsWith('--seconds='))?.slice(10) ?? 4);
const rounds = Number(flags.find((flag) => flag.startsWith('--rounds='))?.slice(9) ?? 5);
const url = process.env.DATABASE_URL!;
const KEEPERS = 40;

interface Server {
  readonly name: string;
  readonly url: string;
  readonly process: ChildProcess;
  /** Where the collection is found. */
  readonly path: string;
}

async function start(
  name: string,
  path: string,
  args: readonly string[],
  env: Record<string, string>,
): Promise<Server> {
  const child = spawn(process.execPath, args, {
    env: { ...process.env, NODE_ENV: 'production', ...env },
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  const found = await new Promise<string>((resolve, reject) => {
    let said = '';
    const listen = (piece: Buffer) => {
      said += piece.toString();
      const match = /listens on (http:\/\/[\d.:]+)/.exec(said);
      if (match !== null) resolve(match[1]!);
    };
    child.stdout.on('data', listen);
    child.stderr.on('data', listen);
    child.once('exit', () => reject(new Error(`${name} did not start: ${said}`)));
  });
  return { name, url: found, process: child, path };
}

async function load(server: Server, requests: (path: string) => Request[]): Promise<number> {
  const result = await autocannon({
    url: server.url,
    connections: 8,
    duration: seconds,
    requests: requests(server.path),
  });
  if (result.non2xx > 0 || result.errors > 0)
    throw new Error(`${server.name}: ${result.non2xx} answers were not 2xx, ${result.errors} errors`);
  return result.requests.total / result.duration;
}

function median(values: readonly number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)]!;
}

const database = await prepare(url, root);
const { issuersFile, keysFile, token } = await issuer(process.env.FIRMGATE_STATE!);
const tokens = await Promise.all(Array.from({ length: KEEPERS }, (_, index) => token(index)));
const hives = await run<{ id: string; keeper: string }>(
  database,
  sql`select distinct on (h.keeper) h.id, h.keeper from records.hives as h join records.people as p on p.id = h.keeper
    where h.status = 'active' and p.email = any(${value(tokens.map((_, index) => `keeper.${index}@hollowoak.example`))}::text[]) order by h.keeper, h.id`,
);
const people = await run<{ id: string; email: string }>(
  database,
  sql`select id, email from records.people where email like 'keeper._@%' or email like 'keeper.__@%'`,
);
const hiveOf = (index: number) =>
  hives.find(
    (hive) => hive.keeper === people.find((each) => each.email === `keeper.${index}@hollowoak.example`)!.id,
  )!.id;
const headers = (index: number) => ({
  authorization: `Bearer ${tokens[index]}`,
  'content-type': 'application/json',
});
const each = (request: (index: number) => Omit<Request, 'headers'>): Request[] =>
  tokens.map((_, index) => ({ ...request(index), headers: headers(index) }) as Request);

const questions: [string, (path: string) => Request[]][] = [
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
];

const gated = await start(
  'gated',
  '/v1/records/hives',
  [
    join(root, 'dist/src/cli/main.js'),
    'serve',
    '--port',
    '0',
    '--log',
    'error',
    '--issuers',
    issuersFile,
    '--database',
    url,
  ],
  {},
);
const written = await start('hand-written', '/hives', [join(root, 'dist/bench/handwritten.js')], {
  KEYS: keysFile,
});
try {
  console.log(
    `Node ${process.version}, ${cpus().length} × ${cpus()[0]!.model}; ${rounds} rounds of ${seconds} s each, 8 connections, in turns\n`,
  );
  if (flags.includes('--beside')) await beside();
  else await inTurns();
} finally {
  for (const server of [gated, written]) server.process.removeAllListeners('exit').kill();
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
  for (const [title, requests] of questions) {
    const ordinary = async () => {
      const { latency } = await autocannon({
        url: gated.url,
        connections: 4,
        duration: seconds,
        requests: requests(gated.path).slice(1),
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
  console.log('| question | gated, requests/s | hand-written, requests/s | ratio |\n|---|---|---|---|');
  for (const [title, requests] of questions) {
    for (const server of [gated, written]) await load(server, requests);
    const rates: Record<string, number[]> = { gated: [], 'hand-written': [] };
    for (let round = 0; round < rounds; round++) {
      // Whoever goes second finds the other's data in the cache, so they take turns at that too.
      for (const server of round % 2 === 0 ? [gated, written] : [written, gated])
        rates[server.name]!.push(await load(server, requests));
    }
    const [ours, theirs] = [median(rates.gated!), median(rates['hand-written']!)];
    console.log(`| ${title} | ${ours.toFixed(0)} | ${theirs.toFixed(0)} | ${(ours / theirs).toFixed(2)} |`);
  }
}
