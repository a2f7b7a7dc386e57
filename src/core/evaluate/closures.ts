import type { Condition, Operand, Step } from '../ir/conditions.ts';
import type { Truth } from '../types/truth.ts';
import type { Type, Value } from '../types/types.ts';
import { compareValues } from '../types/values.ts';
import type { Caller, RecordValues } from './caller.ts';

/** What a decision knows beside the record in hand. */
export interface Circumstances {
  readonly caller: Caller;
  /** The moment of the request, as a timestamp value. */
  readonly now: string;
  /** Any record with full sight; null where there is none. */
  readonly look: (collection: string, id: string) => RecordValues | null;
}

/** A condition ready to be asked of a record in hand. Cost: one call for each part, one look for each step of a path. */
export type Predicate = (record: RecordValues, circumstances: Circumstances) => Truth;

type Getter = (record: RecordValues, circumstances: Circumstances) => Value;

/**
 * A condition as a closure: one of the two engines; `core/sql/conditions.ts` is the other.
 * Both follow Kleene's logic to the letter and are held together by test/agreement.
 */
export function compilePredicate(condition: Condition): Predicate {
  switch (condition.kind) {
    case 'constant': {
      const { value } = condition;
      return () => value;
    }
    case 'equal':
      return compileComparison(condition.left, condition.right, (order) => order === 0);
    case 'less':
      return compileComparison(condition.left, condition.right, (order) => order < 0);
    case 'at most':
      return compileComparison(condition.left, condition.right, (order) => order <= 0);
    case 'among': {
      const get = compileOperand(condition.operand);
      const kind = comparisonKind(condition.operand.type, condition.values);
      const values = condition.values.map((literal) => literal.value);
      return (record, circumstances) => {
        const value = get(record, circumstances);
        return value === null ? null : values.some((each) => compareValues(kind, value, each) === 0);
      };
    }
    case 'missing': {
      const get = compileOperand(condition.operand);
      return (record, circumstances) => get(record, circumstances) === null;
    }
    case 'holds': {
      const get = compileOperand(condition.operand);
      return (record, circumstances) => get(record, circumstances) as Truth;
    }
    case 'and':
      return compileChain(condition.operands, false);
    case 'or':
      return compileChain(condition.operands, true);
    case 'not': {
      const inner = compilePredicate(condition.operand);
      return (record, circumstances) => {
        const truth = inner(record, circumstances);
        return truth === null ? null : !truth;
      };
    }
  }
}

/** Kleene's `and` and `or`: `decisive` settles the matter; without it, one unknown makes the whole unknown. */
function compileChain(operands: readonly Condition[], decisive: boolean): Predicate {
  const parts = operands.map(compilePredicate);
  return (record, circumstances) => {
    let result: Truth = !decisive;
    for (const part of parts) {
      const truth = part(record, circumstances);
      if (truth === decisive) return decisive;
      if (truth === null) result = null;
    }
    return result;
  };
}

function compileComparison(left: Operand, right: Operand, accepts: (order: number) => boolean): Predicate {
  const getLeft = compileOperand(left);
  const getRight = compileOperand(right);
  const kind = comparisonKind(left.type, [right]);
  return (record, circumstances) => {
    const a = getLeft(record, circumstances);
    if (a === null) return null;
    const b = getRight(record, circumstances);
    return b === null ? null : accepts(compareValues(kind, a, b));
  };
}

/** Integers beside decimals compare as decimals; a `one of` compares as the text that it is. */
function comparisonKind(type: Type, others: readonly Operand[]): Type['kind'] {
  return others.some((other) => other.type.kind === 'decimal') ? 'decimal' : type.kind;
}

function compileOperand(operand: Operand): Getter {
  switch (operand.kind) {
    case 'literal': {
      const { value } = operand;
      return () => value;
    }
    case 'now':
      return (_, circumstances) => circumstances.now;
    case 'path': {
      const [first, ...rest] = operand.steps as readonly [Step, ...Step[]];
      const start: Getter =
        operand.root === 'record'
          ? (record) => record[first.field] ?? null
          : (_, circumstances) => circumstances.caller.person?.values[first.field] ?? null;
      return rest.reduce(followed, start);
    }
  }
}

/** One step further along a path; past a missing reference everything is missing. */
function followed(before: Getter, step: Step): Getter {
  return (record, circumstances) => {
    const id = before(record, circumstances);
    if (id === null) return null;
    return circumstances.look(step.collection, id as string)?.[step.field] ?? null;
  };
}

/** The value of a stamp, or of any operand that needs no record. */
export function evaluateOperand(operand: Operand, circumstances: Circumstances): Value {
  return compileOperand(operand)(Object.create(null) as RecordValues, circumstances);
}
