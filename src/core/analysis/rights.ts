import type { Caller } from '../decide/caller.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { Numbered, type Bits } from './bits.ts';
import { Outcomes, type Reached } from './outcomes.ts';

/** What a caller may do with one record of theirs, as it is. A value sent unchanged counts as an update. */
export interface Rights {
  /** Fields that some request would supply. */
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly share: boolean;
  readonly actions: readonly string[];
  /** What could be neither called possible nor ruled out; absent where there is nothing of the kind. */
  readonly undecided?: Undecided;
}

export interface Undecided {
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly actions: readonly string[];
}

/** Nothing at all: of a record that is not there, or no longer in sight. */
export const noRights: Rights = { update: [], delete: false, share: false, actions: [] };

/** How rights on records of one collection are found: what is asked of each record, and of none, and what it comes to. */
export interface RightsPlan {
  readonly conditions: readonly Condition[];
  /** Those that speak of no record: the same for all of them. */
  readonly facts: readonly Condition[];
  /** By the truth of each, as texts of 0 and 1. */
  readonly decide: (conditions: string, facts: string) => Rights;
}

/** Answers that are remembered for one plan. */
const MOST_KNOWN = 1_000;

/**
 * Makes the plan for everybody of the caller's standing: their own values and the clock stay open. What is shared with somebody
 * makes a plan theirs alone. Cost: each request that is thought through, once; nothing is asked of any record yet.
 */
export function planRights(rulebook: Rulebook, caller: Caller, collection: string): RightsPlan {
  const outcomes = new Outcomes(rulebook, collection, caller, null, new Numbered(), {
    unchanged: true,
    only: 'writes',
  });
  const { own, facts } = outcomes.asking;
  const known = new Map<string, Rights>();
  return {
    conditions: own.conditions,
    facts: facts.conditions,
    decide(conditions, said) {
      const key = `${conditions} ${said}`;
      const before = known.get(key);
      if (before !== undefined) return before;
      if (known.size >= MOST_KNOWN) known.clear();
      const bits: Bits = { common: '', own: conditions, facts: said };
      const found = rightsOf(outcomes.reached(bits));
      known.set(key, found);
      return found;
    },
  };
}

/** What is told of all that can be done with a record: nothing of one that is out of sight. */
export function rightsOf({ read, updatable, delete: deletes, share, actions, undecided }: Reached): Rights {
  if (!read) return noRights;
  const open = undecided.filter((what) => !what.startsWith('goes along: '));
  const fields = open.flatMap((what) => (what.startsWith('update ') ? [what.slice(7)] : []));
  const rest = open.filter((what) => !what.startsWith('update ') && what !== 'delete');
  return {
    update: updatable,
    delete: deletes,
    share,
    actions,
    ...(open.length === 0
      ? {}
      : { undecided: { update: fields, delete: open.includes('delete'), actions: rest } }),
  };
}
