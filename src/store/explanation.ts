import type { Caller } from '../core/decide/caller.ts';
import { Decider } from '../core/evaluate/decider.ts';
import { explainWhy, type Why } from '../core/explain/why.ts';
import type { Operation, Rulebook } from '../core/ir/rulebook.ts';
import type { Value } from '../core/types/types.ts';
import type { Executor } from './connection.ts';
import { LoadedWorld } from './world.ts';

export interface WhyQuestion {
  readonly operation: Operation;
  readonly collection: string;
  /** Null for a create. */
  readonly id: string | null;
  readonly values: ReadonlyMap<string, Value>;
  /** For a read: the fields in question; none: the record. */
  readonly fields: readonly string[];
  /** The moment; null: now. */
  readonly at: string | null;
}

/** The values that fields of a record have, with full sight; null: no such record. */
export async function currentValues(
  on: Executor,
  rulebook: Rulebook,
  collection: string,
  id: string,
  fields: readonly string[],
): Promise<Map<string, Value> | null> {
  const world = new LoadedWorld(on, rulebook);
  return world.run('', ({ look }) => {
    const record = look(collection, id);
    return record === null ? null : new Map(fields.map((field) => [field, record[field] ?? null]));
  });
}

/** The explanation of one answer by the closures, over records as they are in this transaction; null: no such record. */
export async function explanation(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  { operation, collection, id, values, fields }: WhyQuestion,
  options: { readonly name: string; readonly showSensitive: boolean },
): Promise<Why | null> {
  return new LoadedWorld(on, rulebook).run(now, (world) => {
    const record = id === null ? null : world.look(collection, id);
    if (id !== null && record === null) return null;
    const question = { operation, collection, record, values };
    return explainWhy(new Decider(rulebook, caller, world), question, { ...options, fields });
  });
}
