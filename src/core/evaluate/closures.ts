import {
  pathsOf,
  type Condition,
  type Operand,
  type PathOperand,
  type Range,
  type Step,
} from '../ir/conditions.ts';
import { dayOf, shiftDate, shiftTimestamp } from '../types/time.ts';
import type { Truth } from '../types/truth.ts';
import type { Scalar, ScalarType, Type, Value } from '../types/types.ts';
import { compareValues } from '../types/values.ts';
import type { Caller, RecordValues } from '../decide/caller.ts';

/** What a decision knows beside the record in hand. */
export interface Circumstances {
  readonly caller: Caller;
  /** The roles that count for the operation being decided (`rolesFor`). */
  readonly roles: ReadonlySet<string>;
  /** The moment of the request, as a timestamp value. */
  readonly now: string;
  /** Any record with full sight; null where there is none. */
  readonly look: (collection: string, id: string) => RecordValues | null;
  /** All records of a collection with full sight; those that `beside` rules out may be left out. */
  readonly all: (collection: string, beside?: Anchor) => Iterable<RecordValues>;
  /** What the caller's own rules say of a record: `mayDecider` in may.ts makes one of a rulebook. */
  readonly may: MayDecider;
  /** The record before and after an update, each with the world of its own side; `look` is that of the side asked. */
  readonly old?: Side;
  readonly new?: Side;
}

export type MayDecider = (
  may: Condition & { readonly kind: 'may' },
  record: RecordValues,
  circumstances: Circumstances,
) => boolean;

/** What a quantifier asks of each record: where the field has another value than this, the answer is no. */
export interface Anchor {
  readonly field: string;
  readonly value: Scalar;
}

/** One side of an update. */
export interface Side {
  readonly record: RecordValues;
  readonly look: Circumstances['look'];
}

/**
 * A condition ready to be asked of a record in hand. Cost: one call for each part, one look for each step of a path,
 * one round for each record that a `some` or `count` goes through.
 */
export type Predicate = (record: RecordValues, circumstances: Circumstances) => Truth;

/** The record in hand, then the record of each enclosing `some` or `count`. */
export type Frame = readonly [RecordValues, ...RecordValues[]];
type Test = (frame: Frame, circumstances: Circumstances) => Truth;
type Getter = (frame: Frame, circumstances: Circumstances) => Value;

/**
 * A condition as a closure: one of the two engines; `core/sql/conditions.ts` is the other.
 * Both follow Kleene's logic to the letter and are held together by test/agreement.
 */
export function compilePredicate(condition: Condition): Predicate {
  const test = compileTest(condition);
  return (record, circumstances) => test([record], circumstances);
}

/** A part of a condition, asked below the records of the quantifiers around it. */
export function truthIn(condition: Condition, frame: Frame, circumstances: Circumstances): Truth {
  return compileTest(condition)(frame, circumstances);
}

/** The value of an operand there. */
export function valueIn(operand: Operand, frame: Frame, circumstances: Circumstances): Value {
  return compileOperand(operand)(frame, circumstances);
}

const noRoles: ReadonlySet<string> = new Set();

function compileTest(condition: Condition): Test {
  switch (condition.kind) {
    case 'constant': {
      const { value } = condition;
      return () => value;
    }
    case 'equal':
      return compileEqual(condition.left, condition.right);
    case 'less':
      return compileComparison(condition.left, condition.right, (order) => order < 0);
    case 'at most':
      return compileComparison(condition.left, condition.right, (order) => order <= 0);
    case 'contains':
      return compileTextTest(condition.left, condition.right, (text, part) => text.includes(part));
    case 'starts with':
      return compileTextTest(condition.left, condition.right, (text, part) => text.startsWith(part));
    case 'ends with':
      return compileTextTest(condition.left, condition.right, (text, part) => text.endsWith(part));
    case 'within':
      return compileWithin(condition.left, condition.right, condition.parent);
    case 'among': {
      const get = compileOperand(condition.operand);
      const kind = comparisonKind(condition.operand.type, condition.values);
      const values = condition.values.map((literal) => literal.value);
      return (frame, circumstances) => {
        const value = get(frame, circumstances);
        return value === null
          ? null
          : values.some((each) => compareValues(kind, value as Scalar, each) === 0);
      };
    }
    case 'member': {
      const get = compileOperand(condition.operand);
      const getList = compileOperand(condition.list);
      const { of } = condition.list.type as Type & { kind: 'list' };
      const kind = condition.operand.type.kind === 'decimal' ? 'decimal' : of.kind;
      return (frame, circumstances) => {
        const value = get(frame, circumstances);
        const list = getList(frame, circumstances);
        if (value === null || list === null) return null;
        return (list as readonly Scalar[]).some((each) => compareValues(kind, value as Scalar, each) === 0);
      };
    }
    case 'missing': {
      const get = compileOperand(condition.operand);
      return (frame, circumstances) => get(frame, circumstances) === null;
    }
    case 'holds': {
      const get = compileOperand(condition.operand);
      return (frame, circumstances) => get(frame, circumstances) as Truth;
    }
    case 'has role': {
      const { role } = condition;
      return (_, circumstances) => circumstances.roles.has(role);
    }
    case 'may': {
      const target = compileOperand(condition.target);
      return (frame, circumstances) => {
        const id = target(frame, circumstances);
        if (id === null) return null;
        const record = circumstances.look(condition.collection, id as string);
        return record !== null && circumstances.may(condition, record, circumstances);
      };
    }
    case 'some': {
      const { collection } = condition.range;
      const body = compileTest(condition.body);
      const anchor = compileAnchor(condition.range, condition.body);
      return (frame, circumstances) => {
        let result: Truth = false;
        for (const record of circumstances.all(collection, anchor(frame, circumstances))) {
          const truth = body([...frame, record], circumstances);
          if (truth === true) return true;
          if (truth === null) result = null;
        }
        return result;
      };
    }
    case 'as': {
      if (condition.sharing !== undefined) throw new TypeError('shares that only the database knows');
      const { caller } = condition;
      const inner = compileTest(condition.condition);
      return (frame, circumstances) => inner(frame, { ...circumstances, caller, roles: noRoles });
    }
    case 'and':
      return compileChain(condition.operands, false);
    case 'or':
      return compileChain(condition.operands, true);
    case 'not': {
      const inner = compileTest(condition.operand);
      return (frame, circumstances) => {
        const truth = inner(frame, circumstances);
        return truth === null ? null : !truth;
      };
    }
  }
}

