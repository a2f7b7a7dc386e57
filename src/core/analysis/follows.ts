import { aboveOf, aftermathOf, clearedOf, goingWith, seesAftermath, targetOf } from '../decide/aftermath.ts';
import { isOwn, settledFor } from '../decide/condition.ts';
import type { Caller } from '../decide/caller.ts';
import { leavesOf } from '../decide/nodes.ts';
import { permissionOf, raises } from '../decide/permission.ts';
import { fencesAlong } from '../decide/steps/delete.ts';
import { referrersOf, type Referrer } from '../decide/steps/referrers.ts';
import {
  negate,
  nodesOf,
  pathsOf,
  type Condition,
  type Operand,
  type PathOperand,
} from '../ir/conditions.ts';
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
  /**
   * More goes along than is followed, and there are fences; or a record loses a reference, and what a fence on it says of the time after
   * cannot be said of the time before: then `may` says too much or too little. Null: never.
   */
  readonly beyond: Condition | null;
}

/** May the caller delete the record, and does every fence let go along what would have to? */
export function deletion(rulebook: Rulebook, caller: Caller, collection: string): Deletion {
  const right = plainCondition(rulebook, caller, permissionOf(rulebook, caller, 'delete', collection).record);
  const root = idOf(collection);
  const chains = chainsFrom(rulebook, collection);
  const along = new Alongside(rulebook, caller, root, chains);
  const may = folded({ kind: 'and', operands: [right, ...along.fenced(collection, root, 1)] });
  const open = [
    ...(along.isCut() ? [along.deeper(collection, root, 1)] : []),
    ...along.open(collection, root, 1),
  ];
  const beyond =
    open.length === 0 ? null : folded({ kind: 'and', operands: [right, { kind: 'or', operands: open }] });
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
      referrers(this.#rulebook, target).some(({ holder, field }) => {
        const { passed, openWhen } = this.#fences(holder, field);
        return !isFalse(openWhen) || passed.length > 0;
      }),
    );
  }

  /** No record that points there, over any number of steps that are followed, is fenced against what would become of it. */
  fenced(target: string, to: PathOperand, depth: number): Condition[] {
    return referrers(this.#rulebook, target).flatMap(({ holder, field }): Condition[] => {
      const clearing = field.onDelete === 'clear';
      if (!clearing && depth > this.#followed) return [];
      const id: PathOperand = { ...idOf(holder), root: depth };
      const all = [
        ...this.#fences(holder, field).passed.map((each) => movedTo(each, depth)),
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

  /** Something loses a reference, of which it is open whether a fence lets it. */
  open(target: string, to: PathOperand, depth: number): Condition[] {
    return referrers(this.#rulebook, target).flatMap(({ holder, field }): Condition[] => {
      if (field.onDelete === 'clear') {
        const { openWhen } = this.#fences(holder, field);
        return isFalse(openWhen) ? [] : [pointing(holder, field, to, depth, [movedTo(openWhen, depth)])];
      }
      if (depth > this.#followed) return [];
      const further = this.open(holder, { ...idOf(holder), root: depth }, depth + 1);
      return further.length === 0
        ? []
        : [pointing(holder, field, to, depth, [{ kind: 'or', operands: further }])];
    });
  }

  #fences(holder: string, field: Field): Fenced {
    const { passed, openWhen } = fencesPassed(this.#rulebook, this.#caller, holder, field);
    return { passed: passed.filter((each) => each.kind !== 'constant' || !each.value), openWhen };
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

/** Fences on a record, as conditions about it as it is, and when there are others, which cannot be put so. */
interface Fenced {
  readonly passed: readonly Condition[];
  readonly openWhen: Condition;
}

/** The fences on a record that is removed, or has the field cleared, because another is deleted. */
function fencesPassed(rulebook: Rulebook, caller: Caller, holder: string, field: Field): Fenced {
  const { name, onDelete } = field;
  const clearing = onDelete === 'clear';
  const passed: Condition[] = [];
  const open: Condition[] = [];
  for (const leaf of leavesOf(fencesAlong(rulebook, caller, holder, clearing ? name : null))) {
    const condition = settledFor(rulebook, caller, leaf);
    if (!clearing || leaf.sides === 'before') {
      passed.push(folded(seenFrom(condition, 'before', new Map())));
      continue;
    }
    const losses = lossesOf(rulebook, holder, field, condition);
    if (losses === null) {
      open.push(always);
      continue;
    }
    open.push(...pastWhatGoes(rulebook, holder, field, condition));
    passed.push(
      anyOf(
        losses.map(({ when, overlay }) =>
          allOf([...when, seenFrom(condition, 'before', overlay), seenFrom(condition, 'after', overlay)]),
        ),
      ),
    );
  }
  // Nobody's own entry loses what decides about them.
  const raised = clearing && caller.person !== null && raises(rulebook, holder, name);
  return { passed: raised ? [...passed, negate(isOwn)] : passed, openWhen: anyOf(open) };
}

const always: Condition = { kind: 'constant', value: true };

function isFalse(condition: Condition): boolean {
  return condition.kind === 'constant' && !condition.value;
}

/**
 * When a condition about a record that loses a reference looks past what goes, by a reference that refuses that it goes. Such a deletion is
 * refused in any case; what a fence says of the time after it, of which there is none, cannot be said of the time before.
 */
function pastWhatGoes(
  rulebook: Rulebook,
  collection: string,
  field: Field,
  condition: Condition,
): Condition[] {
  const target = targetOf(field);
  const { removed } = aftermathOf(rulebook, target);
  const looked = nodesOf(condition).flatMap((node): Pick<PathOperand, 'root' | 'steps'>[] => {
    if (node.kind === 'path') return [{ root: node.root, steps: node.steps.slice(0, -1) }];
    // Up the tree it goes on behind what the path leads to.
    return node.kind === 'within' && node.left.kind === 'path' ? [node.left] : [];
  });
  return looked
    .filter(({ root }) => root !== 'old')
    .flatMap(({ root, steps }) =>
      steps.flatMap((step, at): Condition[] => {
        const by = collectionOf(rulebook.schema, step.collection).fields.get(step.field);
        if (by === undefined || by.system || by.type.kind !== 'ref' || by.onDelete !== 'refuse') return [];
        if (!removed.has(by.type.collection)) return [];
        const isOwn = at === 0 && (root === 'record' || root === 'new');
        if (!isOwn || by.type.collection !== target || goingWith(rulebook, target).length > 0)
          return [always];
        return [samePresent(ownPath(collection, by), ownPath(collection, field))];
      }),
    );
}

function ownPath(collection: string, { name, type }: Field): PathOperand {
  return { kind: 'path', root: 'record', steps: [{ collection, field: name }], type };
}

function samePresent(one: PathOperand, other: PathOperand): Condition {
  return allOf([
    negate({ kind: 'missing', operand: one }),
    negate({ kind: 'missing', operand: other }),
    { kind: 'equal', left: one, right: other },
  ]);
}

/** What a record loses where it loses one reference: with which others, and when that is so. */
export interface Loss {
  readonly when: readonly Condition[];
  readonly overlay: Overlay;
}

/** Other references that a condition reads and a deletion clears, of which all combinations are looked at. */
const MOST_LOST = 3;

/**
 * What a record may lose, where a deletion takes away what it points at by the field, as far as the condition reads it: with this one, others
 * that point at the same. Null: the condition sees more of the deletion than can be said of the record as it is.
 */
export function lossesOf(
  rulebook: Rulebook,
  collection: string,
  field: Field,
  condition: Condition,
): readonly Loss[] | null {
  const target = targetOf(field);
  const aftermath = aftermathOf(rulebook, target);
  if (seesAftermath(condition, aftermath)) return null;
  const read = new Set(
    pathsOf(condition)
      .filter(({ root }) => root === 'record' || root === 'new')
      .map(({ steps }) => steps[0]!.field),
  );
  const others = clearedOf(rulebook, collection, aftermath).filter(
    ({ name }) => name !== field.name && read.has(name),
  );
  // What goes along with something may take other things with it: then two references may go that point at different records.
  const isPlain =
    goingWith(rulebook, target).length === 0 &&
    others.every(({ type }) => type.kind === 'ref' && type.collection === target);
  if (others.length > 0 && (!isPlain || others.length > MOST_LOST)) return null;
  const path = (each: Field) => ownPath(collection, each);
  let losses: Loss[] = [{ when: [], overlay: new Map([...lost(field), ['updated_at', NOW]]) }];
  for (const other of others) {
    const isSame = allOf([
      negate({ kind: 'missing', operand: path(other) }),
      { kind: 'equal', left: path(other), right: path(field) },
    ]);
    losses = losses.flatMap(({ when, overlay }) => [
      { when: [...when, isSame], overlay: new Map([...overlay, ...lost(other)]) },
      { when: [...when, negate(isSame)], overlay },
    ]);
  }
  return losses;
}

function lost({ name, type }: Field): Overlay {
  return new Map([[name, { kind: 'nothing', type }]]);
}

const NOW: Operand = { kind: 'now', type: { kind: 'timestamp' } };

function allOf(operands: readonly Condition[]): Condition {
  return folded({ kind: 'and', operands });
}

function anyOf(operands: readonly Condition[]): Condition {
  return folded({ kind: 'or', operands });
}

/** What becomes of a record when the caller deletes others. */
export interface Follower {
  /** `delete`, or `update FIELD`. */
  readonly what: string;
  readonly when: Condition;
  /** It may happen because of a record further up than is followed, or where it is open what a fence says. Null: neither is. */
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
    const { passed, openWhen } = fencesPassed(rulebook, caller, collection, field);
    const perhaps = allOf([anyOf([allOf([anyOf(ways), openWhen]), ...further]), ...passed]);
    return [
      {
        what: onDelete === 'clear' ? `update ${name}` : 'delete',
        when: allOf([anyOf(ways), negate(openWhen), ...passed]),
        perhaps: isFalse(perhaps) ? null : perhaps,
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
  for (const { name, type } of goingWith(rulebook, target)) {
    const on: PathOperand = { ...path, steps: [...path.steps, { collection: target, field: name }], type };
    if (depth === FOLLOWED) {
      if (couldDelete(rulebook, caller, targetOf(on))) further.push(negate({ kind: 'missing', operand: on }));
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
  const above = [...aboveOf(rulebook, collection)];
  return above.some((each) => permissionOf(rulebook, caller, 'delete', each).grounds.length > 0);
}
