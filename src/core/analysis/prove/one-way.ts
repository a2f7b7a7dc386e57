import type { Rulebook } from '../../ir/rulebook.ts';
import type { Size } from './declarations.ts';
import { exampleOf, type Solve } from './examples.ts';
import { recordSaid, saidOf, sentWords } from './said.ts';
import type { Question } from './ways.ts';
import { placed, smallest, type Found } from './worlds.ts';

/** Is there anybody, and any record, for whom one rulebook allows what the other does not? */
export type OneWay =
  | { readonly result: 'nobody' }
  | { readonly result: 'somebody'; readonly example: Somebody }
  | { readonly result: 'not decided'; readonly why: string };

/** In lines of the language. */
export interface Somebody {
  readonly caller: string;
  /** The record, or what is sent to make one. */
  readonly record: string;
  /** What is sent to change it; null: nothing is. */
  readonly sent: string | null;
  readonly others: readonly string[];
}

/** What is asked of two rulebooks: whether something is allowed by one of them alone. */
export interface Between {
  readonly collection: string;
  /** Questions to the solver, to each of which an answer would be an example. */
  readonly asks: readonly ((size: Size) => Question)[];
  readonly isAllowed: (rulebook: Rulebook, found: Found) => boolean;
}

/** Examples that were found for other rights to the same records: whoever gains one right has often gained another, too. */
export interface Known {
  readonly more: Found[];
  readonly less: Found[];
}

/** Who gains it, and who loses it. Looks among the examples that are known before it asks the solver, and adds what it finds. */
export async function bothWays(
  before: Rulebook,
  after: Rulebook,
  between: (allowing: Rulebook, refusing: Rulebook) => Between,
  solve: Solve,
  known: Known = { more: [], less: [] },
): Promise<{ readonly more: OneWay; readonly less: OneWay }> {
  return {
    more: await oneWay(after, before, between(after, before), solve, known.more),
    less: await oneWay(before, after, between(before, after), solve, known.less),
  };
}

/** In neither direction, for one reason. */
export function notDecided(why: string): { readonly more: OneWay; readonly less: OneWay } {
  const open: OneWay = { result: 'not decided', why };
  return { more: open, less: open };
}

/** Is there anybody whom `allowing` lets, and `refusing` does not? What is found both have borne out. */
async function oneWay(
  allowing: Rulebook,
  refusing: Rulebook,
  { collection, asks, isAllowed }: Between,
  solve: Solve,
  known: Found[],
): Promise<OneWay> {
  const against = (found: Found) => {
    // Whoever is found under the one rulebook, and what they ask about, is there under the other.
    return isAllowed(allowing, found) && !isAllowed(refusing, placed(refusing, found)!);
  };
  const somebody = (found: Found): OneWay => ({
    result: 'somebody',
    example: words(allowing, collection, smallest(allowing, found, against)),
  });
  const again = known.find(against);
  if (again !== undefined) return somebody(again);
  let open: OneWay | null = null;
  for (const ask of asks) {
    const answer = await exampleOf(allowing, collection, ask, against, solve);
    if (answer === 'none') continue;
    if ('record' in answer) {
      known.push(answer);
      return somebody(answer);
    }
    open ??= { result: 'not decided', why: answer.undecided };
  }
  return open ?? { result: 'nobody' };
}

function words(rulebook: Rulebook, collection: string, found: Found): Somebody {
  const { caller, others, words: wordsOf, name } = saidOf(rulebook, found);
  const { sent } = found;
  const given = sent === undefined ? null : sentWords(rulebook, { collection, ...sent }, name).join(', ');
  if (sent?.operation === 'create')
    return { caller, record: `a new record of ${collection}: ${given}`, sent: null, others };
  return {
    caller,
    record: recordSaid(`a record of ${collection}`, wordsOf(collection, found.record)),
    sent: given,
    others,
  };
}
