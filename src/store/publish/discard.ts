import { sql, value } from '../../core/sql/fragment.ts';
import { identifier, stored } from '../../core/sql/identifiers.ts';
import { atTheMachine, note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { nameOfAside, everythingAside, type Aside } from './aside.ts';
import { ifNobodyPublishes } from './clean.ts';
import { alter, briefly } from './definitions.ts';

/** Days in which what was discarded can still be kept, where nothing else is said. */
export const DISCARDED_DAYS = 30;

/** Something that is set aside, and how much of it there is. */
export type CountedAside = Aside & {
  readonly name: string;
  /** Records of a collection, or values of a field. */
  readonly count: number;
};

/** What is set aside, the last first. Cost: each is counted, a pass over its table. */
export async function listAside(on: Executor): Promise<CountedAside[]> {
  const counted: CountedAside[] = [];
  for (const each of await everythingAside(on))
    counted.push({ ...each, name: nameOfAside(each), count: await countOf(on, each) });
  return counted;
}

async function countOf(on: Executor, { relation, column }: Aside): Promise<number> {
  const where = column === '' ? sql`` : sql` where ${identifier(column)} is not null`;
  const [row] = await run<{ count: number }>(
    on,
    sql`select count(*) as count from ${stored(relation)}${where}`,
  );
  return row!.count;
}

/**
 * Discards what is set aside under a name, of one version or of all, or keeps it after all. It is dropped when the days that it can be
 * kept in are over: see `dropDiscarded`. Answers what was meant; nothing where there is none such.
 */
export async function discard(
  database: Database,
  { name, version, keep }: { readonly name: string; readonly version: number | null; readonly keep: boolean },
  actor: Actor,
): Promise<CountedAside[]> {
  return database.transaction(async (on) => {
    const found = (await listAside(on)).filter(
      (each) =>
        each.name === name &&
        (version === null || each.version === version) &&
        (each.discarded_at !== null) === keep,
    );
    for (const { relation, column } of found)
      await run(
        on,
        sql`update gate.aside set discarded_at = case when ${value(keep)} then null else now() end, discarded_by = ${value(keep ? null : actor.name)}::text
          where relation = ${value(relation)} and "column" = ${value(column)}`,
      );
    if (found.length > 0)
      await note(on, actor, keep ? 'aside.keep' : 'aside.discard', name, {
        of: found.map((each) => ({ version: each.version, count: each.count })),
      });
    return found;
  });
}

/** Drops for good what was discarded so many days ago. Nothing is done while somebody publishes. Answers the names. */
export async function dropDiscarded(database: Database, days: number): Promise<string[]> {
  const dropped = await ifNobodyPublishes(database, async () => {
    const due = await run<Pick<Aside, 'relation' | 'column' | 'collection' | 'field'>>(
      database,
      sql`select relation, "column", collection, field from gate.aside
        where dropped_at is null and discarded_at <= now() - make_interval(days => ${value(days)}::integer) order by relation, "column" desc`,
    );
    for (const { relation, column, ...named } of due)
      await briefly(database, async (on) => {
        // Somebody may have kept it a moment ago.
        const [still] = await run(
          on,
          sql`update gate.aside set dropped_at = now() where relation = ${value(relation)} and "column" = ${value(column)} and discarded_at is not null and dropped_at is null returning 1`,
        );
        if (still === undefined) return;
        if (column !== '')
          await alter(on, relation, sql`drop column if exists ${identifier(column)} cascade`);
        else {
          await run(on, sql`drop table if exists ${stored(relation)} cascade`);
          await run(
            on,
            sql`update gate.aside set dropped_at = now() where relation = ${value(relation)} and dropped_at is null`,
          );
        }
        await note(on, atTheMachine('the service'), 'aside.drop', nameOfAside(named));
      });
    return due.map(nameOfAside);
  });
  return dropped ?? [];
}
