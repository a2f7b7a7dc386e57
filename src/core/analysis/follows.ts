import { isOwn, settledFor } from '../decide/condition.ts';
import type { Caller } from '../decide/caller.ts';
import { leavesOf } from '../decide/nodes.ts';
import { permissionOf, raises } from '../decide/permission.ts';
import { fencesAlong, referrersOf } from '../decide/steps/delete.ts';
import { negate, type Condition, type PathOperand } from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf, type Field } from '../types/schema.ts';
import { behind, plainCondition } from './grounds.ts';
import { movedTo, seenFrom, type Overlay } from './sides.ts';

/** Steps of deletion that are followed, as conditions. */
export const FOLLOWED = 4;

/** May the caller delete the record, and does every fence let go along what would have to? */
export function deletion(rulebook: Rulebook, caller: Caller, collection: string): Condition {
  const may = plainCondition(rulebook, caller, permissionOf(rulebook, caller, 'delete', collection).record);
  const id: PathOperand = {
    kind: 'path',
    root: 'record',
    steps: [{ collection, field: 'id' }],
    type: { kind: 'ref', collection },
  };
  return folded({ kind: 'and', operands: [may, ...alongside(rulebook, caller, collection, id, 1)] });
}

/** No record that points there, over any number of steps, is fenced against what would become of it. */
function alongside(
  rulebook: Rulebook,
  caller: Caller,
  target: string,
  to: PathOperand,
  depth: number,
): Condition[] {
  if (depth > FOLLOWED) return [];
  return referrersOf(rulebook, target).flatMap(({ holder, field }): Condition[] => {
    const passes = fencesPassed(rulebook, caller, holder, field).map((each) => movedTo(each, depth));
    const at = (name: string, type: PathOperand['type']): PathOperand => ({
      kind: 'path',
      root: depth,
      steps: [{ collection: holder, field: name }],
      type,
    });
    const further =
      field.onDelete === 'clear'
        ? []
        : alongside(rulebook, caller, holder, at('id', { kind: 'ref', collection: holder }), depth + 1);
    const all = [...passes, ...further];
    if (all.length === 0) return [];
    const own = at(field.name, field.type);
    // What goes along by another field loses nothing by this one.
    const going =
      field.onDelete === 'remove'
        ? []
        : [...collectionOf(rulebook.schema, holder).fields.values()]
            .filter(
              ({ type, onDelete }) =>
                onDelete === 'remove' && type.kind === 'ref' && type.collection === target,
            )
            .map(({ name, type }): Condition => ({
              kind: 'or',
              operands: [
                { kind: 'missing', operand: at(name, type) },
                negate({ kind: 'equal', left: at(name, type), right: to }),
              ],
            }));
    // What points nowhere is no reason against it: a comparison with it would be unknown, which is not false.
    const body: Condition = {
      kind: 'and',
      operands: [
        negate({ kind: 'missing', operand: own }),
        { kind: 'equal', left: own, right: to },
        ...going,
        negate(folded({ kind: 'and', operands: all })),
      ],
    };
    return [negate({ kind: 'some', range: { collection: holder, depth }, body })];
  });
}

/** The fences on a record that is removed, or has the field cleared, because another is deleted. */
function fencesPassed(
  rulebook: Rulebook,
  caller: Caller,
  holder: string,
  { name, type, onDelete }: Field,
): Condition[] {
  const clearing = onDelete === 'clear';
  const overlay: Overlay = clearing
    ? new Map([
        [name, { kind: 'nothing', type } as const],
        ['updated_at', { kind: 'now', type: { kind: 'timestamp' } } as const],
      ])
    : new Map();
  const fences = leavesOf(fencesAlong(rulebook, caller, holder, clearing ? name : null)).map((leaf) => {
    const condition = settledFor(rulebook, caller, leaf);
    const sides = [seenFrom(condition, 'before', overlay)];
    if (leaf.sides !== 'before' && clearing) sides.push(seenFrom(condition, 'after', overlay));
    return folded({ kind: 'and', operands: sides });
  });
  // Nobody's own entry loses what decides about them.
  const raised = clearing && caller.person !== null && raises(rulebook, holder, name);
  return raised ? [...fences, negate(isOwn(caller.person.id))] : fences;
}

/**
 * What becomes of records of a collection when the caller deletes others that they point at: `delete`, or `update FIELD`, each
 * with when. That another record's fence may stop the whole is not part of it.
 */
export function followers(
  rulebook: Rulebook,
  caller: Caller,
  collection: string,
): (readonly [what: string, when: Condition])[] {
  const { fields } = collectionOf(rulebook.schema, collection);
  return [...fields.values()].flatMap((field): (readonly [string, Condition])[] => {
    const { name, type, onDelete } = field;
    if (onDelete === 'refuse' || type.kind !== 'ref') return [];
    const path: PathOperand = { kind: 'path', root: 'record', steps: [{ collection, field: name }], type };
    const gone = goes(rulebook, caller, type.collection, path, 1);
    const when = folded({
      kind: 'and',
      operands: [gone, ...fencesPassed(rulebook, caller, collection, field)],
    });
    return [[onDelete === 'clear' ? `update ${name}` : 'delete', when]];
  });
}

/** The record at the end of the path can be deleted by the caller, or goes along with another that can. */
function goes(
  rulebook: Rulebook,
  caller: Caller,
  target: string,
  path: PathOperand,
  depth: number,
): Condition {
  const ways = [behind(rulebook, caller, 'delete', target, path)];
  if (depth < FOLLOWED)
    for (const { name, type, onDelete } of collectionOf(rulebook.schema, target).fields.values()) {
      if (onDelete !== 'remove' || type.kind !== 'ref') continue;
      const on: PathOperand = { ...path, steps: [...path.steps, { collection: target, field: name }], type };
      ways.push(goes(rulebook, caller, type.collection, on, depth + 1));
    }
  return folded({ kind: 'or', operands: ways });
}
