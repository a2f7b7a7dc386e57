import { sql, value } from '../../core/sql/fragment.ts';
import { identifier, stored } from '../../core/sql/identifiers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { OneByOne } from '../one-by-one.ts';
import { alter, briefly } from './definitions.ts';
import { finish } from './finish.ts';
import { triggerName } from './prepare.ts';

/** One at a time publishes, or tries what would be published, of all processes. */
const publishing = sql`hashtextextended('firmgate publishing', 0)`;

const publishers = new OneByOne(20, 'too many wait to publish');

/**
 * Does the work with the right to publish: in this process one waits for the other without a connection, so that those that wait leave
 * some for whoever works; between processes a lock of the database decides. The transaction holds nothing but that lock. It must ask
 * nothing that would leave it with a view of the past, which an index in the making would wait for.
 */
export async function alonePublishing<T>(
  database: Database,
  work: (transaction: Executor) => Promise<T>,
): Promise<T> {
  return publishers.run(database, () =>
    database.transaction(async (transaction) => {
      await run(transaction, sql`set local idle_in_transaction_session_timeout = 0`);
      await run(transaction, sql`set local statement_timeout = '10min'`);
      await run(transaction, sql`select pg_advisory_xact_lock(${publishing})`);
      return work(transaction);
    }),
  );
}

/** The same where nobody else has the right at this moment; null where somebody has. */
export async function ifNobodyPublishes<T>(database: Database, work: () => Promise<T>): Promise<T | null> {
  return database.transaction(async (transaction) => {
    await run(transaction, sql`set local idle_in_transaction_session_timeout = 0`);
    const [row] = await run<{ got: boolean }>(
      transaction,
      sql`select pg_try_advisory_xact_lock(${publishing}) as got`,
    );
    return row!.got ? work() : null;
  });
}

/** Takes away what a publication has prepared that did not come into force. Whoever calls holds the lock of publishing. */
export async function cleanUp(database: Database): Promise<void> {
  const rows = await run<{ kind: 'table' | 'column' | 'index'; relation: string; name: string }>(
    database,
    sql`select kind, relation, name from gate.prepared order by begun_at desc, kind, relation, name`,
  );
  // References between new tables stand in the way of dropping them one by one.
  for (const each of rows.toSorted((a, b) => order.indexOf(a.kind) - order.indexOf(b.kind))) {
    await briefly(database, async (on) => {
      const { kind, relation, name } = each;
      if (kind === 'table') await run(on, sql`drop table if exists ${stored(relation)} cascade`);
      else if (await isThere(on, relation)) {
        if (kind === 'index') await dropIndex(on, relation, name);
        else await dropColumn(on, relation, name);
      }
      await run(
        on,
        sql`delete from gate.prepared where kind = ${value(kind)} and relation = ${value(relation)} and name = ${value(name)}`,
      );
    });
  }
  if (rows.length > 0) await run(database, sql`delete from gate.misfits`);
}

const order = ['index', 'column', 'table'];

async function isThere(on: Executor, table: string): Promise<boolean> {
  return (
    (await run(on, sql`select 1 where to_regclass(${value(stored(table).text)}) is not null`)).length > 0
  );
}

async function dropColumn(on: Executor, table: string, column: string): Promise<void> {
  const trigger = identifier(triggerName(table, column));
  await run(on, sql`drop trigger if exists ${trigger} on ${stored(table)}`);
  await run(on, sql`drop function if exists gate.${trigger}()`);
  await alter(on, table, sql`drop column if exists ${identifier(column)} cascade`);
}

/** An index that a constraint has become is in force. */
async function dropIndex(on: Executor, table: string, name: string): Promise<void> {
  const held = await run(
    on,
    sql`select 1 from pg_constraint where conname = ${value(name)} and conrelid = to_regclass(${value(stored(table).text)})`,
  );
  if (held.length === 0) await run(on, sql`drop index if exists ${stored(name)}`);
}

/**
 * At a start: what a publication left behind that was ended in the middle is taken away, or where it came into force, ended. Nothing is
 * done while somebody publishes.
 */
export async function resume(database: Database): Promise<void> {
  await ifNobodyPublishes(database, async () => {
    await cleanUp(database);
    await finish(database);
  });
}
