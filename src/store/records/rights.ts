import { LRUCache } from 'lru-cache';
import { planRights, type RightsPlan } from '../../core/analysis/rights.ts';
import { standingOf } from '../../core/decide/caller.ts';
import { remembered } from '../../core/decide/remembered.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';

/** Plans that are kept of one rulebook: collections times standings. */
const PLANS = 300;

const kept = new WeakMap<Rulebook, LRUCache<string, RightsPlan>>();

/** How the rights of this caller are found: kept for everybody of their standing, unless something is shared with them. */
export function rightsPlanOf({ rulebook, caller }: Access, collection: string): RightsPlan {
  if (caller.shared !== undefined) return planRights(rulebook, caller, collection);
  const plans = remembered(kept, rulebook, () => new LRUCache<string, RightsPlan>({ max: PLANS }));
  const key = `${collection} ${standingOf(caller)}`;
  return remembered<string, RightsPlan>(plans, key, () => planRights(rulebook, caller, collection));
}
