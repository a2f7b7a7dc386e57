import type { Rulebook } from '../../ir/rulebook.ts';
import type { Size } from './declarations.ts';
import { readModel } from './model.ts';
import { CannotEncode } from './terms.ts';
import type { Question } from './ways.ts';
import { withoutWhatPointsAt, type Found } from './worlds.ts';

/** Answers SMT-LIB 2.6: the solver’s lines, one for each command that answers. */
export type Solve = (text: string) => Promise<string>;

/** Is there no example among any number of records? */
export async function isRuledOut(ask: (size: Size) => Question, solve: Solve): Promise<boolean> {
  return (await solve(ask(null).text)).trim().startsWith('unsat');
}

/** Sizes of the worlds in which an example is looked for: records of each collection. */
const SIZES = [1, 2, 3];

/**
 * Asks the solver for an example: `none` is a proof that there is none, and what is found `against` has borne out. Cost: what `solve` allows,
 * once for any number of records, and where that does not settle it once for each size.
 */
export async function exampleOf(
  rulebook: Rulebook,
  collection: string,
  ask: (size: Size) => Question,
  against: (found: Found) => boolean,
  solve: Solve,
): Promise<'none' | Found | { readonly undecided: string }> {
  try {
    const [answer] = (await solve(ask(null).text)).trim().split('\n');
    if (answer === 'unsat') return 'none';
    let undecided =
      answer === 'sat' ? 'the solver’s example is no real one' : 'the solver came to no answer in time';
    for (const size of SIZES) {
      const { encoder, text, get, request } = ask(size);
      const told = (await solve(`${text}\n(get-value (${get.join(' ')}))`)).trim();
      if (!told.startsWith('sat')) {
        if (!told.startsWith('unsat')) undecided = 'the solver came to no answer in time';
        continue;
      }
      const found = readModel(rulebook, encoder, collection, get, told.slice('sat'.length), request);
      for (const each of [found, found && withoutWhatPointsAt(rulebook, found)])
        if (each !== null && against(each)) return each;
      undecided = 'an example was found that the rules, asked again, do not bear out';
    }
    return { undecided };
  } catch (error) {
    if (!(error instanceof CannotEncode)) throw error;
    return { undecided: `${error.message} cannot be put to the solver` };
  }
}
