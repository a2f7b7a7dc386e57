import type { Passage, Version } from '../../core/passage/passage.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { sql } from '../../core/sql/fragment.ts';
import { stored } from '../../core/sql/identifiers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { assureInForce } from '../in-force.ts';
import { passageFor } from './aside.ts';
import { alonePublishing, cleanUp } from './clean.ts';
import { followNames } from './follow.ts';
import { prepare, withoutTriggers } from './prepare.ts';

/** A rulebook that is tried, and what its transactions begin with. */
export interface Tried {
  readonly rulebook: Rulebook;
  /** Takes what names stand for over to the draft, in a transaction that is taken back. */
  readonly enter: (on: Executor) => Promise<void>;
  /** What could not be tried, in sentences. */
  readonly left: readonly string[];
  /** How it comes about from what is in force; null: it is that. */
  readonly passage: Passage | null;
}

/** Records of one collection for which values are made to try a draft. */
const MOST_MADE = 200_000;

/**
 * Tries a draft. Where its collections are those in force that is all; otherwise what it needs is prepared, as for publishing, beside
 * what is in use, and taken away afterwards, whatever comes of it. Throws `PublishRefused` where records stand in its way, and where
 * values of too many would have to be made.
 */
export async function trying<T>(
  database: Database,
  before: Version,
  draft: Rulebook,
  work: (tried: Tried) => Promise<T>,
): Promise<T> {
  const passage = await passageFor(database, before, draft);
  if (passage.problems.length > 0) throw new PublishRefused(passage.problems);
  const enter = async (on: Executor) => {
    await withoutTriggers(on);
    await followNames(on, passage, before.rulebook);
  };
  if (!needsPreparing(passage)) return work({ rulebook: passage.present, enter, left: [], passage });
  await refuseTooMany(database, passage);
  return alonePublishing(database, async () => {
    // Whoever published while this waited has made another step of it.
    await assureInForce(database, before.rulebook);
    await cleanUp(database);
    try {
      await prepare(database, passage, before.rulebook.schema, { indexes: false, named: false });
      return await work({ rulebook: passage.final, enter, left: [untried], passage });
    } finally {
      await cleanUp(database);
    }
  });
}

const untried =
  'the collections are not those in force: whether a value that is new there is unique was not tried';

function needsPreparing({ fields, collections }: Passage): boolean {
  return collections.some(({ was }) => was === null) || fields.some(({ was, made }) => was === null || made);
}

async function refuseTooMany(on: Executor, { fields, collections }: Passage): Promise<void> {
  for (const { name, table, was } of collections) {
    if (was === null || !fields.some(({ collection, made }) => collection === name && made)) continue;
    const [row] = await run<{ count: number }>(
      on,
      sql`select count(*) as count from (select 1 from ${stored(table)} limit ${{ text: String(MOST_MADE + 1), values: [] }}) as found`,
    );
    if (row!.count > MOST_MADE)
      throw new PublishRefused([
        `${name} has more than ${MOST_MADE} records, whose values would have to be made to try this: publishing makes them, and tries the trials before it is in force`,
      ]);
  }
}
