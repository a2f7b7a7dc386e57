import { hash } from 'node:crypto';
import { sql, value } from '../core/sql/fragment.ts';
import { run, type Database } from './connection.ts';

/** What is counted, so that the same address can be counted for several things. */
export type Attempted = 'sign in by address' | 'sign in at account' | 'learn by rehearsal';

export interface Attempts {
  readonly tries: number;
  /** When they are forgotten. */
  readonly ends: Date;
}

/** Old ones that are taken away with each new one at most. */
const SWEPT = 20;

/** Counts one try more, for all processes together, and answers how many there were within the time. Cost: one statement. */
export async function countAttempt(
  database: Database,
  kind: Attempted,
  key: string,
  milliseconds: number,
): Promise<Attempts> {
  const digest = digestOf(key);
  const ends = sql`now() + make_interval(secs => ${value(milliseconds / 1_000)}::double precision)`;
  const [row] = await run<{ tries: number; ends: number }>(
    database,
    sql`with old as (
        delete from gate.attempts where (kind, digest) in (
          select kind, digest from gate.attempts where ends < now() and (kind, digest) <> (${value(kind)}, ${digest})
          order by ends limit ${value(SWEPT)}::integer for update skip locked)
      )
      insert into gate.attempts as a (kind, digest, tries, ends) values (${value(kind)}, ${digest}, 1, ${ends})
      on conflict (kind, digest) do update set
        tries = case when a.ends < now() then 1 else a.tries + 1 end,
        ends = case when a.ends < now() then excluded.ends else a.ends end
      returning a.tries, extract(epoch from a.ends)::double precision as ends`,
  );
  return { tries: row!.tries, ends: new Date(row!.ends * 1_000) };
}

/** Takes one back: it was none of those that count. */
export async function forgetAttempt(database: Database, kind: Attempted, key: string): Promise<void> {
  await run(
    database,
    sql`update gate.attempts set tries = greatest(tries - 1, 0) where kind = ${value(kind)} and digest = ${digestOf(key)}`,
  );
}

/** Begins anew. */
export async function forgetAttempts(database: Database, kind: Attempted, key: string): Promise<void> {
  await run(
    database,
    sql`delete from gate.attempts where kind = ${value(kind)} and digest = ${digestOf(key)}`,
  );
}

function digestOf(key: string) {
  return sql`decode(${value(hash('sha256', key, 'hex'))}, 'hex')`;
}
