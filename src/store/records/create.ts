import { v7 as uuid } from 'uuid';
import {
  allowsSupplied,
  createGroups,
  refusedByName,
  grantsFor,
  type CreateGroup,
} from '../../core/evaluate/combine.ts';
import type { Access } from '../../core/sql/access.ts';
import { asking, createFlagsSql, insertSql } from '../../core/sql/writes.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { done, refuse, type Outcome, type VisibleRecord } from './outcome.ts';
import { readRecord } from './read.ts';
import { stampValues } from './stamps.ts';
import { needsSerializable, truthOf, unreadableReferences, writing, type Supplied } from './writing.ts';

/** A record that was made; null where the caller may make it and may not read it. */
export interface Created {
  readonly id: string;
  readonly record: VisibleRecord | null;
}

/**
 * Makes a record. In this order, the first failure answering alone: fields that no rule takes, references that the
 * caller cannot read, no rule that is true, a required field left empty, a value taken.
 */
export async function createRecord(
  on: Executor,
  access: Access,
  collection: string,
  supplied: Supplied,
): Promise<Outcome<Created>> {
  const names = [...supplied.keys()];
  const grants = grantsFor(access.rulebook, access.caller, collection, 'create');
  const uncovered = refusedByName(grants, names);
  if (uncovered.length > 0) return refuse({ kind: 'fields not covered', fields: uncovered });
  if (grants.rules.length === 0) return refuse({ kind: 'not allowed', fields: [] });
  const definition = collectionOf(access.rulebook.schema, collection);
  const serializable = needsSerializable(access, collection, ['create'], supplied);

  return writing(on, collection, supplied, serializable, async (transaction) => {
    const unreadable = await unreadableReferences(transaction, access, definition.fields, supplied);
    if (unreadable.length > 0) return refuse({ kind: 'reference not found', fields: unreadable });

    const id = uuid();
    const candidates = new Map<string, ReadonlyMap<string, Value>>();
    for (const group of createGroups(grants.rules, names)) {
      const values = await completed(transaction, access, collection, id, supplied, group);
      const holds = await truthOf(
        transaction,
        createFlagsSql(access, asking({ ...grants, rules: group.rules }), collection, values),
        ['after'],
      );
      if (allowsSupplied({ ...grants, rules: group.rules }, 'create', names, holds).allowed)
        candidates.set(JSON.stringify([...values]), values);
    }
    const [values] = candidates.values();
    // Two groups that would make different records leave open which one was meant: neither is made.
    if (values === undefined || candidates.size > 1) return refuse({ kind: 'not allowed', fields: [] });

    const empty = [...definition.fields.values()].filter(
      (field) => field.required && (values.get(field.name) ?? null) === null,
    );
    if (empty.length > 0) return refuse({ kind: 'value required', fields: empty.map((field) => field.name) });
    await run(transaction, insertSql(definition, values));
    return done({ id, record: await readRecord(transaction, access, collection, id) });
  });
}

/** Supplied values, then the group's stamps, then defaults; a field supplied as missing keeps no default. */
async function completed(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
  supplied: Supplied,
  group: CreateGroup,
): Promise<Map<string, Value>> {
  const values = new Map<string, Value>();
  for (const field of collectionOf(access.rulebook.schema, collection).fields.values()) {
    if (field.system) values.set(field.name, field.name === 'id' ? id : access.now);
    else if (supplied.has(field.name)) values.set(field.name, supplied.get(field.name)!);
    else if (field.default !== null)
      values.set(field.name, field.default.kind === 'now' ? access.now : field.default.value);
  }
  for (const [field, value] of await stampValues(on, access, group.stamps)) values.set(field, value);
  return values;
}
