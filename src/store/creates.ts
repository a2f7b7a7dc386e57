import type { Reach } from '../core/analysis/reach.ts';
import { audienceOf } from '../core/analysis/reach.ts';
import { searchCreate } from '../core/analysis/search.ts';
import type { Caller } from '../core/decide/caller.ts';
import { Decider } from '../core/evaluate/decider.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import type { Executor } from './connection.ts';
import { LoadedWorld, TooMuchToLoad } from './world.ts';

/** What somebody may make of one collection: as a line of reach, which counts one record where they may. */
export interface Creates {
  readonly reach: readonly Reach[];
  /** Nothing was found that they may make, and not every way of it could be tried. */
  readonly undecided: boolean;
}

/** May this caller make a record of the collection, with anything at all? Each yes is a request that the closures allow. */
export async function createsOf(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  collection: string,
): Promise<Creates> {
  try {
    return await new LoadedWorld(on, rulebook).run(now, (world): Creates => {
      const decider = new Decider(rulebook, caller, world);
      const { answer, request } = searchCreate(decider, collection);
      if (answer !== 'yes') return { reach: [], undecided: answer === 'not decided' };
      const { grounds } = decider.permission('create', collection);
      const names = [...request!.keys()];
      const through = grounds
        .filter(
          ({ rule }) => names.length === 0 || names.some((name) => rule.operations.get('create')!.has(name)),
        )
        .map(({ rule: { id } }) => ({ rule: id, audience: audienceOf(rulebook, id), records: 1 }));
      const fields = Object.fromEntries(names.map((name) => [name, 1]));
      return { reach: [{ collection, operation: 'create', records: 1, fields, through }], undecided: false };
    });
  } catch (error) {
    if (!(error instanceof TooMuchToLoad)) throw error;
    return { reach: [], undecided: true };
  }
}
