import { formatTimestamp } from './values.ts';

/** Days that one step in time covers at most: PostgreSQL's own calendar must hold whatever comes of it. */
export const LONGEST_SHIFT_DAYS = 1_700_000;

/** Where days begin, unless the rulebook says otherwise. */
export const UTC = 'UTC';

/**
 * The time zone database is certain from 1970 on; of what was before, its editions say different things, and the two
 * engines have one each. Days that begin or end before this moment are those of UTC.
 */
export const ZONES_BEGIN = '1970-01-02T00:00:00Z';

const DAY = 86_400_000;
const CERTAIN = Date.parse(ZONES_BEGIN);

/**
 * A timestamp moved by calendar days of a time zone, at the same time of day, or by minutes; null outside the years 0001
 * to 9999. A time of day that is left out on the day it comes to is taken as if the clocks had not been changed yet, one
 * that comes twice as the later: as PostgreSQL does.
 */
export function shiftTimestamp(
  timestamp: string,
  days: number,
  minutes: number,
  zone: string,
): string | null {
  const [seconds = '', fraction = ''] = timestamp.slice(0, -1).split('.');
  const start = Date.parse(`${seconds}Z`);
  const plain = start + days * DAY + minutes * 60_000;
  const there = zone !== UTC && days !== 0 && start >= CERTAIN && plain >= CERTAIN;
  const moved = new Date(there ? instantOf(start + offsetAt(start, zone) + days * DAY, zone) : plain);
  return isInRange(moved) ? formatTimestamp(moved.toISOString().slice(0, 19), fraction) : null;
}

/** A date moved by days; null outside the years 0001 to 9999. */
export function shiftDate(date: string, days: number): string | null {
  const moved = new Date(Date.parse(`${date}T00:00:00Z`) + days * DAY);
  return isInRange(moved) ? moved.toISOString().slice(0, 10) : null;
}

/** The day that it is in a time zone; null outside the years 0001 to 9999. */
export function dayOf(timestamp: string, zone: string): string | null {
  const at = Date.parse(`${timestamp.slice(0, 19)}Z`);
  if (zone === UTC || at < CERTAIN) return timestamp.slice(0, 10);
  const there = new Date(at + offsetAt(at, zone));
  return isInRange(there) ? there.toISOString().slice(0, 10) : null;
}

/** The first moment of a day in a time zone. */
export function startOfDay(date: string, zone: string): string | null {
  const wall = Date.parse(`${date}T00:00:00Z`);
  const moment = new Date(zone === UTC || wall < CERTAIN ? wall : instantOf(wall, zone));
  return isInRange(moment) ? formatTimestamp(moment.toISOString().slice(0, 19), '') : null;
}

/**
 * Is it a name of the time zone database that means the same to PostgreSQL? An offset such as “+02:00” means the opposite
 * there, and an abbreviation such as “CET” is an offset, which never changes with the clocks.
 */
export function isTimeZone(name: string): boolean {
  const whole = name === UTC || /^[A-Za-z][A-Za-z0-9_+-]*(\/[A-Za-z0-9_+-]+)+$/.test(name);
  try {
    return (whole || /^[A-Z]{3}\d[A-Z]{3}$/.test(name)) && clockOf(name) !== undefined;
  } catch {
    return false;
  }
}

const clocks = new Map<string, Intl.DateTimeFormat>();

function clockOf(zone: string): Intl.DateTimeFormat {
  let clock = clocks.get(zone);
  if (clock === undefined) {
    clock = new Intl.DateTimeFormat('en-US', {
      timeZone: zone,
      calendar: 'gregory',
      numberingSystem: 'latn',
      hourCycle: 'h23',
      year: 'numeric',
      month: 'numeric',
      day: 'numeric',
      hour: 'numeric',
      minute: 'numeric',
      second: 'numeric',
    });
    clocks.set(zone, clock);
  }
  return clock;
}

/** How many milliseconds the clocks of a zone are ahead of UTC at a moment, which is of whole seconds. */
function offsetAt(moment: number, zone: string): number {
  const parts = new Map(
    clockOf(zone)
      .formatToParts(moment)
      .map(({ type, value }) => [type, value]),
  );
  const part = (type: Intl.DateTimeFormatPartTypes) => Number(parts.get(type));
  const there = Date.UTC(
    part('year'),
    part('month') - 1,
    part('day'),
    part('hour'),
    part('minute'),
    part('second'),
  );
  return there - moment;
}

/** The moment at which the clocks of a zone show this, `wall` being it as if in UTC. */
function instantOf(wall: number, zone: string): number {
  const before = offsetAt(wall - DAY, zone);
  const after = offsetAt(wall + DAY, zone);
  if (before === after) return wall - before;
  const [early, late] = [wall - before, wall - after];
  const isShown = (moment: number) => moment + offsetAt(moment, zone) === wall;
  if (isShown(late)) return late;
  return early;
}

function isInRange(date: Date): boolean {
  return date.getUTCFullYear() >= 1 && date.getUTCFullYear() <= 9999;
}
