import { allowsSupplied, grantsFor, promotesItself, uncoveredByName } from '../../core/evaluate/combine.ts';
import type { Access } from '../../core/sql/access.ts';
import { updateSql } from '../../core/sql/writes.ts';
import { collectionOf, type Collection } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { done, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { lockRecord, readRecord } from './read.ts';
import { closesCircle, settle } from './settle.ts';
import { needsSerializable, unreadableReferences, writing, type Supplied } from './writing.ts';

/** Is the record still the one that the caller speaks of (If-Match)? Asked of what this caller sees. */
export type Precondition = (seen: VisibleRecord) => boolean;

/**
 * Changes a record. In this order, the first failure answering alone: readable, precondition, fields that no rule
 * takes, references that the caller cannot read, a rule true for the record as it is and as it would be, a value
 * taken. Answers the record as the caller sees it now; null where the change took it out of their sight.
 */
export async function updateRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  supplied: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const names = [...supplied.keys()];
  const grants = grantsFor(access.rulebook, access.caller, collection, 'update');
  const definition = collectionOf(access.rulebook.schema, collection);
  const serializable = needsSerializable(access, collection, ['update'], supplied);

  return writing(on, collection, supplied, serializable, async (transaction) => {
    const before = await lockRecord(transaction, access, collection, id);
    if (before === null) return refuse({ kind: 'not found' });
    if (!precondition(before)) return refuse({ kind: 'changed meanwhile' });
    const uncovered = uncoveredByName(grants, 'update', names);
    uncovered.push(...promotesItself(access.rulebook, access.caller, collection, id, names));
    if (uncovered.length > 0) return refuse({ kind: 'fields not covered', fields: [...new Set(uncovered)] });
    const unreadable = await unreadableReferences(transaction, access, definition.fields, supplied);
    if (unreadable.length > 0) return refuse({ kind: 'reference not found', fields: unreadable });

    const settled = await settle(transaction, access, grants, 'update', collection, id, supplied);
    if (settled === null) return refuse({ kind: 'not allowed', fields: [] });
    const { allowed, refused } = allowsSupplied(grants, 'update', names, settled.holds);
    if (!allowed) return refuse({ kind: 'not allowed', fields: refused });
    return applyChange(transaction, access, definition, id, settled.changes);
  });
}

/** Writes a change that has been allowed; answers the record as the caller sees it then. */
export async function applyChange(
  on: Executor,
  access: Access,
  definition: Collection,
  id: string,
  changes: ReadonlyMap<string, Value>,
): Promise<Outcome<VisibleRecord | null>> {
  const collection = definition.name;
  const empty = [...changes].filter(
    ([field, value]) => value === null && definition.fields.get(field)!.required,
  );
  if (empty.length > 0) return refuse({ kind: 'value required', fields: empty.map(([field]) => field) });
  if (await closesCircle(on, access, collection, id, changes))
    return refuse({ kind: 'would close a circle', fields: [definition.tree!] });
  if (changes.size > 0) await run(on, updateSql(definition, id, changes));
  return done(await readRecord(on, access, collection, id));
}
