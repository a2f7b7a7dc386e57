import type { Rulebook } from '../../ir/rulebook.ts';
import { parseFile } from '../../language/parser/index.ts';
import { acceptUnused } from './accept-unused.ts';
import { actionUndoes } from './action-undoes.ts';
import { attributeUnused } from './attribute-unused.ts';
import { closedFence } from './closed-fence.ts';
import { fencedOff } from './fenced-off.ts';
import { fieldGivenBack } from './given-back.ts';
import { inAnothersName } from './in-anothers-name.ts';
import type { AdviceKind, Found } from './kind.ts';
import { letUnused } from './let-unused.ts';
import { neverTrue } from './never-true.ts';
import { noIndex } from './no-index.ts';
import { ownerByName } from './owner-by-name.ts';
import { ownerChanges } from './owner-changes.ts';
import { ownerUnset } from './owner-unset.ts';
import { pointlessCondition } from './pointless-condition.ts';
import { referenceUnread } from './reference-unread.ts';
import { roleUnheld } from './role-unheld.ts';
import { sameTitle } from './same-title.ts';
import { sensitiveOpen } from './sensitive-open.ts';
import { singleHand } from './single-hand.ts';
import { stampUndoes } from './stamp-undoes.ts';
import { stampsDiffer } from './stamps-differ.ts';
import { uniqueTells } from './unique-tells.ts';
import { visitorsWrite } from './visitors-write.ts';
import { whoTheyAre } from './who-they-are.ts';

export type { AdviceKind, Found } from './kind.ts';

/** Every kind of advice, by code. */
export const adviceKinds: readonly AdviceKind[] = [
  pointlessCondition,
  fieldGivenBack,
  ownerChanges,
  inAnothersName,
  ownerByName,
  visitorsWrite,
  sensitiveOpen,
  neverTrue,
  closedFence,
  roleUnheld,
  letUnused,
  attributeUnused,
  uniqueTells,
  noIndex,
  singleHand,
  ownerUnset,
  stampUndoes,
  stampsDiffer,
  acceptUnused,
  whoTheyAre,
  sameTitle,
  actionUndoes,
  referenceUnread,
  fencedOff,
];

export interface Advice extends Found {
  readonly kind: AdviceKind;
}

/** All advice on a rulebook, in reading order. Cost: that of checking it once more. */
export function adviceOn(rulebook: Rulebook): Advice[] {
  const { sources } = rulebook;
  const material = {
    rulebook,
    sources,
    declarations: sources.flatMap((each) => parseFile(each).declarations),
  };
  const found = adviceKinds.flatMap((kind) => [...kind.find(material)].map((each) => ({ ...each, kind })));
  return found.toSorted((a, b) =>
    a.span.source === b.span.source ? a.span.start - b.span.start : a.span.source < b.span.source ? -1 : 1,
  );
}
