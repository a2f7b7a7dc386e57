import { cpus } from 'node:os';
import pg from 'pg';
import { Dice } from '../src/core/analysis/dice.ts';
import { checkFilter, checkRulebook } from '../src/core/check/index.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { Access } from '../src/core/sql/access.ts';
import type { Fragment } from '../src/core/sql/fragment.ts';
import { formulations, listSql, type ListQuestion } from '../src/core/sql/list.ts';
import type { Value } from '../src/core/types/types.ts';
import { run } from '../src/store/connection.ts';
import { listStatement } from '../src/store/records/plans.ts';
import { sql } from '../src/core/sql/fragment.ts';
import { handwritten, type Question } from './formulations-by-hand.ts';
import { prepare } from './world.ts';

/**
 * npm run bench -- --formulations: what the compiler makes of a rule against everything that we know to write by hand,
 * the obvious form and native row security among them; on a million hives, in turns, prepared, one connection.
 * The ratio is the time of the best one by hand to ours: above 1 ours is faster.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const rounds = Number(flags.find((flag) => flag.startsWith('--rounds='))?.slice(9) ?? 15);
const only = flags.find((flag) => flag.startsWith('--only='))?.slice(7);
const plans = flags.includes('--plans');
const url = process.env.DATABASE_URL!;
const NOW = '2026-05-01T12:00:00Z';
const SLOW_MS = 400;

const database = await prepare(url, root);
const rulebook = await published();
const client = new pg.Client({ connectionString: url, options: '-c timezone=UTC -c jit=off' });
await client.connect();

async function published(): Promise<Rulebook> {
  const [row] = await run<{ files: { name: string; text: string }[] }>(
    database,
    sql`select files::json as files from gate.rulebooks order by version desc limit 1`,
  );
  const checked = checkRulebook(row!.files);
  if (!checked.ok) throw new TypeError('the rulebook of the benchmark has errors');
  return checked.rulebook;
}

const people = await run<{ id: string; district: string }>(
  database,
  sql`select id, district from records.people order by id limit 20`,
);
const [middle] = await run<{ id: string; code: string }>(
  database,
  sql`select id, code from records.hives order by id offset 500000 limit 1`,
);
const [between] = await run<{ id: string }>(
  database,
  sql`select id from records.inspections order by id offset 150000 limit 1`,
);

/** A statement as PostgreSQL takes it, with the values of each caller. */
interface Candidate {
  readonly name: string;
  readonly prepared: string;
  readonly text: string;
  readonly values: (caller: { id: string; district: string }) => unknown[];
  readonly times: number[];
}

/** Each statement goes by a name of its own. */
let prepared = 0;

function numbered(statement: Fragment): string {
  let count = 0;
  return statement.text.replaceAll(/\\\?|\?/g, (mark) => (mark === '?' ? `$${++count}` : '?'));
}

const pages = [
  { title: 'first page by id', order: [{ field: 'id', descending: false }], after: null },
  {
    title: 'by code',
    order: [
      { field: 'code', descending: false },
      { field: 'id', descending: false },
    ],
    after: null,
  },
  { title: 'a page in the middle', order: [{ field: 'id', descending: false }], after: 'middle' },
  // What looks into a text is asked only of what the rules let pass, which they are asked twice for.
  { title: 'with a search', order: [{ field: 'id', descending: false }], after: null, search: '7' },
] as const;

function filterOf(page: (typeof pages)[number]): ListQuestion['filter'] {
  if (!('search' in page)) return null;
  const checked = checkFilter(`notes contains "${page.search}"`, 'hives', rulebook);
  if (!checked.ok) throw new TypeError('the search of the benchmark has errors');
  return checked.condition;
}

async function ours(
  question: Question,
  page: (typeof pages)[number],
): Promise<{ candidate: Candidate; form: string }> {
  const listed = (caller: (typeof people)[number]): { access: Access; asked: ListQuestion } => ({
    access: new Access(
      rulebook,
      {
        person: { id: caller.id, values: { ...caller, district: question.place ?? caller.district } },
        roles: new Set([question.role]),
      },
      NOW,
    ),
    asked: {
      collection: question.collection,
      filter: filterOf(page),
      order: page.order,
      after:
        page.after === null ? null : [(question.collection === 'hives' ? middle! : between!).id as Value],
      limit: 51,
    },
  });
  const first = listed(people[0]!);
  const { statement } = await listStatement(database, first.access, first.asked);
  // One that nothing is at risk of is put as sets, though that is not among them.
  const { form } = formulations(first.access, first.asked).find(
    (each) => each.statement.text === statement.text,
  ) ?? { form: 'sets' };
  return {
    form,
    candidate: {
      name: 'ours',
      prepared: `statement_${prepared++}`,
      text: numbered(listSql(first.access, first.asked, form)),
      values: (caller) => {
        const { access, asked } = listed(caller);
        return [...listSql(access, asked, form).values];
      },
      times: [],
    },
  };
}

