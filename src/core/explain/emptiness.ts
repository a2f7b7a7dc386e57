import type { Caller } from '../decide/caller.ts';
import { permissionOf } from '../decide/permission.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';

/** Why somebody sees no record: as data, and in words for the developer. End users are never told. */
export interface EmptinessReason {
  readonly reason:
    'no rule' | 'no rule for these roles' | 'no record' | 'no match' | 'filtered' | 'signed out';
  readonly explanation: string;
  readonly next: string;
}

/** What is known of an empty list. */
export interface EmptyList {
  readonly collection: string;
  /** null: somebody who may not sign in. */
  readonly caller: Caller | null;
  /** All records of the collection. */
  readonly total: number;
  /** Records whose owner is missing, where the rulebook says what an owner is. */
  readonly ownerless: number;
  /** Records that would be seen without the caller's own filter. */
  readonly unfiltered: number;
}

/** The first reason that suffices, in the order in which a developer would rule them out. */
export function explainEmptiness(rulebook: Rulebook, list: EmptyList): EmptinessReason {
  const { collection, caller, total, ownerless, unfiltered } = list;
  if (caller === null) {
    return {
      reason: 'signed out',
      explanation: 'This identity is deactivated: every request of theirs is answered with 401.',
      next: 'Take “deactivated” out of its block to look through it.',
    };
  }
  if (total === 0) {
    return {
      reason: 'no record',
      explanation: `${collection} has no records at all.`,
      next: 'Create some, a few for each test identity.',
    };
  }
  if (unfiltered > 0) {
    return {
      reason: 'filtered',
      explanation: `${unfiltered} readable records do not pass the filter. A withheld value counts as missing there.`,
      next: 'Loosen the filter.',
    };
  }
  const all = rulebook.rules.filter((rule) => rule.collection === collection && rule.operations.has('read'));
  if (all.length === 0) {
    return {
      reason: 'no rule',
      explanation: `No rule lets anybody read ${collection}: a collection is closed until a rule says otherwise.`,
      next: `Write one, such as: rules ${collection} { people may read${ownerHint(rulebook, collection)} }`,
    };
  }
  const { grounds, barriers } = permissionOf(rulebook, caller, 'read', collection);
  const applying = grounds.map(({ rule }) => rule);
  const fences = barriers.filter(({ about }) => about === null).map(({ fence }) => fence);
  if (applying.length === 0) {
    const roles = [...caller.roles].toSorted().join(', ');
    const who =
      caller.person === null
        ? 'the visitor'
        : roles === ''
          ? 'a person without roles'
          : `the roles held (${roles})`;
    return {
      reason: 'no rule for these roles',
      explanation: `${all.length} ${all.length === 1 ? 'rule lets' : 'rules let'} somebody read ${collection}, and none speaks of ${who}.`,
      next: `Rules speak of: ${audiences(all)}.`,
    };
  }
  const stops =
    fences.length > 0 ? ` Besides, ${fences.map((fence) => fence.id).join(', ')} must be passed.` : '';
  const owners = ownerless > 0 ? ` ${ownerless} of the ${total} have no owner at all.` : '';
  return {
    reason: 'no match',
    explanation: `${applying.map((rule) => rule.id).join(', ')} ${applying.length === 1 ? 'applies' : 'apply'}, and no condition is true for any of the ${total} records.${owners}${stops}`,
    next:
      ownerless > 0
        ? 'Give these records an owner, or check the condition.'
        : 'Check the condition, or give this identity a record of its own.',
  };
}

function ownerHint(rulebook: Rulebook, collection: string): string {
  const [owner] = collectionOf(rulebook.schema, collection).owners;
  return owner === undefined ? '' : ` when ${owner.join('.')} = me`;
}

function audiences(rules: Rulebook['rules']): string {
  const names = new Set<string>();
  for (const { audience } of rules) {
    if (audience.everybody) names.add('everybody');
    if (audience.people) names.add('people');
    if (audience.visitors) names.add('visitors');
    for (const role of audience.roles) names.add(role);
  }
  return [...names].join(', ');
}
