import { cpus } from 'node:os';
import { decodeJwt } from 'jose';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql, value } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { startGated } from './serving.ts';
import { issuer } from './world.ts';

/**
 * npm run bench -- --shares: what a request costs over HTTP where others have shared very much with everybody, beside the same request
 * where nothing is shared. Works in a database of its own.
 */
const ROUNDS = 300;
const [root = '.'] = process.argv.slice(2);

const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists bench_shares with (force)`);
await run(admin, sql`create database bench_shares`);
const url = new URL(process.env.DATABASE_URL!);
url.pathname = '/bench_shares';
const database = connect({ url: url.toString(), poolSize: 3 });
try {
  const checked = checkRulebook([
    {
      name: 'shares.gate',
      text: `collection notices { title text label  author ref people }
        collection tools { title text label  author ref people }
        rules notices { people may read (all), share when author = me }
        rules tools { people may read (all), share when author = me }`,
    },
  ]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
  const { rulebook } = checked;
  await migrate(database);
  await publish(database, rulebook, atTheMachine('bench'));
  await run(
    database,
    sql`insert into records.people (id, name, created_at, updated_at)
      select gen_random_uuid(), 'Person ' || n, now(), now() from generate_series(0, 99) n`,
  );
  for (const collection of [sql`notices`, sql`tools`])
    await run(
      database,
      sql`insert into records.${collection} (id, title, author, created_at, updated_at)
        select gen_random_uuid(), 'Title ' || n, p.id, now(), now()
        from generate_series(1, 200000) n join records.people as p on p.name = 'Person ' || case n % 2 when 0 then 0 else n % 100 end`,
    );
  await run(database, sql`analyze`);
  const { issuersFile, token } = await issuer(process.env.FIRMGATE_STATE!);
  await run(
    database,
    sql`insert into gate.logins (issuer, subject, person)
      select 'https://login.hollowoak.example/', ${value(decodeJwt(await token(0)).sub!)}, id from records.people where name = 'Person 99'`,
  );
  const person = { authorization: `Bearer ${await token(0)}` };
  const gated = await startGated(root, url.toString(), issuersFile);

  console.log(`${cpus()[0]!.model}, ${cpus().length} cores; the median of ${ROUNDS} each, in ms\n`);
  console.log(
    '| shares | with | a list, other collection | a list, that one | a shared record by id | visitor, a list, that one |',
  );
  console.log('|---|---|---|---|---|---|');
  for (const [total, sharers] of [
    [0, 0],
    [150, 1],
    [1_500, 1],
    [20_000, 10],
    [100_000, 1],
    [100_000, 10],
    [100_000, 50],
  ] as const) {
    await run(database, sql`truncate gate.shares`);
    await run(
      database,
      sql`insert into gate.shares (id, collection, record, operations, sharer, audience)
        select gen_random_uuid(), 'notices', id, array['read'], author, 'everybody' from (
          select n.id, n.author from records.notices as n join records.people as p on p.id = n.author
          where substr(p.name, 8)::integer < ${value(Math.max(1, sharers))}::integer order by n.id) as one limit ${value(total)}::integer`,
    );
    await run(database, sql`analyze gate.shares`);
    const [one] = await run<{ id: string }>(
      database,
      sql`select n.id from records.notices as n join gate.shares as s on s.record = n.id limit 1`,
    );
    const ask =
      (path: string, headers: Record<string, string> = {}) =>
      async () => {
        const response = await fetch(`${gated.url}/v1/records/${path}`, { headers });
        await response.arrayBuffer();
        if (response.status !== 200) throw new Error(`${path}: HTTP ${response.status}`);
      };
    const times = [
      await median(ask('tools', person)),
      await median(ask('notices', person)),
      await median(one === undefined ? ask('notices?limit=1', person) : ask(`notices/${one.id}`, person)),
      await median(ask('notices')),
    ];
    console.log(`| ${total} | ${sharers} | ${times.map((each) => each.toFixed(2)).join(' | ')} |`);
  }
  gated.process.removeAllListeners('exit').kill();
} finally {
  await database.destroy();
  await run(admin, sql`drop database if exists bench_shares with (force)`);
  await admin.destroy();
}

async function median(work: () => Promise<void>): Promise<number> {
  const times: number[] = [];
  for (let turn = -50; turn < ROUNDS; turn++) {
    const begun = performance.now();
    await work();
    if (turn >= 0) times.push(performance.now() - begun);
  }
  return times.toSorted((a, b) => a - b)[ROUNDS / 2]!;
}
