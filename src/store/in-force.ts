import type { Rulebook } from '../core/ir/rulebook.ts';
import { sql, type Fragment } from '../core/sql/fragment.ts';
import { run, type Executor, type Reader } from './connection.ts';
import { DatabaseUnavailable } from './failures.ts';

/** Another version of the rulebook is in force than the one that was asked by: ask again by that one. */
export class OtherRules extends DatabaseUnavailable {
  readonly version: number | null;

  constructor(version: number | null) {
    super('other rules are in force');
    this.version = version;
  }
}

/**
 * Holds whatever version is in force until the transaction ends: no other one takes its place meanwhile. The first thing that a
 * transaction does, since the lock of a table is the one thing that can be had before it has seen anything. Many hold it at once.
 */
export async function holdRules(on: Executor): Promise<void> {
  await run(on, holdingRules);
}

export const holdingRules = sql`lock table gate.rulebooks in row share mode`;

/**
 * The same for a transaction of a few statements in one trip, each of which sees what was committed before it: it is a lock that needs no
 * `begin`. Whoever publishes takes both.
 */
export const holdingForOne = sql`select pg_advisory_xact_lock_shared(${rulesKey()})`;

/** Waits until nobody holds the rules, and lets nobody hold them until the transaction ends. */
export async function takeRules(on: Executor): Promise<void> {
  await run(on, sql`lock table gate.rulebooks in exclusive mode`);
  await run(on, sql`select pg_advisory_xact_lock(${rulesKey()})`);
}

function rulesKey(): Fragment {
  return sql`hashtextextended('firmgate rules in force', 0)`;
}

/** The same for a change that is made by one version. Throws `OtherRules` where it is not in force any more. */
export async function holdTheseRules(on: Executor, rulebook: Pick<Rulebook, 'version'>): Promise<void> {
  await holdRules(on);
  await assureInForce(on, rulebook);
}

/** Throws `OtherRules` where another version than this is in force. Of a draft nothing is asked. */
export async function assureInForce(on: Reader, { version }: Pick<Rulebook, 'version'>): Promise<void> {
  if (version === null) return;
  const [row] = await run<{ version: number | null }>(
    on,
    sql`select max(version) as version from gate.rulebooks`,
  );
  if (row!.version !== version) throw new OtherRules(row!.version);
}

/**
 * The rows of a statement that gives none where its version is not in force (`inForceSql`): where there are none, it is asked which
 * it was. Versions only grow, so one that is in force still was so for the statement, too.
 */
export async function trusted<Row>(
  on: Reader,
  rulebook: Pick<Rulebook, 'version'>,
  rows: readonly Row[],
  isNothing = rows.length === 0,
): Promise<readonly Row[]> {
  if (isNothing) await assureInForce(on, rulebook);
  return rows;
}
