import { spawn } from 'node:child_process';
import { cpus } from 'node:os';
import { join } from 'node:path';
import autocannon from 'autocannon';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql, value } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { ISSUER, issuer } from './world.ts';

/**
 * npm run bench -- --rights: a list of 50 own records with rights beside the same list without, over HTTP, in turns. Works in a
 * database of its own.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const seconds = Number(flags.find((flag) => flag.startsWith('--seconds='))?.slice(10) ?? 3);
const rounds = Number(flags.find((flag) => flag.startsWith('--rounds='))?.slice(9) ?? 5);

const KEEPERS = 40;

const fields = `code text required label  keeper ref people  apiary ref apiaries
  status one of ("active", "resting", "retired") = "active"  queen_year integer  notes text  strength integer
  owned by keeper`;
const reading = 'keeper may read (all), create (code, apiary, notes) when keeper = me stamp keeper = me';
/** Each with update rules of its own, from those that read nothing they open to those that compare most of it. */
const cases: readonly [string, string, string][] = [
  [
    'rules do not read what they open',
    'plain',
    'keeper may update (queen_year, notes, strength), delete when keeper = me and status != "retired"',
  ],
  [
    'one rule reads one field that it opens',
    'stated',
    'keeper may update (status, queen_year, notes), delete when keeper = me and status != "retired"',
  ],
  [
    'transitions, a reference, and a number in bounds',
    'moved',
    `keeper may update (queen_year, notes) when keeper = me
     keeper may update (status) when keeper = me and old.status = "active" and new.status = "resting"
     keeper may update (status) when keeper = me and old.status = "resting" and new.status in ("active", "retired")
     keeper may update (apiary) when keeper = me and new.apiary.open
     keeper may update (strength) when keeper = me and new.strength >= 0 and new.strength <= 10
     keeper may delete when keeper = me and status = "retired"`,
  ],
];
const text = `role keeper
  collection apiaries { name text required label  open boolean = true }
  rules apiaries { people may read }
  ${cases.map(([, name, rules]) => `collection ${name} { ${fields} }\nrules ${name} { ${reading}\n${rules} }`).join('\n')}`;

const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists bench_rights with (force)`);
await run(admin, sql`create database bench_rights`);
const url = new URL(process.env.DATABASE_URL!);
url.pathname = '/bench_rights';
const database = connect({ url: url.toString(), poolSize: 3 });
const checked = checkRulebook([{ name: 'rights.gate', text }]);
if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
await migrate(database);
await publish(database, checked.rulebook, atTheMachine('bench'));
await run(
  database,
  sql`insert into records.people (id, name, created_at, updated_at)
    select gen_random_uuid(), 'Person ' || n, now(), now() from generate_series(0, ${value(KEEPERS - 1)}::integer) n`,
);
await run(
  database,
  sql`insert into gate.role_assignments (person, role) select id, 'keeper' from records.people`,
);
await run(
  database,
  sql`insert into records.apiaries (id, name, open, created_at, updated_at)
    select gen_random_uuid(), 'Apiary ' || n, n % 2 = 0, now(), now() from generate_series(1, 1000) n`,
);
for (const table of [sql`plain`, sql`stated`, sql`moved`])
  await run(
    database,
    sql`insert into records.${table} (id, code, keeper, apiary, status, queen_year, notes, strength, created_at, updated_at)
      select gen_random_uuid(), 'H-' || n, p.id, a.id, case when n % 3 = 0 then 'resting' else 'active' end, 2024, 'calm', n % 10, now(), now()
      from generate_series(0, 19999) n
      join (select id, substr(name, 8)::integer as number from records.people) as p on p.number = n % ${value(KEEPERS)}::integer
      join (select id, substr(name, 8)::integer as number from records.apiaries) as a on a.number = n % 1000 + 1`,
  );
const { issuersFile, token } = await issuer(process.env.FIRMGATE_STATE!);
// One caller alone would be held back, as whoever asks very much is.
const bearers = await Promise.all(Array.from({ length: KEEPERS }, (_, index) => token(index)));
for (const [index, bearer] of bearers.entries())
  await run(
    database,
    sql`insert into gate.logins (issuer, subject, person)
      select ${value(ISSUER)}, ${value(subjectOf(bearer))}, id from records.people where name = ${value(`Person ${index}`)}`,
  );
await run(database, sql`analyze`);

const service = spawn(
  process.execPath,
  [
    join(root, 'dist/program/main.js'),
    'serve',
    '--port=0',
    '--log=error',
    `--issuers=${issuersFile}`,
    `--database=${url.toString()}`,
  ],
  { env: { ...process.env, NODE_ENV: 'production' }, stdio: ['ignore', 'ignore', 'pipe'] },
);
try {
  const address = await new Promise<string>((resolve, reject) => {
    let said = '';
    service.stderr.on('data', (piece: Buffer) => {
      said += piece.toString();
      const found = /listens on (http:\/\/[\d.:]+)/.exec(said);
      if (found !== null) resolve(found[1]!);
    });
    service.once('exit', () => reject(new Error(`the service did not start: ${said}`)));
  });
  while (!(await fetch(`${address}/v1/health`)).ok) await new Promise((resolve) => setTimeout(resolve, 50));
  const load = async (path: string) => {
    const result = await autocannon({
      url: address,
      connections: 4,
      duration: seconds,
      requests: bearers.map((bearer) => ({
        method: 'GET',
        path,
        headers: { authorization: `Bearer ${bearer}` },
      })),
    });
    if (result.non2xx > 0 || result.errors > 0)
      throw new Error(`${path}: ${JSON.stringify(result.statusCodeStats)}`);
    return result.requests.total / result.duration;
  };
  const median = (values: readonly number[]) => values.toSorted((a, b) => a - b)[values.length >> 1]!;
  console.log(
    `Node ${process.version}, ${cpus().length} × ${cpus()[0]!.model}; ${rounds} rounds of ${seconds} s\n`,
  );
  console.log('| a list of 50 | without, requests/s | with rights | ratio | mark |\n|---|---|---|---|---|');
  for (const [title, name] of cases) {
    const paths = [`/v1/records/${name}`, `/v1/records/${name}?rights=true`] as const;
    const rates: [number[], number[]] = [[], []];
    for (const path of paths) await load(path);
    for (let round = 0; round < rounds; round++)
      for (const at of round % 2 === 0 ? [0, 1] : [1, 0]) rates[at]!.push(await load(paths[at]!));
    const [without, beside] = rates.map(median) as [number, number];
    const mark = name === 'plain' ? 1.5 : 3;
    console.log(
      `| ${title} | ${without.toFixed(0)} | ${beside.toFixed(0)} | ${(without / beside).toFixed(2)} | ${mark} |`,
    );
  }
} finally {
  service.removeAllListeners('exit').kill();
  await Promise.all([database.destroy(), admin.destroy()]);
}

function subjectOf(jwt: string): string {
  const claims = JSON.parse(Buffer.from(jwt.split('.')[1]!, 'base64url').toString()) as { sub: string };
  return claims.sub;
}