/**
 * An equality that every record of a range must meet, with something that does not depend on the record: whoever has
 * the records in hand can find the few that matter by it. A missing value rules out nothing: unknown is not false.
 */
export function compileAnchor(
  { depth }: Range,
  body: Condition,
): (frame: Frame, circumstances: Circumstances) => Anchor | undefined {
  for (const part of body.kind === 'and' ? body.operands : [body]) {
    if (part.kind !== 'equal') continue;
    for (const [own, other] of [
      [part.left, part.right],
      [part.right, part.left],
    ] as const) {
      if (own.kind !== 'path' || own.root !== depth || own.steps.length > 1 || own.type.kind === 'decimal')
        continue;
      const speaksOfIt = pathsOf(other).some(({ root }) => typeof root === 'number' && root >= depth);
      if (speaksOfIt || other.type.kind === 'decimal') continue;
      const { field } = own.steps[0]!;
      const get = compileOperand(other);
      return (frame, circumstances) => {
        const value = get(frame, circumstances);
        return value === null ? undefined : { field, value: value as Scalar };
      };
    }
  }
  return () => undefined;
}

/** Kleene's `and` and `or`: `decisive` settles the matter; without it, one unknown makes the whole unknown. */
function compileChain(operands: readonly Condition[], decisive: boolean): Test {
  const parts = operands.map(compileTest);
  return (frame, circumstances) => {
    let result: Truth = !decisive;
    for (const part of parts) {
      const truth = part(frame, circumstances);
      if (truth === decisive) return decisive;
      if (truth === null) result = null;
    }
    return result;
  };
}

function compileComparison(left: Operand, right: Operand, accepts: (order: number) => boolean): Test {
  const getLeft = compileOperand(left);
  const getRight = compileOperand(right);
  const kind = comparisonKind(left.type, [right]);
  return (frame, circumstances) => {
    const a = getLeft(frame, circumstances);
    if (a === null) return null;
    const b = getRight(frame, circumstances);
    return b === null ? null : accepts(compareValues(kind, a as Scalar, b as Scalar));
  };
}

/** Every type but decimals has one shape for one value (`types/values.ts`), so being equal is being the same. */
function compileEqual(left: Operand, right: Operand): Test {
  if (comparisonKind(left.type, [right]) === 'decimal')
    return compileComparison(left, right, (order) => order === 0);
  const getLeft = compileOperand(left);
  const getRight = compileOperand(right);
  return (frame, circumstances) => {
    const a = getLeft(frame, circumstances);
    if (a === null) return null;
    const b = getRight(frame, circumstances);
    return b === null ? null : a === b;
  };
}

/** Upwards until the record is found or there is no parent; unknown where the data go round in a circle. */
function compileWithin(left: Operand, right: Operand, parent: Step): Test {
  const getLeft = compileOperand(left);
  const getRight = compileOperand(right);
  return (frame, circumstances) => {
    const start = getLeft(frame, circumstances);
    const above = getRight(frame, circumstances);
    if (start === null || above === null) return null;
    const wanted: readonly Value[] = Array.isArray(above) ? above : [above];
    const look = lookFrom(left.kind === 'path' ? left.root : 'record', circumstances);
    const passed = new Set<Value>();
    for (let here: Value = start; here !== null;) {
      if (wanted.includes(here)) return true;
      if (passed.has(here)) return null;
      passed.add(here);
      here = look(parent.collection, here as string)?.[parent.field] ?? null;
    }
    return false;
  };
}

