import { cpus } from 'node:os';
import { checkFilter, checkRulebook } from '../src/core/check/index.ts';
import type { Caller } from '../src/core/decide/caller.ts';
import { Access } from '../src/core/sql/access.ts';
import { sql, value, type Fragment } from '../src/core/sql/fragment.ts';
import type { ListQuestion } from '../src/core/sql/list.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run, runKept } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { listStatement } from '../src/store/records/plans.ts';

/**
 * npm run bench -- --timing: can somebody tell by the time whether a guess about a hidden record is right? Right and wrong guesses
 * in turns, compared by rank; beside them the same question put in the ordinary way, the filter before the rule. Works in a
 * database of its own.
 */
const GUESSES = 300;
const NOW = '2026-05-01T12:00:00Z';

const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists bench_timing with (force)`);
await run(admin, sql`create database bench_timing`);
const url = new URL(process.env.DATABASE_URL!);
url.pathname = '/bench_timing';
const database = connect({ url: url.toString(), poolSize: 3 });
try {
  const checked = checkRulebook([
    {
      name: 'timing.gate',
      text: `collection notices { title text label  body text  price decimal  open boolean }
        rules notices { everybody may read (all) when open }`,
    },
  ]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
  const { rulebook } = checked;
  await migrate(database);
  await publish(database, rulebook, atTheMachine('bench'));
  // Texts of no pattern, so that PostgreSQL cannot make them small.
  await run(
    database,
    sql`insert into records.notices (id, title, body, price, open, created_at, updated_at)
      select gen_random_uuid(), 'Notice ' || n, 'short', n, true, now(), now() from generate_series(1, 40) n`,
  );
  await run(
    database,
    sql`insert into records.notices (id, title, body, price, open, created_at, updated_at)
      select gen_random_uuid(), 'Queen of the hidden hive', (select string_agg(md5(random()::text), '') from generate_series(1, 32768)), 777.7, false, now(), now()`,
  );
  await run(database, sql`analyze`);
  const visitor: Caller = { person: null, roles: new Set() };
  const access = new Access(rulebook, visitor, NOW);
  const heavy = Array.from({ length: 60 }, (_, n) => `body contains "no such thing ${n}"`).join(' or ');

  console.log(
    `${cpus()[0]!.model}, ${cpus().length} cores; ${GUESSES} right and ${GUESSES} wrong guesses in turns\n`,
  );
  console.log(
    '| guess | right, ms | wrong, ms | by rank, z | filter before the rule: right, ms | wrong, ms | z |',
  );
  console.log('|---|---|---|---|---|---|---|');
  await compare('a prefix of a hidden title, and a search of its text', (right) => [
    `title starts with "${right ? 'Queen of' : 'Xueen of'}" and (${heavy})`,
    sql`starts_with(r.title, ${value(right ? 'Queen of' : 'Xueen of')}) and (${byHand(60)})`,
  ]);
  const [found] = await run<{ part: string }>(
    database,
    sql`select substr(body, 100, 12) as part from records.notices where not open`,
  );
  await compare('what a hidden text of 1 MB contains', (right) => {
    const guess = right ? found!.part : 'never in it';
    return [`body contains "${guess}"`, sql`strpos(r.body, ${value(guess)}) > 0`];
  });
  await compare('a hidden number, and a search of the text', (right) => [
    `price = ${right ? '777.7' : '777.8'} and (${heavy})`,
    sql`r.price = ${value(right ? 777.7 : 777.8)}::numeric and (${byHand(60)})`,
  ]);

  function byHand(count: number): Fragment {
    const parts = Array.from(
      { length: count },
      (_, n) => sql`strpos(r.body, ${value(`no such thing ${n}`)}) > 0`,
    );
    return parts.reduce((before, each) => sql`${before} or ${each}`);
  }

  async function compare(name: string, guess: (right: boolean) => [string, Fragment]): Promise<void> {
    const ours = async (right: boolean) => {
      const filter = checkFilter(guess(right)[0], 'notices', rulebook);
      if (!filter.ok) throw new TypeError(JSON.stringify(filter.diagnostics[0]));
      const question: ListQuestion = {
        collection: 'notices',
        filter: filter.condition,
        order: [{ field: 'id', descending: false }],
        after: null,
        limit: 50,
      };
      return (await listStatement(database, access, question)).statement;
    };
    const plain = (right: boolean) =>
      sql`select r.id from (select * from records.notices as r where ${guess(right)[1]} offset 0) as r where r.open order by r.id limit 50`;
    const [a, b] = [await timed(ours), await timed(async (right) => plain(right))];
    const told = (times: Times) =>
      `${median(times.right).toFixed(2)} | ${median(times.wrong).toFixed(2)} | ${zOf(times).toFixed(1)}`;
    console.log(`| ${name} | ${told(a)} | ${told(b)} |`);
  }
} finally {
  await database.destroy();
  await run(admin, sql`drop database if exists bench_timing with (force)`);
  await admin.destroy();
}

interface Times {
  readonly right: number[];
  readonly wrong: number[];
}

async function timed(statementOf: (right: boolean) => Promise<Fragment>): Promise<Times> {
  const times: Times = { right: [], wrong: [] };
  const statements = new Map<boolean, Fragment>();
  for (const right of [true, false]) statements.set(right, await statementOf(right));
  for (let turn = -20; turn < GUESSES; turn++)
    for (const right of turn % 2 === 0 ? [true, false] : [false, true]) {
      const begun = performance.now();
      await runKept(database, statements.get(right)!);
      if (turn >= 0) (right ? times.right : times.wrong).push(performance.now() - begun);
    }
  return times;
}

function median(values: readonly number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)]!;
}

/** The rank sum of Mann and Whitney, as a number of standard deviations from what chance would give. */
function zOf({ right, wrong }: Times): number {
  const all = [
    ...right.map((time) => ({ time, right: true })),
    ...wrong.map((time) => ({ time, right: false })),
  ];
  all.sort((a, b) => a.time - b.time);
  const ranks = all.reduce((sum, each, index) => sum + (each.right ? index + 1 : 0), 0);
  const [n, m] = [right.length, wrong.length];
  return (ranks - (n * (n + m + 1)) / 2) / Math.sqrt((n * m * (n + m + 1)) / 12);
}
