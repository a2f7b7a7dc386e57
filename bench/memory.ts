import { readFileSync } from 'node:fs';
import autocannon, { type Request } from 'autocannon';
import { Dice } from '../src/core/analysis/dice.ts';
import { sql } from '../src/core/sql/fragment.ts';
import { run } from '../src/store/connection.ts';
import { startGated } from './serving.ts';
import { SIZE, issuer, prepare } from './world.ts';

/**
 * npm run bench -- --memory: requests of all kinds by ten thousand callers, and how much memory the service holds meanwhile. What it
 * remembers is bounded by what it takes, so that it settles. Options: --requests=1000000.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const total = Number(flags.find((flag) => flag.startsWith('--requests='))?.slice(11) ?? 1_000_000);
const STEP = 50_000;

const database = await prepare(process.env.DATABASE_URL!, root);
const { issuersFile, token } = await issuer(process.env.FIRMGATE_STATE!);
const tokens: string[] = [];
for (let index = 0; index < SIZE.keepers; index++) tokens.push(await token(index));
const hives = await run<{ id: string; keeper: string }>(
  database,
  sql`select distinct on (h.keeper) h.id, substr(p.email, 8)::text as keeper from records.hives as h join records.people as p on p.id = h.keeper
    where h.status = 'active' and p.email like 'keeper.%' order by h.keeper, h.id`,
);
const hiveOf = new Map(hives.map(({ id, keeper }) => [Number.parseInt(keeper, 10), id]));
const gated = await startGated(root, process.env.DATABASE_URL!, issuersFile);

/** Megabytes that the process has in memory: proc(5). */
function resident(): number {
  const status = readFileSync(`/proc/${gated.process.pid!}/status`, 'utf8');
  return Number(/VmRSS:\s+(\d+)/.exec(status)![1]) / 1_024;
}

const dice = new Dice(11);
let made = 0;
const where = (text: string) => `?where=${encodeURIComponent(text)}`;
const kinds: ((hive: string) => Partial<Request>)[] = [
  () => ({ method: 'GET', path: gated.path }),
  () => ({ method: 'GET', path: `${gated.path}?order=code%20desc&limit=${dice.between(1, 40)}` }),
  () => ({
    method: 'GET',
    path: `${gated.path}${where(`queen_year > ${dice.between(2018, 2026)} and code starts with "HIVE-${dice.between(1, 999)}"`)}`,
  }),
  () => ({ method: 'GET', path: `${gated.path}?count=true&limit=5&rights=true` }),
  (hive) => ({ method: 'GET', path: `${gated.path}/${hive}` }),
  (hive) => ({ method: 'GET', path: `${gated.path}/${hive}?include=keeper,apiary` }),
  (hive) => ({
    method: 'PATCH',
    path: `${gated.path}/${hive}`,
    body: JSON.stringify({ notes: `seen ${dice.between(1, 1_000_000)}` }),
  }),
  (hive) => ({
    method: 'PATCH',
    path: `${gated.path}/${hive}`,
    body: JSON.stringify({ reserve_price: '1.00' }),
  }),
  () => ({
    method: 'POST',
    path: gated.path,
    body: JSON.stringify({ code: `MADE-${++made}-${process.pid}`, notes: 'new' }),
  }),
  () => ({ method: 'GET', path: `${gated.path}/00000000-0000-4000-8000-000000000000` }),
  () => ({ method: 'GET', path: '/v1/me' }),
  () => ({ method: 'GET', path: '/v1/rights' }),
];
const next = (request: Request): Request => {
  const caller = dice.between(0, SIZE.keepers - 1);
  const { body = '', ...asked } = dice.pick(kinds)(hiveOf.get(caller)!);
  const headers = { authorization: `Bearer ${tokens[caller]}`, 'content-type': 'application/json' };
  return { ...request, ...asked, headers, body } as Request;
};
try {
  console.log(
    `${total} requests of ${kinds.length} kinds by ${SIZE.keepers} callers; resident at the start ${resident().toFixed(0)} MB\n`,
  );
  console.log('| requests | resident, MB | requests/s |\n|---|---|---|');
  const all: number[] = [];
  for (let done = STEP; done <= total; done += STEP) {
    const result = await autocannon({
      url: gated.url,
      connections: 8,
      amount: STEP,
      requests: [{ method: 'GET', path: gated.path, setupRequest: next } as Request],
    });
    if (result.errors > 0 || result['5xx'] > 0)
      throw new Error(`${result.errors} errors, ${JSON.stringify(result.statusCodeStats)}`);
    all.push(resident());
    console.log(`| ${done} | ${all.at(-1)!.toFixed(0)} | ${(STEP / result.duration).toFixed(0)} |`);
  }
  const after = all.slice(1);
  const [least, most] = [Math.min(...after), Math.max(...after)];
  console.log(
    `\nAfter the first ${STEP}: ${least.toFixed(0)} to ${most.toFixed(0)} MB, ${(100 * (most / least - 1)).toFixed(0)} % apart`,
  );
} finally {
  gated.process.removeAllListeners('exit').kill();
  await run(database, sql`delete from records.hives where code like 'MADE-%'`);
  await database.destroy();
}
