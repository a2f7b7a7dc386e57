import type { Invariant, Rulebook, Trial } from '../ir/rulebook.ts';

/** What is to be tried, and as whom. */
export interface Choice {
  readonly trials: readonly Trial[];
  readonly invariants: readonly Invariant[];
  /** Whom invariants are asked of; null: the visitor. */
  readonly identities: readonly (string | null)[];
}

/**
 * The trials and invariants whose title has `only` in it, and of trials the parts of `as` (an identity, or `visitor`);
 * null chooses all. A trial of which no part is left is left out.
 */
export function chosenTrials(rulebook: Rulebook, only: string | null, as: string | null): Choice {
  const named = ({ title }: { readonly title: string }) =>
    only === null || title.toLowerCase().includes(only.toLowerCase());
  const isMeant = (identity: string | null) => as === null || (identity ?? 'visitor') === as;
  const trials = rulebook.trials
    .filter(named)
    .map((trial) => ({ ...trial, parts: trial.parts.filter((part) => isMeant(part.identity)) }))
    .filter((trial) => trial.parts.length > 0);
  const identities = [...rulebook.identities.keys(), null].filter(isMeant);
  return { trials, invariants: rulebook.invariants.filter(named), identities };
}
