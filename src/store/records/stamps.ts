import { evaluateOperand } from '../../core/evaluate/closures.ts';
import type { Operand } from '../../core/ir/conditions.ts';
import type { Rule, Stamp } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { operandSql } from '../../core/sql/conditions.ts';
import { sql } from '../../core/sql/fragment.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { sameValue } from '../../core/types/values.ts';
import { run, type Executor } from '../connection.ts';

const noRoles: ReadonlySet<string> = new Set();

/** A value that no caller chooses. `me`, `me.FIELD`, `now` and literals are at hand; a path further on is looked up. */
export async function fixedValue(on: Executor, access: Access, operand: Operand): Promise<Value> {
  if (operand.kind !== 'path' || operand.steps.length === 1) {
    return evaluateOperand(operand, {
      caller: access.caller,
      roles: noRoles,
      now: access.now,
      look: () => null,
      all: () => [],
      may: () => false,
    });
  }
  const statement = sql`select ${operandSql(operand, access.around('r', noRoles))} as value`;
  const [row] = await run<{ value: Value }>(on, statement);
  return row!.value;
}

/** The values of stamps, by field. */
export async function stampValues(
  on: Executor,
  access: Access,
  stamps: readonly Stamp[],
): Promise<Map<string, Value>> {
  const values = new Map<string, Value>();
  for (const { field, value } of stamps) values.set(field, await fixedValue(on, access, value));
  return values;
}

/** The stamps of several rules together; null where two of them differ about a field. */
export async function joinedStamps(
  on: Executor,
  access: Access,
  collection: string,
  rules: readonly Rule[],
): Promise<Map<string, Value> | null> {
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const joined = new Map<string, Value>();
  for (const rule of rules) {
    for (const [field, value] of await stampValues(on, access, rule.stamps)) {
      if (joined.has(field) && !sameValue(fields.get(field)!.type, joined.get(field)!, value)) return null;
      joined.set(field, value);
    }
  }
  return joined;
}
