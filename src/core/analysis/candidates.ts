import { nodesOf, pathsOf, type Condition, type Operand, type PathOperand } from '../ir/conditions.ts';
import { rewriteOperand } from '../ir/rewrite.ts';
import { foreignPaths } from './sides.ts';
import { UTC, shiftDate, shiftTimestamp } from '../types/time.ts';
import type { Scalar, ScalarType, Type } from '../types/types.ts';
import { compareValues } from '../types/values.ts';

/**
 * Values that a field could be given, so that every way in which conditions can come out is among them; where that cannot be
 * said, `complete` is false, and what none of them does is not decided.
 */
export interface Candidates {
  /** Literals, `nothing`, and values that the change leaves as they are. Of references none but `nothing`: they are records. */
  readonly values: readonly Operand[];
  /** Does any condition read it at all? What none reads needs one value, whichever. */
  readonly isRead: boolean;
  readonly complete: boolean;
}

/** More values of one type than that are not gone through. */
const MOST_OF_A_KIND = 24;

/**
 * `reads`: is it the value that is chosen, and nothing behind it? `touches`: does a path begin with anything that is chosen?
 */
export function candidatesFor(
  type: Type,
  required: boolean,
  conditions: readonly Condition[],
  isIt: (path: PathOperand) => boolean,
  touches: (path: PathOperand) => boolean,
): Candidates {
  const missing: Operand[] = required ? [] : [{ kind: 'nothing', type }];
  const isRead = conditions.some((each) => pathsOf(each).some(startsWithIt(isIt)));
  if (type.kind === 'boolean' || type.kind === 'one of') {
    const all: readonly Scalar[] = type.kind === 'boolean' ? [true, false] : type.values;
    const values = all.slice(0, MOST_OF_A_KIND).map((value) => literal(value, type));
    return { values: [...values, ...missing], isRead, complete: all.length <= MOST_OF_A_KIND };
  }
  if (!isRead) return { values: missing, isRead, complete: true };
  if (type.kind === 'ref') return { values: missing, isRead, complete: true };
  const seen = conditions.map((each) => comparedWith(each, isIt, touches));
  const others = new Map(seen.flatMap((each) => each.others).map((each) => [JSON.stringify(each), each]));
  const ordered = seen.some((each) => each.ordered);
  let complete = seen.every((each) => each.plain);
  if (type.kind === 'list' || type.kind === 'json') return { values: missing, isRead, complete };
  const literals = [...others.values()].flatMap((each) =>
    each.kind === 'literal' ? asValues(type, each) : [],
  );
  const moving = [...others.values()].filter((each) => each.kind !== 'literal');
  if (
    ordered &&
    (moving.length > 1 || (moving.length === 1 && (literals.length > 0 || type.kind === 'text')))
  )
    complete = false;
  const values = distinct(type, [...literals, ...besides(type, literals, ordered || moving.length > 0)]);
  if (values.length + moving.length > MOST_OF_A_KIND) complete = false;
  return {
    values: [
      ...[...moving, ...values.map((value) => literal(value, type))].slice(0, MOST_OF_A_KIND),
      ...missing,
    ],
    isRead,
    complete,
  };
}

/** A fraction beside an integer lies between two of them. */
function asValues(type: ScalarType, { value, type: of }: Operand & { kind: 'literal' }): Scalar[] {
  if (type.kind !== 'integer' || of.kind !== 'decimal') return [value];
  const near = [Math.floor(Number(value)), Math.ceil(Number(value))];
  return near.filter((each) => Number.isSafeInteger(each));
}

/** What the change does not touch is the same before and after it. */
function asItIs(operand: Operand): Operand {
  return rewriteOperand(operand, {
    path: (path) => (path.root === 'old' || path.root === 'new' ? { ...path, root: 'record' } : path),
  });
}

function literal(value: Scalar, type: Type): Operand {
  return { kind: 'literal', value, type };
}

function startsWithIt(isIt: (path: PathOperand) => boolean) {
  return (path: PathOperand) => isIt({ ...path, steps: path.steps.slice(0, 1) });
}

/** What a condition compares the value with, and whether it does nothing else with it. */
function comparedWith(
  condition: Condition,
  isIt: (path: PathOperand) => boolean,
  touches: (path: PathOperand) => boolean,
): { readonly others: readonly Operand[]; readonly ordered: boolean; readonly plain: boolean } {
  const others: Operand[] = [];
  let ordered = false;
  /** Places at which the value stands, and those that are understood. */
  let [places, plain] = [0, 0];
  const isBare = (operand: Operand): operand is PathOperand =>
    operand.kind === 'path' && operand.steps.length === 1 && isIt(operand);
  const foreign = foreignPaths(condition);
  const usable = (operand: Operand) =>
    [...nodesOf(operand)].every(
      (node) =>
        node.kind !== 'count' &&
        (node.kind !== 'path' || (typeof node.root !== 'number' && !foreign.has(node) && !touches(node))),
    );
  for (const node of nodesOf(condition)) {
    if (node.kind === 'path' && startsWithIt(isIt)(node)) places++;
    switch (node.kind) {
      case 'equal':
      case 'less':
      case 'at most':
        for (const [own, other] of [
          [node.left, node.right],
          [node.right, node.left],
        ] as const) {
          if (!isBare(own)) continue;
          if (!usable(other)) continue;
          plain++;
          others.push(asItIs(other));
          if (node.kind !== 'equal') ordered = true;
        }
        break;
      case 'among':
        if (isBare(node.operand)) {
          plain++;
          others.push(...node.values);
        }
        break;
      case 'missing':
      case 'holds':
        if (isBare(node.operand)) plain++;
        break;
      case 'and':
      case 'as':
      case 'constant':
      case 'contains':
      case 'count':
      case 'ends with':
      case 'has role':
      case 'length':
      case 'literal':
      case 'lower':
      case 'may':
      case 'member':
      case 'not':
      case 'nothing':
      case 'now':
      case 'or':
      case 'path':
      case 'shift':
      case 'some':
      case 'starts with':
      case 'today':
      case 'within':
    }
  }
  return { others, ordered, plain: places === plain };
}

