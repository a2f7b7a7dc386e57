import { formatTimestamp } from './values.ts';

/** Days that one step in time covers at most: PostgreSQL's own calendar must hold whatever comes of it. */
export const LONGEST_SHIFT_DAYS = 1_700_000;

const DAY = 86_400_000;

/** A timestamp moved by days of 24 hours (in UTC every day is) and minutes; null outside the years 0001 to 9999. */
export function shiftTimestamp(timestamp: string, days: number, minutes: number): string | null {
  const [seconds = '', fraction = ''] = timestamp.slice(0, -1).split('.');
  const moved = new Date(Date.parse(`${seconds}Z`) + days * DAY + minutes * 60_000);
  return isInRange(moved) ? formatTimestamp(moved.toISOString().slice(0, 19), fraction) : null;
}

/** A date moved by days; null outside the years 0001 to 9999. */
export function shiftDate(date: string, days: number): string | null {
  const moved = new Date(Date.parse(`${date}T00:00:00Z`) + days * DAY);
  return isInRange(moved) ? moved.toISOString().slice(0, 10) : null;
}

function isInRange(date: Date): boolean {
  return date.getUTCFullYear() >= 1 && date.getUTCFullYear() <= 9999;
}
