import { kindsFor, violationOf, type Violation } from '../core/analysis/violations.ts';
import type { Caller } from '../core/decide/caller.ts';
import { Decider } from '../core/evaluate/decider.ts';
import type { Invariant, Rulebook } from '../core/ir/rulebook.ts';
import { Access } from '../core/sql/access.ts';
import { classesSql } from '../core/sql/counting.ts';
import { sql, value } from '../core/sql/fragment.ts';
import { column } from '../core/sql/identifiers.ts';
import { relation } from '../core/sql/relations.ts';
import { collectionOf } from '../core/types/schema.ts';
import { run, type Executor } from './connection.ts';
import { LoadedWorld, TooMuchToLoad } from './world.ts';

/** A step of a caller, on a record that there is, of which an invariant is not true. */
export interface Refuting extends Violation {
  /** The record that it is done to; null: one that is made. */
  readonly record: string | null;
}

/** What was found, and what was not covered; null: everything was. */
export interface AskedOfCaller {
  readonly found: Refuting | null;
  readonly notCovered: string | null;
  /** They can do what the invariant speaks of to none of the records: of them nothing is learned. */
  readonly idle: boolean;
}

/** Collections of at most so many records are gone through one by one. */
const EVERY_RECORD = 300;

/**
 * Looks for a step of this caller, over the records that there are, of which the invariant is not true. Records are told
 * apart by all the conditions that matter, in the database, and one of each kind is asked of the closures. Cost: one pass over
 * the collection.
 */
export async function askOfCaller(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  invariant: Invariant,
): Promise<AskedOfCaller> {
  const { collection, operation } = invariant;
  if (operation === 'create') return look(on, rulebook, caller, now, invariant, [null], null);
  const [count] = await run<{ count: number }>(
    on,
    sql`select count(*) as count from (select 1 from ${relation(rulebook.schema, collection)} as r limit ${value(EVERY_RECORD + 1)}::bigint) as found`,
  );
  if (count!.count <= EVERY_RECORD) {
    // In the order in which people know them, so that the same one is named each time.
    const label = column('r', collectionOf(rulebook.schema, collection).label ?? 'id');
    const all = await run<{ id: string }>(
      on,
      sql`select r.id from ${relation(rulebook.schema, collection)} as r order by ${label}::text collate "C", r.id`,
    );
    return look(
      on,
      rulebook,
      caller,
      now,
      invariant,
      all.map(({ id }) => id),
      null,
    );
  }
  const { common, own, complete } = kindsFor(rulebook, invariant, caller, now);
  const access = new Access(rulebook, caller, now);
  const classes = await run<{ examples: string[] }>(
    on,
    classesSql(access, collection, [], common, own, false),
  );
  const ids = [...new Set(classes.flatMap(({ examples }) => examples))];
  const rest = complete
    ? null
    : `of ${collection} ${ids.length} records were looked at that stand for the others, which may differ from them`;
  return look(on, rulebook, caller, now, invariant, ids, rest);
}

async function look(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  invariant: Invariant,
  ids: readonly (string | null)[],
  rest: string | null,
): Promise<AskedOfCaller> {
  const world = new LoadedWorld(on, rulebook);
  await world.fetch(
    invariant.collection,
    ids.filter((id) => id !== null),
  );
  try {
    return await world.run(now, (loaded): AskedOfCaller => {
      const decider = new Decider(rulebook, caller, loaded);
      let [open, able] = [rest, false];
      for (const id of ids) {
        const record = id === null ? null : loaded.look(invariant.collection, id);
        if (id !== null && record === null) continue;
        const { violation, ...looked } = violationOf(decider, invariant, record);
        if (violation !== null) return { found: { ...violation, record: id }, notCovered: null, idle: false };
        able ||= looked.able;
        if (!looked.complete) open ??= 'not every request was tried that could come out differently';
      }
      return { found: null, notCovered: open, idle: open === null && !able };
    });
  } catch (error) {
    if (!(error instanceof TooMuchToLoad)) throw error;
    return { found: null, notCovered: error.message, idle: false };
  }
}
