import type { Answer } from '../core/analysis/outcomes.ts';
import type { Reach } from '../core/analysis/reach.ts';
import { audienceOf } from '../core/analysis/reach.ts';
import { searchMakes } from '../core/analysis/search.ts';
import type { Caller } from '../core/decide/caller.ts';
import { Decider } from '../core/evaluate/decider.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import type { Executor } from './connection.ts';
import { LoadedWorld, TooMuchToLoad } from './world.ts';

/** What somebody may make of one collection: as a line of reach, which counts one record where they may. */
export interface Creates {
  readonly reach: readonly Reach[];
  /** What was not found, and could not be tried in every way: such as `create hives`, or `create hives (notes)`. */
  readonly undecided: readonly string[];
}

/** May this caller make a record of the collection, and with which fields supplied? */
export async function createsOf(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  collection: string,
): Promise<Creates> {
  const whole = `create ${collection}`;
  try {
    return await new LoadedWorld(on, rulebook).run(now, (world): Creates => {
      const makes = searchMakes(new Decider(rulebook, caller, world), collection);
      if (makes.answer !== 'yes') return { reach: [], undecided: makes.answer === 'no' ? [] : [whole] };
      const of = (answer: Answer) =>
        [...makes.fields].flatMap(([name, each]) => (each === answer ? name : []));
      const through = makes.through.map((id) => ({
        rule: id,
        audience: audienceOf(rulebook, id),
        records: 1,
      }));
      const fields = Object.fromEntries(of('yes').map((name) => [name, 1]));
      return {
        reach: [{ collection, operation: 'create', records: 1, fields, through }],
        undecided: of('not decided').map((name) => `${whole} (${name})`),
      };
    });
  } catch (error) {
    if (!(error instanceof TooMuchToLoad)) throw error;
    return { reach: [], undecided: [whole] };
  }
}
