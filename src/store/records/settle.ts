import { stampers, type Grants, type Holds } from '../../core/evaluate/combine.ts';
import type { Operation } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { asking, updateFlagsSql } from '../../core/sql/writes.ts';
import type { Value } from '../../core/types/types.ts';
import { collectionOf } from '../../core/types/schema.ts';
import { leadsUpSql } from '../../core/sql/conditions.ts';
import { run, type Executor } from '../connection.ts';
import { joinedStamps } from './stamps.ts';
import { truthOf } from './writing.ts';

/** A change with everything that it brings along, and which rules are true on both sides of it. */
export interface Settled {
  readonly changes: ReadonlyMap<string, Value>;
  readonly holds: Holds;
}

/**
 * Works out the stamps of a change. A rule's stamps are set only where the rule is true on both sides, its own stamps
 * among what changes; so those that turn out not to be are left out, until all that remain are true.
 * Null where two rules stamp the same field with different values, or one that the change sets itself.
 * Cost: one statement; one more for each round where rules stamp.
 */
export async function settle(
  on: Executor,
  access: Access,
  grants: Grants,
  operation: Operation,
  collection: string,
  id: string,
  base: ReadonlyMap<string, Value>,
): Promise<Settled | null> {
  let stamping = stampers(grants, operation, [...base.keys()]);
  if (stamping.length > 0) {
    const questions = { asked: stamping, roles: grants.roles };
    const before = updateFlagsSql(access, questions, collection, id, base);
    const holds = await truthOf(on, before, ['before']);
    stamping = stamping.filter(holds);
  }
  for (;;) {
    const stamps = await joinedStamps(on, access, collection, stamping);
    if (stamps === null || [...stamps.keys()].some((field) => base.has(field))) return null;
    const changes = new Map<string, Value>([...base, ...stamps]);
    if (changes.size > 0) changes.set('updated_at', access.now);
    const flags = updateFlagsSql(access, asking(grants), collection, id, changes);
    const holds = await truthOf(on, flags, ['before', 'after']);
    const real = stamping.filter(holds);
    if (real.length === stamping.length) return { changes, holds };
    stamping = real;
  }
}

/** Does the change put a record of a tree below itself? */
export async function closesCircle(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  changes: ReadonlyMap<string, Value>,
): Promise<boolean> {
  const { tree } = collectionOf(access.rulebook.schema, collection);
  const parent = tree === null ? null : (changes.get(tree) ?? null);
  if (tree === null || parent === null) return false;
  const [row] = await run<{ found: boolean }>(on, leadsUpSql(collection, tree, parent as string, id));
  return row!.found;
}