async function measure(candidates: readonly Candidate[]): Promise<void> {
  for (const candidate of candidates) {
    // PostgreSQL settles on a plan after five times.
    for (const caller of people.slice(0, 6)) {
      const spent = await once(candidate, caller);
      if (spent > SLOW_MS) break;
    }
    candidate.times.length = 0;
  }
  for (let round = 0; round < rounds; round++) {
    // Whoever comes first, or behind one that reads everything, finds the data cold: so the order changes.
    for (const candidate of shuffled(candidates, round)) {
      // What takes seconds is measured often enough to be seen as such.
      if (round > 1 && candidate.times[0]! > SLOW_MS) continue;
      await once(candidate, people[round % people.length]!);
    }
  }
}

function shuffled<T>(items: readonly T[], seed: number): T[] {
  const dice = new Dice(seed);
  const left = [...items];
  return items.map(() => left.splice(dice.between(0, left.length - 1), 1)[0]!);
}

async function once(candidate: Candidate, caller: (typeof people)[number]): Promise<number> {
  if (candidate.name === 'row security') {
    await client.query(`select set_config('app.me', $1, false)`, [caller.id]);
    await client.query('set role bench_reader');
  }
  const values = candidate.values(caller);
  const began = performance.now();
  await client.query({ name: candidate.prepared, text: candidate.text, values });
  const spent = performance.now() - began;
  if (candidate.name === 'row security') await client.query('reset role');
  candidate.times.push(spent);
  return spent;
}

function median(values: readonly number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)]!;
}

console.log(
  `Node ${process.version}, ${cpus().length} × ${cpus()[0]!.model}; medians of ${rounds} rounds, in turns\n`,
);
console.log(
  '| question | page | ours, ms | form | best by hand, ms | which | obvious, ms | row security, ms | ratio |',
);
console.log('|---|---|---|---|---|---|---|---|---|');
for (const question of handwritten()) {
  if (only !== undefined && !question.title.includes(only)) continue;
  await client.query(question.policy);
  for (const page of pages) {
    const hivesOnly = page.title === 'by code' || 'search' in page;
    if (hivesOnly && question.collection !== 'hives') continue;
    const { candidate, form } = await ours(question, page);
    const key = page.title === 'by code' ? 'code, id' : 'id';
    const behind =
      page.after === null ? '' : `and h.id > '${(question.collection === 'hives' ? middle! : between!).id}'`;
    const from = 'search' in page ? `and strpos(h.notes, '${page.search}') > 0` : behind;
    const hand = Object.entries(question.forms).map(([name, write]): Candidate => ({
      name,
      prepared: `statement_${prepared++}`,
      text: write({ key, from }),
      values: (caller) => question.values({ ...caller, district: question.place ?? caller.district }),
      times: [],
    }));
    const candidates = [candidate, ...hand];
    if (plans) {
      const { rows } = await client.query(
        `explain ${candidate.text.replace(/^select/, 'select')}`,
        candidate.values(people[0]!),
      );
      console.log(rows.map((row) => (row as Record<string, string>)['QUERY PLAN']).join('\n'));
    }
    await measure(candidates);
    const timed = hand.map((each) => ({ name: each.name, time: median(each.times) }));
    const written = timed.filter((each) => each.name !== 'row security');
    const best = written.toSorted((a, b) => a.time - b.time)[0]!;
    const of = (name: string) => timed.find((each) => each.name === name)!.time.toFixed(2);
    const mine = median(candidate.times);
    console.log(
      `| ${question.title} | ${page.title} | ${mine.toFixed(2)} | ${form} | ${best.time.toFixed(2)} | ${best.name} | ${of('obvious')} | ${of('row security')} | ${(best.time / mine).toFixed(2)} |`,
    );
  }
}
await client.end();
await database.destroy();