/** One value between each two, and beyond both ends; two where nothing is compared by order, so that one is another. */
function besides(type: ScalarType, literals: readonly Scalar[], wide: boolean): Scalar[] {
  const found: Scalar[] = [...fresh[type.kind as keyof typeof fresh]];
  for (const value of literals) {
    if (type.kind === 'integer')
      found.push(
        ...[(value as number) - 1, (value as number) + 1].filter((each) => Number.isSafeInteger(each)),
      );
    if (type.kind === 'decimal')
      found.push(decimalBeside(String(value), -1), decimalBeside(String(value), 1));
    if (type.kind === 'text') found.push(`${value as string}\u0001`);
    if (type.kind === 'date')
      for (const days of [-1, 1]) found.push(...present(shiftDate(value as string, days)));
    if (type.kind === 'timestamp')
      for (const minutes of [-1, 1]) found.push(...present(shiftTimestamp(value as string, 0, minutes, UTC)));
  }
  const kind = type.kind;
  const sorted = distinct(type, literals).toSorted((a, b) => compareValues(kind, a, b));
  for (const [index, value] of sorted.entries()) {
    const next = sorted[index + 1];
    if (next === undefined) continue;
    if (kind === 'timestamp') found.push(...present(between(value as string, next as string)));
    if (kind === 'decimal') found.push(middle(String(value), String(next)));
  }
  if (wide) found.push(...ends[kind as keyof typeof ends]);
  return found;
}

function present<T>(value: T | null): T[] {
  return value === null ? [] : [value];
}

/** A moment just after the first, where there is one before the second: timestamps have microseconds. */
function between(value: string, next: string): string | null {
  const [whole, fraction = ''] = value.replace('Z', '').split('.') as [string, string?];
  const micros = Number(fraction.padEnd(6, '0')) + 1;
  if (micros > 999_999) return null;
  const after = `${whole}.${String(micros).padStart(6, '0').replace(/0+$/, '')}Z`;
  return compareValues('timestamp', after, next) < 0 ? after : null;
}

/** Decimals are exact: so is the step beside one, and the middle of two. */
function decimalBeside(value: string, by: number): string {
  const [whole = '0', fraction = ''] = value.replace('-', '').split('.');
  const scaled = BigInt(whole + fraction) * (value.startsWith('-') ? -1n : 1n);
  return unscaled(scaled * 10n + BigInt(by), fraction.length + 1);
}

function middle(one: string, other: string): string {
  const places = Math.max(...[one, other].map((each) => (each.split('.')[1] ?? '').length));
  const scaled = (value: string) => {
    const [whole = '0', fraction = ''] = value.replace('-', '').split('.');
    return BigInt(whole + fraction.padEnd(places, '0')) * (value.startsWith('-') ? -1n : 1n);
  };
  return unscaled((scaled(one) + scaled(other)) * 5n, places + 1);
}

function unscaled(scaled: bigint, places: number): string {
  const digits = String(scaled < 0n ? -scaled : scaled).padStart(places + 1, '0');
  const text = `${digits.slice(0, -places)}.${digits.slice(-places)}`.replace(/\.?0+$/, '');
  return scaled < 0n && text !== '0' ? `-${text}` : text;
}

/** Two values of each type: one of them is another than any. */
export const fresh = {
  text: ['something new', 'something else'],
  integer: [-7_123_456_789, -7_123_456_790],
  decimal: ['-7123456789.5', '-7123456790.5'],
  date: ['1901-02-03', '1901-02-04'],
  timestamp: ['1901-02-03T04:05:06Z', '1901-02-04T04:05:06Z'],
  uuid: ['00000000-0000-4000-8000-0000000000f1', '00000000-0000-4000-8000-0000000000f2'],
} as const;

const ends = {
  text: [''],
  integer: [Number.MIN_SAFE_INTEGER, Number.MAX_SAFE_INTEGER],
  decimal: ['-999999999999999999999999999999', '999999999999999999999999999999'],
  date: ['0001-01-01', '9999-12-31'],
  timestamp: ['0001-01-01T00:00:00Z', '9999-12-31T23:59:59.999999Z'],
  uuid: [],
} as const;

function distinct(type: Type, values: readonly Scalar[]): Scalar[] {
  return [...new Map(values.map((value) => [`${type.kind} ${String(value)}`, value])).values()];
}
