import { fieldFences, grantsFor, recordFences } from '../../core/evaluate/combine.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { sql } from '../../core/sql/fragment.ts';
import { clearSql, deleteSql, referrersSql, stoppedSql } from '../../core/sql/writes.ts';
import type { Field } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';

/** Records that one delete may take along: more than that is a job for the application, piece by piece. */
const MOST_AFFECTED = 10_000;

/** Does the rulebook let anything be taken along when a record is deleted? */
export function takesAlong(rulebook: Rulebook): boolean {
  return [...rulebook.schema.values()].some((each) => [...each.fields.values()].some(isFollowed));
}

/**
 * Deletes a record, and what `on delete` says of those that point at it, over any number of steps. No grants are asked
 * for on those records, but every fence on them must let the caller do what happens to them. Answers whether it was
 * possible; where it was not, the transaction must be given up.
 */
export async function deleteWithReferrers(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
): Promise<boolean> {
  const plan = new Plan();
  plan.removed.set(collection, new Set([id]));
  const queue = [{ collection, ids: [id] }];
  for (const target of queue) {
    for (const { holder, field } of referrersOf(access.rulebook, target.collection)) {
      const rows = await run<{ id: string }>(
        on,
        referrersSql(holder, field.name, target.ids, MOST_AFFECTED + 1),
      );
      const known = plan.removed.get(holder) ?? new Set<string>();
      const ids = rows.map((row) => row.id).filter((each) => !known.has(each));
      if (ids.length === 0) continue;
      if ((plan.affected += ids.length) > MOST_AFFECTED) return false;
      if (!(await passFences(on, access, holder, field, ids))) return false;
      if (field.onDelete === 'clear') {
        plan.cleared.push({ collection: holder, field: field.name, ids, targets: target.ids });
      } else {
        plan.removed.set(holder, new Set([...known, ...ids]));
        queue.push({ collection: holder, ids });
      }
    }
  }
  // Records that go together may point at each other in any order.
  if (plan.affected > 0) await run(on, sql`set constraints all deferred`);
  for (const { collection: holder, field, ids, targets } of plan.cleared)
    await run(on, clearSql(holder, field, ids, targets, access.now));
  for (const [holder, ids] of [...plan.removed].toReversed()) await run(on, deleteSql(holder, [...ids]));
  if (plan.affected > 0) await run(on, sql`set constraints all immediate`);
  return true;
}

class Plan {
  affected = 0;
  readonly removed = new Map<string, Set<string>>();
  readonly cleared: {
    collection: string;
    field: string;
    ids: readonly string[];
    targets: readonly string[];
  }[] = [];
}

function referrersOf(rulebook: Rulebook, target: string): { holder: string; field: Field }[] {
  return [...rulebook.schema.values()].flatMap((collection) =>
    [...collection.fields.values()]
      .filter((field) => isFollowed(field) && field.type.kind === 'ref' && field.type.collection === target)
      .map((field) => ({ holder: collection.name, field })),
  );
}

function isFollowed(field: Field): boolean {
  return field.onDelete !== 'refuse';
}

/** A read fence hides the record from whatever would change it, so it counts, too. */
async function passFences(
  on: Executor,
  access: Access,
  collection: string,
  field: Field,
  ids: readonly string[],
): Promise<boolean> {
  const clearing = field.onDelete === 'clear';
  const operation = clearing ? 'update' : 'delete';
  const changes = clearing ? new Map([[field.name, null]]) : null;
  const reading = grantsFor(access.rulebook, access.caller, collection, 'read');
  const writing = grantsFor(access.rulebook, access.caller, collection, operation);
  const questions = [
    { asked: recordFences(reading, 'read'), roles: reading.roles, changes: null },
    {
      asked: [...recordFences(writing, operation), ...fieldFences(writing, operation, field.name)],
      roles: writing.roles,
      changes,
    },
  ];
  for (const { asked, roles, changes: change } of questions) {
    if (asked.length === 0) continue;
    const [row] = await run<{ count: number }>(
      on,
      stoppedSql(access, { asked, roles }, collection, ids, change),
    );
    if (row!.count > 0) return false;
  }
  return true;
}
