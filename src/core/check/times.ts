import type { Expression } from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import { LONGEST_SHIFT_DAYS } from '../types/time.ts';
import { typeName } from '../types/types.ts';
import type { Findings } from './context.ts';

const minutesOf = { minutes: 1, hours: 60 } as const;
const daysOf = { days: 1, weeks: 7 } as const;

/** A time moved by hours or days, a date by days; null with what is wrong reported. */
export function shifted(
  operand: Operand,
  { backwards, amount, unit, span }: Expression & { kind: 'shift' },
  zone: string,
  findings: Findings,
): Operand | null {
  const { type } = operand;
  const byDays = unit === 'days' || unit === 'weeks';
  if (type.kind !== 'timestamp' && !(type.kind === 'date' && byDays)) {
    const hint = type.kind === 'date' ? 'a date moves by days or weeks' : 'times and dates can be moved';
    findings.add('T001', `${typeName(type)} cannot be moved by ${unit}`, span, hint);
    return null;
  }
  const sign = backwards ? -1 : 1;
  const days = byDays ? sign * amount * daysOf[unit] : 0;
  if (Math.abs(days) > LONGEST_SHIFT_DAYS) {
    findings.add('T002', `a duration has at most ${LONGEST_SHIFT_DAYS} days`, span);
    return null;
  }
  const minutes = byDays ? 0 : sign * amount * minutesOf[unit];
  return { kind: 'shift', operand, days, minutes, zone, type };
}
