import { compilePredicate, evaluateOperand, type Circumstances } from '../../core/evaluate/closures.ts';
import { rulesFor } from '../../core/evaluate/combine.ts';
import type { RecordValues } from '../../core/evaluate/caller.ts';
import { operandsOf } from '../../core/ir/conditions.ts';
import type { Rule } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { commaList, sql, value } from '../../core/sql/fragment.ts';
import { column, table } from '../../core/sql/identifiers.ts';
import type { Evidence, EvidenceQuestion } from '../../core/trial/port.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';

/** What each rule that could have applied says of one record, by the closures: for explaining, not for deciding. */
export async function gatherEvidence(
  on: Executor,
  access: Access,
  question: EvidenceQuestion,
): Promise<Evidence[]> {
  const { operation, collection, id, values } = question;
  const rules = rulesFor(access.rulebook, access.caller, collection, operation);
  const before = id === null ? null : await fullRecord(on, access, collection, id);
  const evidence: Evidence[] = [];
  for (const rule of rules) {
    const covered = [...rule.operations.get(operation)!];
    const common = { rule: rule.id, sentence: rule.text, fields: covered };
    const sees = (record: RecordValues) => decide(on, access, rule, record);
    if (operation === 'create') {
      evidence.push({ ...common, after: await sees(newRecord(access, collection, values, rule)) });
    } else if (before !== null) {
      const truth = await sees(before);
      const after =
        operation === 'update' ? { after: await sees({ ...before, ...Object.fromEntries(values) }) } : {};
      evidence.push({ ...common, before: truth, ...after });
    }
  }
  return evidence;
}

function newRecord(
  access: Access,
  collection: string,
  values: ReadonlyMap<string, Value>,
  rule: Rule,
): RecordValues {
  const record: Record<string, Value> = {};
  for (const field of collectionOf(access.rulebook.schema, collection).fields.values()) {
    record[field.name] =
      values.get(field.name) ?? (field.default?.kind === 'value' ? field.default.value : null);
  }
  const circumstances = { caller: access.caller, now: access.now, look: () => null };
  for (const stamp of rule.stamps) record[stamp.field] = evaluateOperand(stamp.value, circumstances);
  return record;
}

async function decide(on: Executor, access: Access, rule: Rule, record: RecordValues) {
  const known = new Map<string, RecordValues | null>();
  await fetchPaths(on, access, rule, record, known);
  const circumstances: Circumstances = {
    caller: access.caller,
    now: access.now,
    look: (collection, id) => known.get(`${collection}/${id}`) ?? null,
  };
  return compilePredicate(rule.when)(record, circumstances);
}

/** Fetches every record that the paths of a condition come through, so that the closures find them at hand. */
async function fetchPaths(
  on: Executor,
  access: Access,
  rule: Rule,
  record: RecordValues,
  known: Map<string, RecordValues | null>,
) {
  for (const operand of operandsOf(rule.when)) {
    if (operand.kind !== 'path') continue;
    let here: RecordValues | null = operand.root === 'me' ? (access.caller.person?.values ?? null) : record;
    for (const [index, step] of operand.steps.entries()) {
      const next = operand.steps[index + 1];
      const id = here?.[step.field] ?? null;
      if (next === undefined || id === null) break;
      const key = `${next.collection}/${id as string}`;
      if (!known.has(key)) known.set(key, await fullRecord(on, access, next.collection, id as string));
      here = known.get(key)!;
    }
  }
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
