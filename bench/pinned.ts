import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { checkRulebook } from '../src/core/check/index.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { sql, value, type Fragment } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import type { Credentials } from '../src/store/callers.ts';
import { run } from '../src/store/connection.ts';
import { pinnedCounts, pinnedPage } from '../src/store/preview/pinned.ts';
import { publish } from '../src/store/publish/index.ts';
import { prepare } from './world.ts';

/**
 * npm run bench -- --pinned: what the bench of the console asks while rules are written, on the large set: a page and the counts through
 * four identities and the visitor, in force and by a draft. Beside the counts the naive way: for each of them, and each side, one count
 * of the records that they read, and nothing of fields, other operations and sentences.
 */
const [root = '.'] = process.argv.slice(2);
const database = await prepare(process.env.DATABASE_URL!, root);
const identities = ['keeper', 'own_or_open', 'duty', 'region'].map(
  (role) => `test identity pinned_${role} { roles ${role}  district "District 90" }`,
);
const text = [readFileSync(join(root, 'bench/rulebook.gate'), 'utf8'), ...identities].join('\n');
const [before, after] = [
  text,
  text.replace(
    'own_or_open may read when keeper = me or visibility = "open"',
    'own_or_open may read when keeper = me or visibility != "private"',
  ),
].map(rulebookOf) as [Rulebook, Rulebook];
await publish(database, before, atTheMachine('bench'));
const people = await run<{ id: string; name: string; district: string }>(
  database,
  sql`select id, _identity as name, district from records.people where _identity like 'pinned%' order by _identity`,
);
const credentials: Credentials[] = [
  ...people.map(({ name }): Credentials => ({ kind: 'test identity', name })),
  { kind: 'visitor' },
];
const renames = { collections: new Map(), fields: new Map(), roles: new Map(), attributes: new Map() };
const by = { before, after, renames, credentials, collection: 'hives' };
const page = {
  filter: { was: null, is: null },
  onlyChanged: false,
  unlocked: false,
  after: null,
  limit: 100,
};

/** The readers of each side, by hand. */
function byHand(id: string, district: string): Fragment[] {
  const me = sql`${value(id)}::uuid`;
  const on_duty = sql`exists (select from records.visits as v where v.hive = h.id and v.inspector = ${me} and v.starts <= now() and now() < v.ends)`;
  const region = sql`exists (select from records.apiaries as a join records.districts as d on d.id = a.district where a.id = h.apiary and d.parent = ${value(district)}::uuid)`;
  const own = sql`h.keeper = ${me}`;
  const open = sql`${own} or h.visibility = 'open'`;
  return [own, own, open, sql`${own} or h.visibility <> 'private'`, on_duty, on_duty, region, region];
}

const timed = async (work: () => Promise<unknown>): Promise<number> => {
  const began = performance.now();
  await work();
  return performance.now() - began;
};
const counts: number[] = [];
const pages: number[] = [];
const naive: number[] = [];
for (let round = 0; round < 5; round++) {
  counts.push(await timed(() => pinnedCounts(database, by)));
  pages.push(await timed(() => pinnedPage(database, by, page)));
  const [{ id, district }] = people as [(typeof people)[number]];
  naive.push(
    await timed(async () => {
      for (const where of [...byHand(id, district), sql`h.visibility = 'open'`, sql`h.visibility = 'open'`])
        await run(database, sql`select count(*) from records.hives as h where ${where}`);
    }),
  );
}
const median = (all: readonly number[]) =>
  all.toSorted((one, other) => one - other)[Math.floor(all.length / 2)]!;
const counted = await pinnedCounts(database, by);
console.log(`${cpus()[0]!.model}, ${cpus().length} cores; ${counted!.total} hives, medians of 5 rounds`);
console.log(`page of 100 with marks: ${median(pages).toFixed(0)} ms`);
console.log(
  `counts: ${median(counts).toFixed(0)} ms; ten naive counts of reading alone: ${median(naive).toFixed(0)} ms, ratio ${(median(naive) / median(counts)).toFixed(2)}`,
);
await database.destroy();

function rulebookOf(source: string): Rulebook {
  const checked = checkRulebook([{ name: 'pinned.gate', text: source }]);
  if (!checked.ok)
    throw new TypeError(
      `the rulebook of the benchmark has errors: ${JSON.stringify(checked.diagnostics[0])}`,
    );
  return checked.rulebook;
}
