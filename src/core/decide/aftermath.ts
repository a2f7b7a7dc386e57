import { nodesOf, type Condition, type Operand } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf, type Field } from '../types/schema.ts';
import type { Type } from '../types/types.ts';
import { remembered } from './remembered.ts';
import { referrersOf } from './steps/referrers.ts';

/** What deletions may change that take away a record of one collection, whichever was asked for. */
export interface Aftermath {
  /** Collections whose records may go. */
  readonly removed: ReadonlySet<string>;
  /** Fields that may be cleared, and times of change that may be set: `COLLECTION FIELD`. */
  readonly cells: ReadonlySet<string>;
}

const known = new WeakMap<Rulebook, Map<string, Aftermath>>();

/** Over any number of steps. Worked out once for each collection of a rulebook. */
export function aftermathOf(rulebook: Rulebook, target: string): Aftermath {
  const all = remembered(known, rulebook, () => new Map<string, Aftermath>());
  return remembered(all, target, () => workedOut(rulebook, target));
}

function workedOut(rulebook: Rulebook, target: string): Aftermath {
  const removed = aboveOf(rulebook, target);
  for (const each of removed)
    for (const { holder } of referrersOf(rulebook, each, 'remove')) removed.add(holder);
  const cells = [...removed].flatMap((each) =>
    referrersOf(rulebook, each, 'clear').flatMap(({ holder, field }) => [
      `${holder} ${field.name}`,
      `${holder} updated_at`,
    ]),
  );
  return { removed, cells: new Set(cells) };
}

/** The collections of which a record may be deleted where one of this goes: this one, and those with which it goes along, over any number of steps. */
export function aboveOf(rulebook: Rulebook, collection: string): Set<string> {
  const above = new Set([collection]);
  for (const each of above) for (const field of goingWith(rulebook, each)) above.add(targetOf(field));
  return above;
}

/** The references of a collection with whose target its records go along: only references say what follows a deletion. */
export function goingWith(rulebook: Rulebook, collection: string): Field[] {
  return [...collectionOf(rulebook.schema, collection).fields.values()].filter(
    ({ onDelete }) => onDelete === 'remove',
  );
}

/** The fields of a collection that such a deletion may clear. */
export function clearedOf(rulebook: Rulebook, collection: string, { cells }: Aftermath): Field[] {
  return [...collectionOf(rulebook.schema, collection).fields.values()].filter(
    ({ name, type }) => type.kind === 'ref' && cells.has(`${collection} ${name}`),
  );
}

/** The collection that a reference points at. */
export function targetOf({ type }: { readonly type: Type }): string {
  return (type as { readonly collection: string }).collection;
}

/**
 * Does the condition look, beyond the record in hand, at something that such a deletion may change? What a path reaches stays where it is, as
 * a reference to what goes is cleared, or its record goes, too, or it refuses and nothing goes; so of paths and trees only the cells that they
 * read count. What `me may` asks is not looked into.
 */
export function seesAftermath(condition: Condition, { removed, cells }: Aftermath): boolean {
  return nodesOf(condition).some((node) => {
    switch (node.kind) {
      case 'may':
        return true;
      case 'some':
      case 'count':
        return removed.has(node.range.collection);
      case 'within':
        return !isOld(node.left) && cells.has(`${node.parent.collection} ${node.parent.field}`);
      case 'path':
        return (
          !isOld(node) &&
          (typeof node.root === 'number' ? node.steps : node.steps.slice(1)).some(({ collection, field }) =>
            cells.has(`${collection} ${field}`),
          )
        );
      case 'constant':
      case 'equal':
      case 'less':
      case 'at most':
      case 'contains':
      case 'starts with':
      case 'ends with':
      case 'member':
      case 'among':
      case 'missing':
      case 'holds':
      case 'has role':
      case 'as':
      case 'and':
      case 'or':
      case 'not':
      case 'literal':
      case 'nothing':
      case 'now':
      case 'today':
      case 'lower':
      case 'length':
      case 'shift':
        return false;
    }
  });
}

/** What starts before the step stays there. */
function isOld(operand: Operand): boolean {
  return operand.kind === 'path' && operand.root === 'old';
}
