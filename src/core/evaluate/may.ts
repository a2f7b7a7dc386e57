import type { Caller } from '../decide/caller.ts';
import { holds, type Node, type TrueOf } from '../decide/nodes.ts';
import { permissionOf } from '../decide/permission.ts';
import { rolesFor } from '../decide/caller.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { PEOPLE } from '../types/schema.ts';
import { compilePredicate, type MayDecider, type Predicate } from './closures.ts';

/** The condition as a closure, made once. */
export function predicateOf(condition: Condition): Predicate {
  let known = predicates.get(condition);
  if (known === undefined) predicates.set(condition, (known = compilePredicate(condition)));
  return known;
}

const predicates = new WeakMap<Condition, Predicate>();

/**
 * Answers `me may …` by the closures: readable, and then the operation itself, with the record as it is on both sides; no
 * value is named, so no reference is asked about. The checker has seen to it that this comes to an end.
 */
export function mayDecider(rulebook: Rulebook): MayDecider {
  return ({ operation, collection, fields }, record, circumstances) => {
    const caller = circumstances.caller as Caller;
    const side = { record, look: circumstances.look };
    const trueOf = ({ when, pair }: TrueOf) => {
      const roles = rolesFor(rulebook, caller, pair.operation, pair.collection);
      return predicateOf(when)(record, { ...circumstances, roles, old: side, new: side }) === true;
    };
    const isAllowed = (node: Node): boolean =>
      holds(node, {
        trueOf,
        permitted: ({ pair }) =>
          isAllowed(permissionOf(rulebook, caller, pair.operation, pair.collection).record),
        referenceReadable: () => true,
        isOwnRecord: () => collection === PEOPLE && record.id === caller.person?.id,
      });
    const permission = permissionOf(rulebook, caller, operation, collection);
    return isAllowed(permission.record) && fields.every((field) => isAllowed(permission.field(field).whole));
  };
}
