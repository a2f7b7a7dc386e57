import type { Tally } from './tally.ts';

/** What a sweep found, in numbers that can be held against those of another. */
export interface SweepMap {
  readonly reach: readonly (Pick<Tally, 'caller' | 'owner' | 'collection' | 'records' | 'fields'> &
    Partial<Pick<Tally, 'follows' | 'undecided' | 'through'>>)[];
  readonly creates: readonly {
    readonly identity: string;
    readonly collection: string;
    readonly kind: string;
    readonly field: string;
    readonly allowed: boolean;
  }[];
}

/** Every number that is not what it was, in a sentence. */
export function changesOf(before: SweepMap, after: SweepMap): string[] {
  const [was, is] = [numbersOf(before), numbersOf(after)];
  return [...new Set([...was.keys(), ...is.keys()])]
    .filter((key) => (was.get(key) ?? 0) !== (is.get(key) ?? 0))
    .map((key) => `${key}: ${was.get(key) ?? 0} before, ${is.get(key) ?? 0} now`);
}

function numbersOf({ reach, creates }: SweepMap): Map<string, number> {
  const numbers = new Map<string, number>();
  for (const { caller, owner, collection, records, fields, follows = {}, undecided = {} } of reach) {
    const whose = owner === null ? 'nobody’s' : owner === '*' ? 'other people’s' : `${owner}’s`;
    const add = (what: string, count: number) =>
      numbers.set(`${caller} may ${what} of ${whose} ${collection}`, count);
    for (const [operation, count] of Object.entries(records)) add(operation, count);
    for (const [what, count] of Object.entries(follows)) add(`${what} along with others`, count);
    for (const [what, count] of Object.entries(undecided)) add(`perhaps ${what}`, count);
    for (const operation of ['read', 'update'] as const)
      for (const [field, count] of Object.entries(fields[operation])) add(`${operation} (${field})`, count);
  }
  for (const { identity, collection, kind, field, allowed } of creates)
    numbers.set(`${identity} may ${kind} ${collection}${field === '' ? '' : ` (${field})`}`, allowed ? 1 : 0);
  return numbers;
}
