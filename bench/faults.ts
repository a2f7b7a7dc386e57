import { readFileSync, readdirSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { loadDemo } from '../demo/data/load.ts';
import { mutationsOf } from '../src/core/analysis/mutations.ts';
import { checkRulebook } from '../src/core/check/index.ts';
import { Access } from '../src/core/sql/access.ts';
import { sql } from '../src/core/sql/fragment.ts';
import { chosenTrials } from '../src/core/trial/choice.ts';
import { arrive } from '../src/store/callers.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { plantFaults } from '../src/store/mutations.ts';
import { publish } from '../src/store/publish/index.ts';
import { updateRecord } from '../src/store/records/update.ts';
import { tryOut } from '../src/store/trials/index.ts';

/**
 * npm run bench -- --faults: every fault that can be planted in the demo rulebook, and who finds it; and how long users wait
 * for the records that trials are trying at the same moment.
 */
const [root = '.'] = process.argv.slice(2);
const folder = join(root, 'demo/rulebook');
const sources = readdirSync(folder).map((name) => ({ name, text: readFileSync(join(folder, name), 'utf8') }));
const checked = checkRulebook(sources);
if (!checked.ok) throw new TypeError('the demo rulebook has errors');
const { rulebook } = checked;

const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists faults with (force)`);
await run(admin, sql`create database faults`);
const database = connect({ url: process.env.DATABASE_URL!.replace(/\/[^/]*$/, '/faults'), poolSize: 10 });
await migrate(database);
await publish(database, rulebook, atTheMachine('bench'));
await loadDemo(database, rulebook);
await run(database, sql`analyze`);
console.log(`${cpus()[0]!.model}, ${cpus().length} cores`);

const { caller, now } = (await arrive(database, rulebook, { kind: 'test identity', name: 'ada' }))!;
const access = new Access(rulebook, caller, now);
const [hive] = await run<{ id: string }>(database, sql`select id from records.hives where code = 'OAK-001'`);
const waits = async (until: () => boolean) => {
  const times: number[] = [];
  for (let count = 0; !until(); count++) {
    const began = performance.now();
    const outcome = await updateRecord(
      database,
      access,
      'hives',
      hive!.id,
      new Map([['notes', `note ${count}`]]),
    );
    if (!outcome.ok) throw new Error('a user was refused');
    times.push(performance.now() - began);
  }
  return times.toSorted((a, b) => a - b);
};
const quantiles = (times: readonly number[]) =>
  [0.5, 0.99, 1]
    .map((part) => times[Math.min(times.length - 1, Math.floor(times.length * part))]!.toFixed(1))
    .join(' / ');
let stop = performance.now() + 5_000;
const alone = await waits(() => performance.now() > stop);
let [runs, ended] = [0, false];
stop = performance.now() + 10_000;
const trials = (async () => {
  for (; performance.now() < stop; runs++)
    await tryOut(database, rulebook, rulebook, chosenTrials(rulebook, null, null), (verdict) => {
      if (!verdict.passed) throw new Error(`a trial failed: ${verdict.expectation}`);
    });
  ended = true;
})();
const beside = await waits(() => ended);
await trials;
console.log(
  `updates of one hive, ms (median / 99 % / longest): alone ${quantiles(alone)}; beside ${runs} runs of all trials ${quantiles(beside)}`,
);

const mutations = mutationsOf(sources, rulebook.schema, [...rulebook.roles.keys()]);
const began = performance.now();
const { fates } = await plantFaults(database, rulebook, mutations, {
  sweep: true,
  progress: () => undefined,
});
const took = (performance.now() - began) / 1000;
const by = (who: string) => fates.filter((fate) => fate.foundBy === who).length;
const changing = fates.length - by('nobody') - by('check');
console.log(
  `${fates.length} faults in ${took.toFixed(0)} s; the checker refuses ${by('check')}, ${by('nobody')} change no answer to any test identity`,
);
console.log(
  `of the ${changing} others trials alone find ${by('trials')}, invariants ${by('invariants')} more, the sweep ${by('sweep')} more: ${((100 * (by('trials') + by('invariants') + by('sweep'))) / changing).toFixed(0)} %`,
);
for (const kind of new Set(fates.map(({ mutation }) => mutation.kind))) {
  const found = fates.filter(({ mutation }) => mutation.kind === kind).map(({ foundBy }) => foundBy);
  const counts = [...new Set(found)].map((who) => `${who} ${found.filter((each) => each === who).length}`);
  console.log(`  ${kind}: ${counts.join(', ')}`);
}
await database.destroy();
await admin.destroy();
