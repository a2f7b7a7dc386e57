import { isOwn, settledFor } from '../decide/condition.ts';
import type { Caller } from '../decide/caller.ts';
import { leavesOf } from '../decide/nodes.ts';
import { permissionOf, raises } from '../decide/permission.ts';
import { fencesAlong, referrersOf, type Referrer } from '../decide/steps/delete.ts';
import { negate, type Condition, type PathOperand } from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf, type Field } from '../types/schema.ts';
import { behind, plainCondition } from './grounds.ts';
import { movedTo, seenFrom, type Overlay } from './sides.ts';

/** Steps of deletion that are followed, as conditions; fewer where very many ways lead on. */
const FOLLOWED = 4;
/** Ways to go along that are followed. */
const MOST_CHAINS = 64;

/** When the caller may delete a record. */
export interface Deletion {
  /** A rule lets them, and what goes along, as far as it is followed, is fenced against nothing. */
  readonly may: Condition;
  /** More goes along than is followed, and there are fences: then `may` says too much or too little. Null: never. */
  readonly beyond: Condition | null;
}

/** May the caller delete the record, and does every fence let go along what would have to? */
export function deletion(rulebook: Rulebook, caller: Caller, collection: string): Deletion {
  const right = plainCondition(rulebook, caller, permissionOf(rulebook, caller, 'delete', collection).record);
  const root = idOf(collection);
  const chains = chainsFrom(rulebook, collection);
  const along = new Alongside(rulebook, caller, root, chains);
  const may = folded({ kind: 'and', operands: [right, ...along.fenced(collection, root, 1)] });
  const beyond = along.isCut()
    ? folded({ kind: 'and', operands: [right, along.deeper(collection, root, 1)] })
    : null;
  return { may, beyond };
}

/** One reference after the other: each record goes along with the one before, and the first with what is deleted. */
type Chain = readonly Referrer[];

/** The ways in which records go along with one of the collection, the empty one first. */
function chainsFrom(rulebook: Rulebook, collection: string): Chain[] {
  const chains: Chain[] = [[]];
  let last: Chain[] = [[]];
  for (let length = 1; length <= FOLLOWED; length++) {
    last = last.flatMap((chain) =>
      referrersOf(rulebook, chain.at(-1)?.holder ?? collection, 'remove').map((each) => [...chain, each]),
    );
    if (last.length === 0 || (length > 1 && chains.length + last.length > MOST_CHAINS)) break;
    chains.push(...last);
  }
  return chains;
}

/** What is asked of records that go along with another, or lose their reference to one that goes. */
class Alongside {
  readonly #rulebook: Rulebook;
  readonly #caller: Caller;
  readonly #root: PathOperand;
  readonly #chains: readonly Chain[];
  /** Steps to records that go along, of those that are followed. */
  readonly #followed: number;

  constructor(rulebook: Rulebook, caller: Caller, root: PathOperand, chains: readonly Chain[]) {
    this.#rulebook = rulebook;
    this.#caller = caller;
    this.#root = root;
    this.#chains = chains;
    this.#followed = Math.max(...chains.map(({ length }) => length));
  }

