import { actionGrants, promotesItself, recordFences } from '../../core/evaluate/combine.ts';
import type { Action } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { asking, updateFlagsSql } from '../../core/sql/writes.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import type { Executor } from '../connection.ts';
import { refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { lockRecord } from './read.ts';
import { settle } from './settle.ts';
import { fixedValue } from './stamps.ts';
import { applyChange, type Precondition } from './update.ts';
import { needsSerializable, truthOf, unreadableReferences, writing, type Supplied } from './writing.ts';

/**
 * Carries out an action of the application's own. In this order, the first failure answering alone: the record is
 * readable, the precondition, nobody promotes themself, references that are given can be read, one rule is true on both
 * sides and every fence passed. `given` holds the parameters, each of its type.
 */
export async function actOn(
  on: Executor,
  access: Access,
  action: Action,
  id: string,
  given: Supplied,
  precondition: Precondition = () => true,
): Promise<Outcome<VisibleRecord | null>> {
  const { collection, parameters, sets } = action;
  const { own, updating } = actionGrants(access.rulebook, access.caller, action);
  const serializable = needsSerializable(access, collection, [action.name, 'update'], given, parameters);

  return writing(on, collection, new Map(), serializable, async (transaction) => {
    const before = await lockRecord(transaction, access, collection, id);
    if (before === null) return refuse({ kind: 'not found' });
    if (!precondition(before)) return refuse({ kind: 'changed meanwhile' });
    if (own.rules.length === 0) return refuse({ kind: 'not allowed', fields: [] });
    const chosen = [...sets].filter(([, value]) => value.kind === 'parameter').map(([field]) => field);
    if (promotesItself(access.rulebook, access.caller, collection, id, chosen).length > 0)
      return refuse({ kind: 'not allowed', fields: [] });
    const unreadable = await unreadableReferences(transaction, access, parameters, given);
    if (unreadable.length > 0) return refuse({ kind: 'reference not found', fields: unreadable });

    const base = await valuesSet(transaction, access, action, given);
    const settled = await settle(transaction, access, own, action.name, collection, id, base);
    if (settled === null) return refuse({ kind: 'not allowed', fields: [] });
    const flags = updateFlagsSql(access, asking(updating), collection, id, settled.changes);
    const passes = await truthOf(transaction, flags, ['before', 'after']);
    const allowed =
      own.rules.some(settled.holds) &&
      recordFences(own, action.name).every(settled.holds) &&
      updating.fences.every(passes);
    if (!allowed) return refuse({ kind: 'not allowed', fields: [] });
    const definition = collectionOf(access.rulebook.schema, collection);
    return applyChange(transaction, access, definition, id, settled.changes);
  });
}

/** What the action sets, by field. A parameter that is not given is missing. */
export async function valuesSet(
  on: Executor,
  access: Access,
  { sets }: Action,
  given: Supplied,
): Promise<Map<string, Value>> {
  const values = new Map<string, Value>();
  for (const [field, value] of sets) {
    switch (value.kind) {
      case 'missing':
        values.set(field, null);
        break;
      case 'parameter':
        values.set(field, given.get(value.name) ?? null);
        break;
      case 'value':
        values.set(field, await fixedValue(on, access, value.operand));
    }
  }
  return values;
}
