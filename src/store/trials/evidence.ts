import { actionGrants, grantsFor, type Asked, type Grants } from '../../core/evaluate/combine.ts';
import { actionKey, type Action, type Rule } from '../../core/ir/rulebook.ts';
import type { RecordValues } from '../../core/evaluate/caller.ts';
import type { Access } from '../../core/sql/access.ts';
import { commaList, sql, value } from '../../core/sql/fragment.ts';
import { column, table } from '../../core/sql/identifiers.ts';
import {
  createFlagsSql,
  recordFlagsSql,
  updateFlagsSql,
  type Questions,
  type RuleFlags,
} from '../../core/sql/writes.ts';
import type { Evidence, EvidenceQuestion } from '../../core/trial/port.ts';
import type { Truth } from '../../core/types/truth.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { valuesSet } from '../records/act.ts';
import { stampValues } from '../records/stamps.ts';

/** What each rule that could have applied says of one record, with unknown told from false: for explaining. */
export async function gatherEvidence(
  on: Executor,
  access: Access,
  question: EvidenceQuestion,
): Promise<Evidence[]> {
  const { operation, collection } = question;
  const { rulebook, caller } = access;
  const action = rulebook.actions.get(actionKey(collection, operation)) ?? null;
  const own = grantsFor(rulebook, caller, collection, operation);
  // A fence on fields that are not in question had no part in it.
  const fields = [...question.values.keys(), ...(question.fields ?? [])];
  const concerned = own.fences.filter((fence) => {
    const about = fence.operations.get(operation) ?? null;
    return about === null || fields.some((field) => about.has(field));
  });
  const asked: [Asked, Grants][] = [...own.rules, ...concerned].map((each) => [each, own]);
  if (action !== null) {
    const { updating } = actionGrants(rulebook, caller, action);
    asked.push(...updating.fences.map((fence): [Asked, Grants] => [fence, updating]));
  }
  const evidence: Evidence[] = [];
  for (const [each, { roles }] of asked) {
    const flags = await flagsOf(on, access, question, action, { asked: [each], roles });
    const [row] = await run<{ before_0?: Truth; after_0?: Truth }>(on, flags.statement);
    if (row === undefined) continue;
    evidence.push({
      rule: each.id,
      sentence: each.text,
      fields: [...(each.operations.get(operation) ?? [])],
      ...(row.before_0 === undefined ? {} : { before: row.before_0 }),
      ...(row.after_0 === undefined ? {} : { after: row.after_0 }),
    });
  }
  return evidence;
}

async function flagsOf(
  on: Executor,
  access: Access,
  { operation, collection, id, values }: EvidenceQuestion,
  action: Action | null,
  questions: Questions,
): Promise<RuleFlags> {
  const [asked] = questions.asked;
  const stamps = 'stamps' in asked! ? await stampValues(on, access, (asked as Rule).stamps) : new Map();
  if (id === null) {
    const record = newRecord(access, collection, values, stamps);
    return createFlagsSql(access, questions, collection, record, 'exact');
  }
  if (operation === 'read' || operation === 'delete')
    return recordFlagsSql(access, questions, collection, id, 'exact');
  const changes = action === null ? values : await valuesSet(on, access, action, values);
  return updateFlagsSql(access, questions, collection, id, new Map([...changes, ...stamps]), 'exact');
}

function newRecord(
  access: Access,
  collection: string,
  values: ReadonlyMap<string, Value>,
  stamps: ReadonlyMap<string, Value>,
): ReadonlyMap<string, Value> {
  const record = new Map<string, Value>();
  for (const field of collectionOf(access.rulebook.schema, collection).fields.values()) {
    const standard = field.default?.kind === 'value' ? field.default.value : null;
    record.set(field.name, values.get(field.name) ?? standard);
  }
  return new Map([...record, ...stamps]);
}

/** A record with full sight. Never for an answer to a caller. */
export async function fullRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
): Promise<RecordValues | null> {
  const fields = [...collectionOf(access.rulebook.schema, collection).fields.keys()];
  const [row] = await run<Record<string, Value>>(
    on,
    sql`select ${commaList(fields.map((field) => column('r', field)))} from ${table(collection)} as r where r.id = ${value(id)}::uuid`,
  );
  return row ?? null;
}