  /** Could more go along than is followed, and is there a fence on anything that could, or that loses a reference? */
  isCut(): boolean {
    const ends = this.#chains.filter(({ length }) => length === this.#followed);
    const isLast = (chain: Chain) =>
      referrersOf(this.#rulebook, chain.at(-1)?.holder ?? targetOf(this.#root), 'remove').length === 0;
    if (ends.every(isLast)) return false;
    const reached = new Set([targetOf(this.#root)]);
    for (const target of reached)
      for (const { holder } of referrersOf(this.#rulebook, target, 'remove')) reached.add(holder);
    return [...reached].some((target) =>
      referrers(this.#rulebook, target).some(({ holder, field }) => this.#fences(holder, field).length > 0),
    );
  }

  /** No record that points there, over any number of steps that are followed, is fenced against what would become of it. */
  fenced(target: string, to: PathOperand, depth: number): Condition[] {
    return referrers(this.#rulebook, target).flatMap(({ holder, field }): Condition[] => {
      const clearing = field.onDelete === 'clear';
      if (!clearing && depth > this.#followed) return [];
      const id: PathOperand = { ...idOf(holder), root: depth };
      const all = [
        ...this.#fences(holder, field).map((each) => movedTo(each, depth)),
        ...(clearing ? [] : this.fenced(holder, id, depth + 1)),
      ];
      if (all.length === 0) return [];
      const stays = clearing ? notAlong(this.#chains, id, this.#root) : [];
      const fails = negate(folded({ kind: 'and', operands: all }));
      return [negate(pointing(holder, field, to, depth, [...stays, fails]))];
    });
  }

  /** More goes along than is followed. */
  deeper(target: string, to: PathOperand, depth: number): Condition {
    if (depth > this.#followed + 1) return { kind: 'constant', value: true };
    const ways = referrersOf(this.#rulebook, target, 'remove').map(({ holder, field }) =>
      pointing(holder, field, to, depth, [this.deeper(holder, { ...idOf(holder), root: depth }, depth + 1)]),
    );
    return folded({ kind: 'or', operands: ways });
  }

  #fences(holder: string, field: Field): Condition[] {
    return fencesPassed(this.#rulebook, this.#caller, holder, field).filter(
      (each) => each.kind !== 'constant' || !each.value,
    );
  }
}

/** Some record points there by the field, of which these are true. */
function pointing(
  holder: string,
  field: Field,
  to: PathOperand,
  depth: number,
  more: readonly Condition[],
): Condition {
  const own: PathOperand = {
    kind: 'path',
    root: depth,
    steps: [{ collection: holder, field: field.name }],
    type: field.type,
  };
  // What points nowhere is no reason against it: a comparison with it would be unknown, which is not false.
  const body: Condition = {
    kind: 'and',
    operands: [negate({ kind: 'missing', operand: own }), { kind: 'equal', left: own, right: to }, ...more],
  };
  return { kind: 'some', range: { collection: holder, depth }, body };
}

/** The record does not go along with the one that is deleted, and is not that one itself. */
function notAlong(chains: readonly Chain[], record: PathOperand, deleted: PathOperand): Condition[] {
  const collection = targetOf(record);
  return chains
    .filter((chain) => (chain.at(-1)?.holder ?? targetOf(deleted)) === collection)
    .map((chain): Condition => {
      const steps = chain
        .toReversed()
        .map(({ holder, field }) => ({ collection: holder, field: field.name }));
      const up: PathOperand = steps.length === 0 ? record : { ...record, steps, type: chain[0]!.field.type };
      const apart = negate({ kind: 'equal', left: up, right: deleted });
      return { kind: 'or', operands: [{ kind: 'missing', operand: up }, apart] };
    });
}

function referrers(rulebook: Rulebook, target: string): Referrer[] {
  return [...referrersOf(rulebook, target, 'remove'), ...referrersOf(rulebook, target, 'clear')];
}

function idOf(collection: string): PathOperand {
  const type = { kind: 'ref', collection } as const;
  return { kind: 'path', root: 'record', steps: [{ collection, field: 'id' }], type };
}

function targetOf({ type }: PathOperand): string {
  return (type as { readonly collection: string }).collection;
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
  return raised ? [...fences, negate(isOwn)] : fences;
}

/** What becomes of a record when the caller deletes others. */
export interface Follower {
  /** `delete`, or `update FIELD`. */
  readonly what: string;
  readonly when: Condition;
  /** It may happen because of a record further up than is followed. Null: there is none. */
  readonly perhaps: Condition | null;
}

/**
 * What becomes of records of a collection when the caller deletes others that they point at, over `FOLLOWED` steps. That
 * another record's fence may stop the whole is not part of it.
 */
export function followers(rulebook: Rulebook, caller: Caller, collection: string): Follower[] {
  const { fields } = collectionOf(rulebook.schema, collection);
  return [...fields.values()].flatMap((field): Follower[] => {
    const { name, type, onDelete } = field;
    if (onDelete === 'refuse' || type.kind !== 'ref') return [];
    const path: PathOperand = { kind: 'path', root: 'record', steps: [{ collection, field: name }], type };
    const record = onDelete === 'clear' ? idOf(collection) : null;
    const { ways, further } = upwards(rulebook, caller, path, record, 1);
    const passed = fencesPassed(rulebook, caller, collection, field);
    const where = (operands: Condition[]) =>
      folded({ kind: 'and', operands: [{ kind: 'or', operands }, ...passed] });
    return [
      {
        what: onDelete === 'clear' ? `update ${name}` : 'delete',
        when: where(ways),
        perhaps: further.length === 0 ? null : where(further),
      },
    ];
  });
}

/**
 * The record at the end of the path can be deleted by the caller, or goes along with another that can; `record`: and this one
 * does not go along. `further`: it points at one that is not followed.
 */
function upwards(
  rulebook: Rulebook,
  caller: Caller,
  path: PathOperand,
  record: PathOperand | null,
  depth: number,
): { readonly ways: Condition[]; readonly further: Condition[] } {
  const target = targetOf(path);
  const stays = record === null ? [] : notAlong(chainsFrom(rulebook, target), record, path);
  const deleted = behind(rulebook, caller, 'delete', target, path);
  const ways: Condition[] = [{ kind: 'and', operands: [deleted, ...stays] }];
  const further: Condition[] = [];
  for (const { name, type, onDelete } of collectionOf(rulebook.schema, target).fields.values()) {
    if (onDelete !== 'remove' || type.kind !== 'ref') continue;
    const on: PathOperand = { ...path, steps: [...path.steps, { collection: target, field: name }], type };
    if (depth === FOLLOWED) {
      if (couldDelete(rulebook, caller, type.collection))
        further.push(negate({ kind: 'missing', operand: on }));
      continue;
    }
    const above = upwards(rulebook, caller, on, record, depth + 1);
    ways.push(...above.ways);
    further.push(...above.further);
  }
  return { ways, further };
}

/** Is there anything of the collection, or of those with which it goes along, that the caller could delete at all? */
function couldDelete(rulebook: Rulebook, caller: Caller, collection: string): boolean {
  const above = new Set([collection]);
  for (const each of above)
    for (const { type, onDelete } of collectionOf(rulebook.schema, each).fields.values())
      if (onDelete === 'remove' && type.kind === 'ref') above.add(type.collection);
  return [...above].some((each) => permissionOf(rulebook, caller, 'delete', each).grounds.length > 0);
}
