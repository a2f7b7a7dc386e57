import type { Caller } from '../decide/caller.ts';
import { settledFor } from '../decide/condition.ts';
import { holds, type Node, type TrueOf } from '../decide/nodes.ts';
import { permissionOf } from '../decide/permission.ts';
import { remembered } from '../decide/remembered.ts';
import { SHARE, shareableCollections } from '../decide/shares.ts';
import { createGroups } from '../decide/steps/create.ts';
import { actionsOn, type Action, type Operation, type Rulebook } from '../ir/rulebook.ts';
import { collectionOf, type Field } from '../types/schema.ts';
import { answered, isHopeless } from './sides.ts';

/**
 * What a caller could do with the records of a collection, whatever these are: worked out from sentences, roles, attributes, the
 * clock and what is shared, never from records. A no is certain; a yes says only that nothing rules it out.
 */
export interface Could {
  /** Fields that could be shown; none: no record could. */
  readonly read: readonly string[];
  readonly create: CouldCreate | null;
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly share: boolean;
  readonly actions: readonly Action[];
}

export interface CouldCreate {
  /** Fields that could be supplied. */
  readonly fields: readonly string[];
  /** Of these, those without which no record could be made. */
  readonly required: readonly string[];
  /** Those that the service fills in where they are left out, whichever rule lets the caller: stamps and defaults. */
  readonly filled: readonly string[];
}

/** Null: no sentence opens anything of the collection to this caller. Cost: each sentence about it once. */
export function couldDo(rulebook: Rulebook, caller: Caller, now: string, collection: string): Could | null {
  const { fields } = collectionOf(rulebook.schema, collection);
  const permission = (operation: Operation) => permissionOf(rulebook, caller, operation, collection);
  // Fields share most of their parts: each is looked at once.
  const leaves = new Map<TrueOf, boolean>();
  const trueOf = (leaf: TrueOf) =>
    remembered(leaves, leaf, () => !isHopeless(answered(settledFor(rulebook, caller, leaf), caller, now)));
  const could = (node: Node): boolean =>
    holds(node, {
      trueOf,
      permitted: ({ pair }) => could(permissionOf(rulebook, caller, pair.operation, pair.collection).record),
      referenceReadable: () => true,
      isOwnRecord: () => false,
    });
  const fieldsOf = (operation: Operation, of: readonly Field[]) => {
    const { record, field } = permission(operation);
    return could(record) ? of.filter(({ name }) => could(field(name).whole)).map(({ name }) => name) : [];
  };
  const all = [...fields.values()];
  const own = all.filter(({ system }) => !system);
  const found: Could = {
    read: fieldsOf('read', all),
    create: couldCreate(),
    update: fieldsOf('update', own),
    delete: could(permission('delete').record),
    share: shareableCollections(rulebook).has(collection) && could(permission(SHARE).record),
    actions: actionsOn(rulebook, collection).filter(({ name }) => could(permission(name).record)),
  };
  const isNothing = found.read.length === 0 && found.create === null;
  return isNothing ? null : found;

  function couldCreate(): CouldCreate | null {
    const creating = permission('create');
    if (!could(creating.fenced)) return null;
    const groups = createGroups(creating, []).flatMap(({ stamps, grounds }) => {
      const open = grounds.filter(({ node }) => could(node));
      const stamped = new Set(stamps.map(({ field }) => field));
      const covered = new Set(open.flatMap(({ rule }) => [...rule.operations.get('create')!]));
      const suppliable = own.filter(
        ({ name }) => covered.has(name) && !stamped.has(name) && could(creating.field(name).fenced),
      );
      const needed = own.filter(
        ({ name, required, default: given }) => required && given === null && !stamped.has(name),
      );
      const isPossible = open.length > 0 && needed.every((field) => suppliable.includes(field));
      return isPossible ? [{ stamped, suppliable, needed }] : [];
    });
    if (groups.length === 0) return null;
    const everywhere = (is: (group: (typeof groups)[number], field: Field) => boolean) =>
      own.filter((field) => groups.every((group) => is(group, field))).map(({ name }) => name);
    return {
      fields: own
        .filter((field) => groups.some(({ suppliable }) => suppliable.includes(field)))
        .map(({ name }) => name),
      required: everywhere(({ needed }, field) => needed.includes(field)),
      filled: everywhere(({ stamped }, { name, default: given }) => stamped.has(name) || given !== null),
    };
  }
}
