import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { checkRulebook } from '../src/core/check/index.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { sql, value } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run } from '../src/store/connection.ts';
import { publish } from '../src/store/publish/index.ts';
import { issuer, prepare } from './world.ts';

/**
 * npm run bench -- --publishing: how long users wait while a publication on a million hives adds a collection, two fields, an index, an
 * owner that is filled in, a type and a reference; beside the same updates while nothing is published. Works on a copy of the large set.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const rounds = Number(flags.find((flag) => flag.startsWith('--rounds='))?.slice(9) ?? 3);
const CLIENTS = 4;
const url = process.env.DATABASE_URL!;

const large = await prepare(url, root);
await large.destroy();
const admin = connect({ url: new URL('/postgres', url).toString(), poolSize: 1 });
await run(admin, sql`set statement_timeout = 0`);
await run(admin, sql`drop database if exists bench_publishing with (force)`);
await run(admin, {
  text: `create database bench_publishing template "${new URL(url).pathname.slice(1)}"`,
  values: [],
});
const copy = new URL('/bench_publishing', url).toString();
const database = connect({ url: copy, poolSize: 6 });
const watch = connect({ url: copy, poolSize: 1 });
const { issuersFile, token } = await issuer(process.env.FIRMGATE_STATE!);
const service = spawn(
  process.execPath,
  [
    join(root, 'dist/program/main.js'),
    'serve',
    '--port',
    '0',
    '--log',
    'error',
    '--issuers',
    issuersFile,
    '--database',
    copy,
  ],
  { env: { ...process.env, NODE_ENV: 'production' }, stdio: ['ignore', 'pipe', 'pipe'] },
);
const address = await new Promise<string>((resolve, reject) => {
  let said = '';
  const listen = (piece: Buffer) => {
    said += piece.toString();
    const match = /listens on (http:\/\/[\d.:]+)/.exec(said);
    if (match !== null) resolve(match[1]!);
  };
  service.stdout.on('data', listen);
  service.stderr.on('data', listen);
  service.once('exit', () => reject(new Error(`the service did not start: ${said}`)));
});

for (let tries = 0; tries < 100; tries++) {
  if ((await fetch(`${address}/v1/health`)).status === 200) break;
  await new Promise((resolve) => setTimeout(resolve, 100));
}
try {
  const text = readFileSync(join(root, 'bench/rulebook.gate'), 'utf8');
  const plain = rulebookOf(text);
  const changed = rulebookOf(
    `${text
      .replace('  queen_year integer\n', '  queen_year text\n')
      .replace(
        '  reserve_price decimal sensitive\n  owned by keeper\n',
        '  reserve_price decimal sensitive\n  checked boolean = false\n  grade integer\n  site ref apiaries\n  tended ref people\n  owned by tended\n  fill tended from keeper\n  fill site from apiary\n',
      )
      .replace('  own may read when keeper = me\n', '  own may read when keeper = me or grade = 1\n')}
    collection notes_of_hives { hive ref hives required  body text }`,
  );
  console.log(
    `${cpus()[0]!.model}, ${cpus().length} cores; ${CLIENTS} clients update their own hives without a break\n`,
  );
  console.log('| round | | updates | median, ms | 99.9th, ms | longest, ms | longest lock, ms | took, s |');
  console.log('|---|---|---|---|---|---|---|---|');
  for (let round = 1; round <= rounds; round++) {
    tell(round, 'alone', await beside(() => new Promise((resolve) => setTimeout(resolve, 20_000))));
    tell(
      round,
      'while it is published',
      await beside(() => publish(database, changed, atTheMachine('bench'))),
    );
    await publish(database, plain, atTheMachine('bench'));
  }
} finally {
  service.removeAllListeners('exit').kill();
  await database.destroy();
  await watch.destroy();
  await run(admin, sql`drop database if exists bench_publishing with (force)`).catch(() => undefined);
  await admin.destroy();
}

function rulebookOf(text: string): Rulebook {
  const checked = checkRulebook([{ name: 'rulebook.gate', text }]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
  return checked.rulebook;
}

interface Measured {
  readonly times: readonly number[];
  readonly lock: number;
  readonly seconds: number;
}

/** How long each update took while the work was done, and the longest wait for a lock. */
async function beside(work: () => Promise<unknown>): Promise<Measured> {
  let done = false;
  let lock = 0;
  const times: number[] = [];
  const began = performance.now();
  const watching = (async () => {
    while (!done) {
      const [row] = await run<{ ms: number | null }>(
        watch,
        sql`select max(extract(epoch from clock_timestamp() - waitstart) * 1000)::float8 as ms from pg_locks as l
          join pg_stat_activity as a on a.pid = l.pid where not granted and a.query not like 'create index concurrently%' and a.query not like 'create unique index concurrently%'`,
      );
      lock = Math.max(lock, Number(row!.ms ?? 0));
      await new Promise((resolve) => setTimeout(resolve, 10));
    }
  })();
  const clients = Array.from({ length: CLIENTS }, async (_, index) => {
    const headers = { authorization: `Bearer ${await token(index)}`, 'content-type': 'application/json' };
    const hives = await run<{ id: string }>(
      database,
      sql`select h.id from records.hives as h join records.people as p on p.id = h.keeper where p.email = ${value(`keeper.${index}@hollowoak.example`)} and h.status = 'active'`,
    );
    for (let turn = 0; !done; turn++) {
      const { id } = hives[turn % hives.length]!;
      const from = performance.now();
      const answer = await fetch(`${address}/v1/records/hives/${id}`, {
        method: 'PATCH',
        headers,
        body: JSON.stringify({ notes: `seen ${turn}` }),
      });
      await answer.arrayBuffer();
      if (answer.status !== 200) throw new Error(`an update answered ${answer.status}`);
      times.push(performance.now() - from);
    }
  });
  await work().finally(() => (done = true));
  const seconds = (performance.now() - began) / 1000;
  await Promise.all([watching, ...clients]);
  return { times: times.toSorted((a, b) => a - b), lock, seconds };
}

function tell(round: number, what: string, { times, lock, seconds }: Measured): void {
  const at = (part: number) => times[Math.min(times.length - 1, Math.floor(times.length * part))]!.toFixed(1);
  console.log(
    `| ${round} | ${what} | ${times.length} | ${at(0.5)} | ${at(0.999)} | ${times.at(-1)!.toFixed(1)} | ${lock.toFixed(0)} | ${seconds.toFixed(1)} |`,
  );
}
