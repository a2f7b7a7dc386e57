import type { Action, Rulebook } from '../../core/ir/rulebook.ts';

/** The actions of a collection, in the order of the rulebook. */
export function actionsOn({ actions }: Rulebook, collection: string): Action[] {
  return [...actions.values()].filter((action) => action.collection === collection);
}
