import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql, value } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { run } from '../src/store/connection.ts';
import { publish } from '../src/store/publish/index.ts';
import { sweepDatabase } from '../src/store/sweep/index.ts';
import { prepare } from './world.ts';

/**
 * npm run bench -- --sweep: what 200 identities reach in 12 collections, the largest with a million records: counted set-wise,
 * with the comparison on records that stand for all others. Beside it the naive way: one query per caller.
 */
const IDENTITIES = 200;
const [root = '.'] = process.argv.slice(2);
const roles = [
  'keeper',
  'keeper',
  'keeper',
  'own_or_open',
  'duty',
  'own_or_duty',
  'three',
  'below',
  'region',
  'follower',
];

const database = await prepare(process.env.DATABASE_URL!, root);
const extra = Array.from(
  { length: 6 },
  (_, index) => `
collection notes_${index} { title text required label  author ref people  shared boolean = false  owned by author }
rules notes_${index} {
  people may read (all), create (title, shared), update (title, shared), delete when author = me stamp author = me
  keeper may read when shared = true
}`,
);
const identities = Array.from(
  { length: IDENTITIES },
  (_, index) =>
    `test identity swept_${index} { roles ${roles[index % roles.length]!}  district "District ${90 + index}" }`,
);
const text = [readFileSync(join(root, 'bench/rulebook.gate'), 'utf8'), ...extra, ...identities].join('\n');
const checked = checkRulebook([{ name: 'sweep.gate', text }]);
if (!checked.ok)
  throw new TypeError(`the rulebook of the benchmark has errors: ${JSON.stringify(checked.diagnostics[0])}`);
const { rulebook } = checked;
await publish(database, rulebook, atTheMachine('bench'));
await database.transaction(async (on) => {
  await run(on, sql`set local statement_timeout = 0`);
  // A hundred hives for each identity, and some notes of everybody’s.
  await run(
    on,
    sql`with swept as (select id, row_number() over (order by _identity) - 1 as n from records.people where _identity like 'swept%'),
        free as (select h.id, row_number() over (order by h.id) - 1 as n from records.hives as h
          where not exists (select 1 from records.hives as o join swept as s on s.id = o.keeper) order by h.id limit ${value(IDENTITIES * 100)}::bigint)
      update records.hives as h set keeper = s.id from free as f join swept as s on s.n = f.n / 100 where h.id = f.id`,
  );
  for (let index = 0; index < 6; index++)
    await run(on, {
      text: `insert into records.notes_${index} (id, title, author, shared, created_at, updated_at)
          select gen_random_uuid(), 'Note ' || n, p.id, n % 10 = 0, now(), now()
          from (select id, row_number() over (order by id) as n from records.people order by id limit 10000) as p
          where not exists (select 1 from records.notes_${index})`,
      values: [],
    });
});
await run(database, sql`analyze records.hives`);

const began = performance.now();
let told = 0;
const sweep = await sweepDatabase(database, rulebook, rulebook, {
  identities: null,
  collections: null,
  everyRecord: 0,
  progress: () => told++,
});
const took = (performance.now() - began) / 1000;

const callers = await run<{ id: string; district: string | null }>(
  database,
  sql`select id, district from records.people where _identity like 'swept%' order by _identity limit 10`,
);
const naive = performance.now();
for (const { id, district } of callers)
  await run(
    database,
    sql`select count(*) from records.hives as h where h.keeper = ${value(id)}::uuid or h.visibility = 'open'
      or exists (select 1 from records.visits as v where v.hive = h.id and v.inspector = ${value(id)}::uuid and v.starts <= now() and now() < v.ends)
      or exists (select 1 from records.apiaries as a where a.id = h.apiary and a.district = ${value(district)}::uuid)`,
  );
const each = (performance.now() - naive) / 1000 / callers.length;
const records = sweep.counts.reduce((sum, { total }) => sum + total, 0);
console.log(`${cpus()[0]!.model}, ${cpus().length} cores`);
console.log(
  `${sweep.counted.length} callers × ${sweep.counts.length} collections, ${records} records: ${took.toFixed(1)} s, ${sweep.cells} cells compared, ${sweep.differences.length} differences, ${told} times progress`,
);
console.log(
  `one naive query per caller, of the largest collection and reading alone: ${each.toFixed(2)} s, so ${(each * sweep.counted.length).toFixed(0)} s for all: ratio ${((each * sweep.counted.length) / took).toFixed(1)}`,
);
for (const line of sweep.left) console.log(line);
await database.destroy();