function compileTextTest(
  left: Operand,
  right: Operand,
  accepts: (text: string, part: string) => boolean,
): Test {
  const getLeft = compileOperand(left);
  const getRight = compileOperand(right);
  return (frame, circumstances) => {
    const text = getLeft(frame, circumstances);
    const part = getRight(frame, circumstances);
    return text === null || part === null ? null : accepts(text as string, part as string);
  };
}

/** Integers beside decimals compare as decimals; a `one of` compares as the text that it is. */
function comparisonKind(type: Type, others: readonly Operand[]): ScalarType['kind'] {
  // The checker lets nothing else be compared.
  return others.some((other) => other.type.kind === 'decimal')
    ? 'decimal'
    : (type.kind as ScalarType['kind']);
}

function compileOperand(operand: Operand): Getter {
  switch (operand.kind) {
    case 'literal': {
      const { value } = operand;
      return () => value;
    }
    case 'nothing':
      return () => null;
    case 'now':
      return (_, circumstances) => circumstances.now;
    case 'today': {
      const { zone } = operand;
      return (_, circumstances) => dayOf(circumstances.now, zone);
    }
    case 'lower':
      return compileChange(operand.operand, (text) =>
        (text as string).replace(/[A-Z]/g, (each) => each.toLowerCase()),
      );
    case 'length':
      return compileChange(operand.operand, (text) => Array.from(text as string).length);
    case 'shift': {
      const { days, minutes, zone, type } = operand;
      return compileChange(operand.operand, (value) =>
        type.kind === 'date'
          ? shiftDate(value as string, days)
          : shiftTimestamp(value as string, days, minutes, zone),
      );
    }
    case 'count': {
      const { collection } = operand.range;
      const where = compileTest(operand.where);
      const anchor = compileAnchor(operand.range, operand.where);
      return (frame, circumstances) => {
        let count = 0;
        for (const record of circumstances.all(collection, anchor(frame, circumstances))) {
          const truth = where([...frame, record], circumstances);
          if (truth === null) return null;
          if (truth) count++;
        }
        return count;
      };
    }
    case 'path': {
      const [first, ...rest] = operand.steps as readonly [Step, ...Step[]];
      const start = compileRoot(operand.root, first.field);
      const { root } = operand;
      return rest.reduce((before, step) => followed(before, step, root), start);
    }
  }
}

function compileChange(operand: Operand, change: (value: Scalar) => Value): Getter {
  const get = compileOperand(operand);
  return (frame, circumstances) => {
    const value = get(frame, circumstances);
    return value === null ? null : change(value as Scalar);
  };
}

function compileRoot(root: PathOperand['root'], field: string): Getter {
  switch (root) {
    case 'record':
      return ([record]) => record[field] ?? null;
    case 'me':
      return (_, circumstances) => circumstances.caller.person?.values[field] ?? null;
    case 'old':
      return (_, circumstances) => circumstances.old?.record[field] ?? null;
    case 'new':
      return (_, circumstances) => circumstances.new?.record[field] ?? null;
    default:
      return (frame) => frame[root]?.[field] ?? null;
  }
}

/** One step further along a path; past a missing reference everything is missing. */
function followed(before: Getter, step: Step, root: PathOperand['root']): Getter {
  return (frame, circumstances) => {
    const id = before(frame, circumstances);
    if (id === null) return null;
    return lookFrom(root, circumstances)(step.collection, id as string)?.[step.field] ?? null;
  };
}

/** What starts on one side of a change stays on that side. */
function lookFrom(root: PathOperand['root'], circumstances: Circumstances): Circumstances['look'] {
  const side = root === 'old' || root === 'new' ? circumstances[root] : undefined;
  return (side ?? circumstances).look;
}

/** The present values of an attribute that is taken from records, as they come. */
export function evaluateEvery(
  source: { readonly range: Range; readonly operand: Operand; readonly where: Condition },
  circumstances: Circumstances,
): Scalar[] {
  const test = compileTest(source.where);
  const get = compileOperand(source.operand);
  const values: Scalar[] = [];
  const none = Object.create(null) as RecordValues;
  const anchor = compileAnchor(source.range, source.where)([none], circumstances);
  for (const record of circumstances.all(source.range.collection, anchor)) {
    const frame: Frame = [none, record];
    if (test(frame, circumstances) !== true) continue;
    const value = get(frame, circumstances);
    if (value !== null) values.push(value as Scalar);
  }
  return values;
}

/** The value of a stamp, which needs no record. */
export function evaluateOperand(operand: Operand, circumstances: Circumstances): Value {
  return compileOperand(operand)([Object.create(null) as RecordValues], circumstances);
}
