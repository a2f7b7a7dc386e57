import { ScimFault } from './fault.ts';

/** One comparison of a filter: the attribute in lower case, without the name of its schema. */
export interface Comparison {
  readonly attribute: string;
  /** Null: it must only be there (`pr`). */
  readonly equals: string | number | boolean | null;
}

const COMPARISON =
  /^\s*([A-Za-z$][\w$.:-]*)\s+(?:(pr)|(eq)\s+("(?:[^"\\]|\\.)*"|true|false|-?\d+(?:\.\d+)?))(?=\s|$)/i;
const AND = /^\s+and(?=\s)/i;
const LONGEST = 1_000;

/**
 * A filter (RFC 7644, 3.4.2.2) of comparisons by `eq` and `pr`, joined by `and`. Names and operators are read in any case.
 * Everything else is `invalidFilter`: a filter that is not understood must not find more than was asked for.
 */
export function parseFilter(text: string): Comparison[] {
  const comparisons: Comparison[] = [];
  let rest = text.length > LONGEST ? '' : text;
  for (;;) {
    const found = COMPARISON.exec(rest);
    if (found === null)
      throw new ScimFault(
        400,
        'invalidFilter',
        'Filters compare with eq or pr, and are joined by and: userName eq "mina@hollowoak.example"',
      );
    const [whole, attribute, present, , value] = found;
    comparisons.push({
      attribute: plainName(attribute!),
      equals: present === undefined ? (JSON.parse(value!.toString()) as string | number | boolean) : null,
    });
    rest = rest.slice(whole.length);
    const and = AND.exec(rest);
    if (and === null) break;
    rest = rest.slice(and[0].length);
  }
  if (rest.trim() !== '')
    throw new ScimFault(400, 'invalidFilter', `“${rest.trim().slice(0, 60)}” is not understood in a filter`);
  return comparisons;
}

/** `urn:ietf:params:scim:schemas:core:2.0:User:userName` is `username`. */
export function plainName(attribute: string): string {
  return attribute.replace(/^urn:[\w:.-]*:(?=[A-Za-z$])/i, '').toLowerCase();
}

/** Do all comparisons hold for a member of a multi-valued attribute? Texts are compared regardless of case. */
export function holdsFor(comparisons: readonly Comparison[], element: unknown): boolean {
  if (typeof element !== 'object' || element === null) return false;
  const members = new Map(
    Object.entries(element).map(([name, each]) => [name.toLowerCase(), each as unknown]),
  );
  return comparisons.every(({ attribute, equals }) => {
    const value = members.get(attribute);
    if (equals === null) return value !== undefined && value !== null;
    return typeof value === 'string' && typeof equals === 'string'
      ? value.toLowerCase() === equals.toLowerCase()
      : value === equals;
  });
}
