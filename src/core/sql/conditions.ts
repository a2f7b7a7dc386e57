import type { Caller } from '../evaluate/caller.ts';
import type { Condition, Operand, Step } from '../ir/conditions.ts';
import type { Type } from '../types/types.ts';
import { allOf, anyOf, sql, value, type Fragment, type SqlValue } from './fragment.ts';
import { column, columnType, identifier } from './identifiers.ts';

/**
 * A condition as an SQL expression with exactly Kleene's three values: the other engine beside
 * `core/evaluate/closures.ts`. Every value is bound with a cast, so that PostgreSQL never guesses a type.
 */
export interface Surroundings {
  readonly caller: Caller;
  /** The moment of the request, as a timestamp value. */
  readonly now: string;
  /** The alias under which the record being decided is in scope. */
  readonly alias: string;
  /** Reads a field of the record in scope: plainly in rules, through the caller's mask in filters. */
  readonly field: (alias: string, step: Step) => Fragment;
  /** What a step of a path reads from: the table, or the table as a write would leave it. */
  readonly relation: (collection: string) => Fragment;
  /** What must hold for a step of a path to see the field: nothing in rules, the caller's grants in filters. */
  readonly visible: (alias: string, step: Step) => Fragment | null;
}

export function conditionSql(condition: Condition, around: Surroundings): Fragment {
  switch (condition.kind) {
    case 'constant':
      return condition.value ? sql`true` : sql`false`;
    case 'equal':
      return sql`${operandSql(condition.left, around)} = ${operandSql(condition.right, around)}`;
    case 'less':
      return sql`${orderedSql(condition.left, around)} < ${operandSql(condition.right, around)}`;
    case 'at most':
      return sql`${orderedSql(condition.left, around)} <= ${operandSql(condition.right, around)}`;
    case 'among': {
      const list = condition.values.map((literal) => literal.value);
      const type =
        condition.values.find((literal) => literal.type.kind === 'decimal')?.type ?? condition.operand.type;
      return sql`${operandSql(condition.operand, around)} = any(${typed(list, type)}[])`;
    }
    case 'missing':
      return sql`${operandSql(condition.operand, around)} is null`;
    case 'holds':
      return operandSql(condition.operand, around);
    case 'and':
      return allOf(condition.operands.map((operand) => conditionSql(operand, around)));
    case 'or':
      return anyOf(condition.operands.map((operand) => conditionSql(operand, around)));
    case 'not':
      return sql`not (${conditionSql(condition.operand, around)})`;
  }
}

/** A bound value with the cast of its type. */
export function typed(bound: SqlValue, type: Type): Fragment {
  return sql`${value(bound)}::${columnType(type)}`;
}

/** Texts are ordered by code point wherever they come from, also where neither side is a column of ours. */
function orderedSql(operand: Operand, around: Surroundings): Fragment {
  const plain = operandSql(operand, around);
  return operand.type.kind === 'text' ? sql`${plain} collate "C"` : plain;
}

export function operandSql(operand: Operand, around: Surroundings): Fragment {
  switch (operand.kind) {
    case 'literal':
      return typed(operand.value, operand.type);
    case 'now':
      return typed(around.now, operand.type);
    case 'path': {
      const [first, ...rest] = operand.steps as readonly [Step, ...Step[]];
      let reached: Fragment;
      if (operand.root === 'record') {
        reached = around.field(around.alias, first);
      } else {
        const mine = around.caller.person?.values[first.field] ?? null;
        const type = rest.length === 0 ? operand.type : ({ kind: 'uuid' } as const);
        reached = typed(mine, type);
      }
      for (const [index, step] of rest.entries()) {
        // One alias a depth is enough: each look-up sees only its own.
        const alias = `${around.alias}_${index + 1}`;
        const seen = around.visible(alias, step);
        const condition = sql`${column(alias, 'id')} = ${reached}`;
        const where = seen === null ? condition : allOf([condition, seen]);
        reached = sql`(select ${column(alias, step.field)} from ${around.relation(step.collection)} as ${identifier(alias)} where ${where})`;
      }
      return reached;
    }
  }
}
