import { createHash } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import { planRights, type RightsPlan } from '../../core/analysis/rights.ts';
import { standingOf, type Caller } from '../../core/decide/caller.ts';
import { remembered } from '../../core/decide/remembered.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';

/** Plans that are kept of one rulebook: collections times standings. */
const PLANS = 300;

const kept = new WeakMap<Rulebook, LRUCache<string, RightsPlan>>();

/** How the rights of this caller are found: kept for everybody of their standing; where something is shared with them, for them. */
export function rightsPlanOf({ rulebook, caller }: Access, collection: string): RightsPlan {
  const plans = remembered(kept, rulebook, () => new LRUCache<string, RightsPlan>({ max: PLANS }));
  const key = digestOf([
    collection,
    standingOf(caller),
    ...(caller.shared === undefined ? [] : beside(caller)),
  ]);
  return remembered<string, RightsPlan>(plans, key, () => planRights(rulebook, caller, collection));
}

/** Whatever is shared may be long, and a digest of it is not. */
function digestOf(by: readonly unknown[]): string {
  return createHash('sha256').update(JSON.stringify(by)).digest('base64');
}

/** All that a plan goes by where something is shared: what is known of the caller and of each sharer stands in its conditions. */
function beside({ person, shared = [] }: Caller): unknown[] {
  const of = shared.map(({ sharer, ...sharing }) => [standingOf(sharer), sharer.person, sharing]);
  return [person, of];
}
