import { evaluateOperand } from '../../core/evaluate/closures.ts';
import { grantsFor, type Asked } from '../../core/evaluate/combine.ts';
import type { RecordValues } from '../../core/evaluate/caller.ts';
import type { Access } from '../../core/sql/access.ts';
import { commaList, sql, value } from '../../core/sql/fragment.ts';
import { column, table } from '../../core/sql/identifiers.ts';
import { createFlagsSql, recordFlagsSql, updateFlagsSql, type RuleFlags } from '../../core/sql/writes.ts';
import type { Evidence, EvidenceQuestion } from '../../core/trial/port.ts';
import type { Truth } from '../../core/types/truth.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';

/** What each rule that could have applied says of one record, with unknown told from false: for explaining. */
export async function gatherEvidence(
  on: Executor,
  access: Access,
  question: EvidenceQuestion,
): Promise<Evidence[]> {
  const { operation, collection } = question;
  const { rules, fences } = grantsFor(access.rulebook, access.caller, collection, operation);
  // A fence on fields that are not in question had no part in it.
  const fields = [...question.values.keys(), ...(question.fields ?? [])];
  const concerned = fences.filter((fence) => {
    const about = fence.operations.get(operation) ?? null;
    return about === null || fields.some((field) => about.has(field));
  });
  const evidence: Evidence[] = [];
  for (const rule of [...rules, ...concerned]) {
    const flags = flagsOf(access, question, rule);
    const [row] = await run<{ before_0?: Truth; after_0?: Truth }>(on, flags.statement);
    if (row === undefined) continue;
    evidence.push({
      rule: rule.id,
      sentence: rule.text,
      fields: [...(rule.operations.get(operation) ?? [])],
      ...(row.before_0 === undefined ? {} : { before: row.before_0 }),
      ...(row.after_0 === undefined ? {} : { after: row.after_0 }),
    });
  }
  return evidence;
}

function flagsOf(
  access: Access,
  { operation, collection, id, values }: EvidenceQuestion,
  rule: Asked,
): RuleFlags {
  if (id === null)
    return createFlagsSql(access, [rule], collection, newRecord(access, collection, values, rule), 'exact');
  return operation === 'update'
    ? updateFlagsSql(access, [rule], collection, id, values, 'exact')
    : recordFlagsSql(access, [rule], collection, id, 'exact');
}

function newRecord(
  access: Access,
  collection: string,
  values: ReadonlyMap<string, Value>,
  rule: Asked,
): ReadonlyMap<string, Value> {
  const record = new Map<string, Value>();
  for (const field of collectionOf(access.rulebook.schema, collection).fields.values()) {
    const standard = field.default?.kind === 'value' ? field.default.value : null;
    record.set(field.name, values.get(field.name) ?? standard);
  }
  const circumstances = {
    caller: access.caller,
    now: access.now,
    look: () => null,
    all: () => [],
    may: () => false,
  };
  for (const stamp of 'stamps' in rule ? rule.stamps : [])
    record.set(stamp.field, evaluateOperand(stamp.value, circumstances));
  return record;
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
