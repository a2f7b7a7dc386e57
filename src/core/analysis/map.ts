import { bearing, type Declaration } from './declarations.ts';
import { placeWords } from './places.ts';
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
  /** What the rulebook said then; absent from maps that were kept before it was kept along. */
  readonly declared?: readonly Declaration[] | undefined;
}

/** A number that is not what it was. */
export interface Change {
  readonly text: string;
  /** The sentences and declarations that it can come from, by file and line. */
  readonly places: readonly string[];
}

/** What a number is about. */
interface Counted {
  readonly caller: string;
  readonly collection: string;
  readonly count: number;
}

/** Every number that is not what it was, in a sentence, with what has changed in the rulebook and bears on it. */
export function changesOf(before: SweepMap, after: SweepMap): Change[] {
  const [was, is] = [numbersOf(before), numbersOf(after)];
  const { declared: then = null } = before;
  const { declared: now = null } = after;
  const bears = then === null || now === null ? () => [] : bearing(then, now);
  const placesFor = ({ collection, caller }: Counted) =>
    bears(collection, caller).map(
      ({ declaration, how }) => `${placeWords(declaration)}${how === 'new' ? '' : `, ${how}`}`,
    );
  return [...new Set([...was.keys(), ...is.keys()])]
    .filter((key) => (was.get(key)?.count ?? 0) !== (is.get(key)?.count ?? 0))
    .map((key) => ({
      text: `${key}: ${was.get(key)?.count ?? 0} before, ${is.get(key)?.count ?? 0} now`,
      places: placesFor((is.get(key) ?? was.get(key))!),
    }));
}

function numbersOf({ reach, creates }: SweepMap): Map<string, Counted> {
  const numbers = new Map<string, Counted>();
  for (const { caller, owner, collection, records, fields, follows = {}, undecided = {} } of reach) {
    const whose = owner === null ? 'nobody’s' : owner === '*' ? 'other people’s' : `${owner}’s`;
    const add = (what: string, count: number) => {
      const key = `${caller} may ${what} of ${whose} ${collection}`;
      numbers.set(key, { caller, collection, count: (numbers.get(key)?.count ?? 0) + count });
    };
    for (const [operation, count] of Object.entries(records)) add(operation, count);
    for (const [what, count] of Object.entries(follows)) add(`${what} along with others`, count);
    for (const [what, count] of Object.entries(undecided)) add(`perhaps ${what}`, count);
    for (const operation of ['read', 'update'] as const)
      for (const [field, count] of Object.entries(fields[operation])) add(`${operation} (${field})`, count);
  }
  for (const { identity, collection, kind, field, allowed } of creates)
    numbers.set(`${identity} may ${kind} ${collection}${field === '' ? '' : ` (${field})`}`, {
      caller: identity,
      collection,
      count: allowed ? 1 : 0,
    });
  return numbers;
}
