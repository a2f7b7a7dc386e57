import type { Condition, Operand } from '../ir/conditions.ts';
import type { Truth } from '../types/truth.ts';
import type { Value } from '../types/types.ts';
import type { RecordValues } from '../decide/caller.ts';
import { compileAnchor, truthIn, valueIn, type Circumstances, type Frame } from './closures.ts';

/** A condition with what each of its parts came to, and the values that it saw. */
export interface Trace {
  readonly condition: Condition;
  readonly truth: Truth;
  /** The operands of a comparison, left to right, each with its value. Literals are not among them. */
  readonly seen: readonly { readonly operand: Operand; readonly value: Value }[];
  /** Of `and`, `or` and `not`. */
  readonly parts: readonly Trace[];
  /** Of `some`: records that were looked at, the ones that come nearest first. */
  readonly looked?: {
    /** How many there were to look at: where the body names them by an equality, those that meet it. */
    readonly count: number;
    readonly nearest: readonly { readonly record: RecordValues; readonly trace: Trace }[];
  };
  /** Of `me may`: the record that was asked about; null where there is none. */
  readonly target?: RecordValues | null;
}

/** Records of a quantifier that are shown with their parts. */
const NEAREST = 2;

/**
 * Asks a condition of a record, part by part. Cost: each part is asked once for itself and once within each that it is
 * part of, so only for explanations.
 */
export function traceCondition(condition: Condition, frame: Frame, circumstances: Circumstances): Trace {
  const truth = truthIn(condition, frame, circumstances);
  const trace = (part: Condition) => traceCondition(part, frame, circumstances);
  const leaf = (...operands: readonly Operand[]): Trace => ({
    condition,
    truth,
    seen: operands
      .filter((operand) => operand.kind !== 'literal')
      .map((operand) => ({ operand, value: valueIn(operand, frame, circumstances) })),
    parts: [],
  });
  switch (condition.kind) {
    case 'and':
    case 'or':
      return { ...leaf(), parts: condition.operands.map(trace) };
    case 'not':
      return { ...leaf(), parts: [trace(condition.operand)] };
    case 'some':
      return { ...leaf(), looked: lookedAt(condition, frame, circumstances) };
    case 'may': {
      const id = valueIn(condition.target, frame, circumstances);
      const target = id === null ? null : circumstances.look(condition.collection, id as string);
      return { ...leaf(condition.target), target };
    }
    case 'as':
      return {
        ...leaf(),
        parts: [
          traceCondition(condition.condition, frame, {
            ...circumstances,
            caller: condition.caller,
            roles: new Set(),
          }),
        ],
      };
    case 'constant':
    case 'has role':
      return leaf();
    case 'missing':
    case 'holds':
    case 'among':
      return leaf(condition.operand);
    case 'member':
      return leaf(condition.operand, condition.list);
    case 'at most':
    case 'contains':
    case 'ends with':
    case 'equal':
    case 'less':
    case 'starts with':
    case 'within':
      return leaf(condition.left, condition.right);
  }
}

function lookedAt(
  { range, body }: Condition & { kind: 'some' },
  frame: Frame,
  circumstances: Circumstances,
): NonNullable<Trace['looked']> {
  const anchor = compileAnchor(range, body)(frame, circumstances);
  const every = [...circumstances.all(range.collection, anchor)];
  const records =
    anchor === undefined ? every : every.filter((record) => record[anchor.field] === anchor.value);
  const parts = body.kind === 'and' ? body.operands : [body];
  const ranked = records.map((record) => {
    const here: Frame = [...frame, record];
    return { record, met: parts.filter((part) => truthIn(part, here, circumstances) === true).length };
  });
  // The sort is stable, so records that come equally near stay in the order in which they lie.
  const nearest = ranked.toSorted((a, b) => b.met - a.met).slice(0, NEAREST);
  return {
    count: records.length,
    nearest: nearest.map(({ record }) => ({
      record,
      trace: traceCondition(body, [...frame, record], circumstances),
    })),
  };
}
