import type { Overview } from '../client/desk.ts';
import { Misuse } from './exit.ts';

/** What a value is given to: a field, or a parameter of an action. */
export type Place = Pick<Overview['collections'][number]['fields'][number], 'name' | 'type' | 'reference'>;

/** `field=value …` as the types want them in JSON; references stay as they are written, and unknown names, too. */
export function parseValues(
  places: readonly Place[],
  values: readonly string[],
  cleared: readonly string[] = [],
): Record<string, unknown> {
  const parsed: Record<string, unknown> = {};
  for (const each of values) {
    const at = each.indexOf('=');
    if (at < 1) throw new Misuse(`“${each}” is not of the form field=value`);
    const name = each.slice(0, at);
    parsed[name] = parseValue(
      places.find((place) => place.name === name),
      each.slice(at + 1),
    );
  }
  for (const field of cleared) parsed[field] = null;
  return parsed;
}

function parseValue(place: Place | undefined, text: string): unknown {
  if (place !== undefined && /^(json|list of)/.test(place.type)) return parseJson(place, text);
  if (place?.type === 'integer' && /^-?\d+$/.test(text)) return Number(text);
  if (place?.type === 'boolean' && (text === 'true' || text === 'false')) return text === 'true';
  return text;
}

function parseJson(place: Place, text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    throw new Misuse(`${place.name} is ${place.type}: write it as JSON, such as '["a", "b"]'`);
  }
}

/** The number that an option says; misuse where it is none, or outside its bounds. */
export function wholeNumber(
  option: string,
  text: string,
  least: number,
  most = Number.MAX_SAFE_INTEGER,
): number {
  const number = /^\d+$/.test(text) ? Number(text) : Number.NaN;
  if (number >= least && number <= most) return number;
  throw new Misuse(
    most === Number.MAX_SAFE_INTEGER
      ? `${option} takes a whole number, ${least} or more`
      : `${option} takes a whole number from ${least} to ${most}`,
  );
}

/** A day means its beginning, in UTC. */
export function moment(option: string, text: string | undefined): string | undefined {
  if (text === undefined) return undefined;
  const whole = /^\d{4}-\d{2}-\d{2}$/.test(text) ? `${text}T00:00:00Z` : text;
  if (Number.isNaN(Date.parse(whole)))
    throw new Misuse(`${option} takes a day or a time, such as 2027-03-01 or 2027-03-01T12:00:00Z`);
  return whole;
}
