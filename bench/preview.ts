import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { checkRulebook } from '../src/core/check/index.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { commaList, sql, value } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { run } from '../src/store/connection.ts';
import { effectsOf } from '../src/store/preview/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { prepare } from './world.ts';

/**
 * npm run bench -- --preview: what a draft would do for 10,000 people, a million hives and eleven collections beside. People hold two roles
 * each, of six; the draft changes a sentence of every collection. Beside it the naive way: for each person one pass over the hives for each
 * side, of reading alone; timed for five of them.
 */
const [root = '.'] = process.argv.slice(2);
const database = await prepare(process.env.DATABASE_URL!, root);
const held = ['own_or_open', 'own_or_members', 'duty', 'region', 'many_2', 'many_5'];
const lists = Array.from({ length: 6 }, (_, index) => `list_${index + 1}`);
const beside = lists.map(
  (name) =>
    `collection ${name} { title text required label  keeper ref people  open boolean }  rules ${name} { keeper may read (all), update (title) when keeper = me  people may read (title) when open }`,
);
const text = [readFileSync(join(root, 'bench/rulebook.gate'), 'utf8'), ...beside].join('\n');
const changed = text
  .replaceAll('people may read (title) when open', 'people may read (title) when open or keeper is missing')
  .replace(
    'own_or_open may read when keeper = me or visibility = "open"',
    'own_or_open may read when keeper = me or visibility != "private"',
  )
  .replace('when keeper = me and status != "retired"', 'when keeper = me and status = "active"')
  .replace('rules apiaries { people may read }', 'rules apiaries { people may read (name) }')
  .replace('follower may read when me may read hive', 'follower may read (found) when me may read hive');
const [before, after] = [text, changed].map(rulebookOf) as [Rulebook, Rulebook];
await publish(database, before, atTheMachine('bench'));
for (const [index, role] of held.entries())
  await run(
    database,
    sql`insert into gate.role_assignments (person, role) select id, ${value(role)} from (select id, row_number() over (order by id) as n from records.people) as p where n % 6 = ${value(index)} on conflict do nothing`,
  );
for (const name of lists)
  await run(
    database,
    sql`insert into ${{ text: `records.${name}`, values: [] }} (id, title, keeper, open, created_at, updated_at) select gen_random_uuid(), 'Title ' || row_number() over (order by id), case when row_number() over (order by id) % 3 > 0 then id end, row_number() over (order by id) % 2 = 0, now(), now() from records.people where not exists (select from ${{ text: `records.${name}`, values: [] }})`,
  );

const renames = { collections: new Map(), fields: new Map(), roles: new Map(), attributes: new Map() };
const timed = async <T>(work: () => Promise<T>): Promise<{ took: number; found: T }> => {
  const began = performance.now();
  const found = await work();
  return { took: performance.now() - began, found };
};
const { took, found } = await timed(() =>
  effectsOf(database, before, after, { renames, affected: null }, () => undefined),
);
const people = await run<{ id: string }>(database, sql`select id from records.people order by id limit 5`);
const naive = await timed(async () => {
  for (const { id } of people) {
    const own = sql`h.keeper = ${value(id)}::uuid`;
    const [was, is] = [sql`(${own} or h.visibility = 'open')`, sql`(${own} or h.visibility <> 'private')`];
    await run(
      database,
      sql`select count(*) filter (where ${is} and not ${was}) as gained, count(*) filter (where ${was} and not ${is}) as lost from records.hives as h`,
    );
  }
});
const each = naive.took / people.length;
const { looked, left, eachSet, effects } = found;
console.log(
  `${cpus()[0]!.model}, ${cpus().length} cores; 1,000,000 hives, ${lists.length + 6} collections, ${looked.people + left} people`,
);
console.log(
  `preview: ${(took / 1000).toFixed(1)} s for ${looked.people} people and ${looked.identities} visitors and identities, ${effects.length} differences; ${left} people not looked at, for each set of roles somebody was: ${eachSet}`,
);
console.log(
  `naive: ${each.toFixed(0)} ms a person for reading hives alone, ${((each * looked.people) / 1000).toFixed(0)} s for as many; ratio ${((each * looked.people) / took).toFixed(1)}`,
);
// What others measure is not to see these roles.
await run(
  database,
  sql`delete from gate.role_assignments where role in (${commaList(held.map((role) => sql`${value(role)}`))})`,
);
await database.destroy();

function rulebookOf(source: string): Rulebook {
  const checked = checkRulebook([{ name: 'preview.gate', text: source }]);
  if (!checked.ok)
    throw new TypeError(
      `the rulebook of the benchmark has errors: ${JSON.stringify(checked.diagnostics[0])}`,
    );
  return checked.rulebook;
}
