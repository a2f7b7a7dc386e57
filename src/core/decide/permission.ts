import { LRUCache } from 'lru-cache';
import type { Condition } from '../ir/conditions.ts';
import {
  actionKey,
  isBuiltIn,
  type Action,
  type Audience,
  type BuiltIn,
  type Fence,
  type Operation,
  type Rule,
  type Rulebook,
} from '../ir/rulebook.ts';
import { IDENTITY, PEOPLE, collectionOf } from '../types/schema.ts';
import { byThemself, rolesFor, speaksOf, standingOf, type Caller } from './caller.ts';
import { settledFor } from './condition.ts';
import {
  all,
  any,
  holdsAlways,
  holdsNever,
  interpret,
  shareable,
  type Node,
  type NodeTable,
  type Pair,
  type Shareable,
  type Sides,
  type TrueOf,
} from './nodes.ts';
import type { Barrier, FieldPermission, Ground, Permission } from './formula.ts';
import { remembered } from './remembered.ts';
import { SHARE, sharedGrounds } from './shares.ts';

/** What decides for anybody at all: whom sentences speak of is left open. Cost: once for each rulebook. */
export function permission(rulebook: Rulebook, operation: Operation, collection: string): Permission {
  const known = remembered(anybodys, rulebook, () => new Map<string, Permission>());
  return remembered(known, `${operation} ${collection}`, () => madeFor(rulebook, { operation, collection }));
}

/**
 * What decides for one caller: who they are, what they hold and what is shared with them is settled. Cost: once for everybody who
 * holds the same roles; where something is shared with them, once for each caller.
 */
export function permissionOf(
  rulebook: Rulebook,
  caller: Caller,
  operation: Operation,
  collection: string,
): Permission {
  const known =
    caller.shared === undefined ? knownByStanding(rulebook, caller) : knownByCaller(rulebook, caller);
  return remembered(known, `${operation} ${collection}`, () =>
    foldedFor(rulebook, caller, permission(rulebook, operation, collection)),
  );
}

type Known = Map<string, Permission>;

const anybodys = new WeakMap<Rulebook, Known>();
const standings = new WeakMap<Rulebook, LRUCache<string, Known>>();
const callers = new WeakMap<Rulebook, WeakMap<Caller, Known>>();

/** Sets of roles whose formulas are kept. */
const STANDINGS = 1_000;

function knownByStanding(rulebook: Rulebook, caller: Caller): Known {
  const all = remembered(standings, rulebook, () => new LRUCache<string, Known>({ max: STANDINGS }));
  return remembered<string, Known>(all, standingOf(caller), () => new Map());
}

function knownByCaller(rulebook: Rulebook, caller: Caller): Known {
  const all = remembered(callers, rulebook, () => new WeakMap<Caller, Known>());
  return remembered(all, caller, () => new Map());
}

/** The sides on which the sentences of an operation are asked. */
export function sidesOf(operation: Operation): Sides {
  return isBuiltIn(operation) ? askedOn[operation] : 'both';
}

const askedOn: Readonly<Record<BuiltIn, Sides>> = {
  read: 'before',
  create: 'after',
  update: 'both',
  delete: 'before',
  share: 'before',
};

/** The collections and operations that a rulebook's sentences name, by collection and operation. */
interface Sentences {
  readonly rules: ReadonlyMap<string, readonly Rule[]>;
  readonly fences: ReadonlyMap<string, readonly Fence[]>;
}

const sentencesOf = new WeakMap<Rulebook, Sentences>();

function sentences(rulebook: Rulebook): Sentences {
  return remembered(sentencesOf, rulebook, () => {
    const by = <T extends Rule | Fence>(all: readonly T[]) => {
      const found = new Map<string, T[]>();
      for (const each of all)
        for (const operation of each.operations.keys())
          remembered(found, `${operation} ${each.collection}`, () => []).push(each);
      return found;
    };
    return { rules: by(rulebook.rules), fences: by(rulebook.fences) };
  });
}

function madeFor(rulebook: Rulebook, pair: Pair): Permission {
  const { operation, collection } = pair;
  const key = `${operation} ${collection}`;
  const sides = sidesOf(operation);
  const action = rulebook.actions.get(actionKey(collection, operation)) ?? null;
  const { rules, fences } = sentences(rulebook);
  const grounds = (rules.get(key) ?? []).map((rule) => groundOf(rule, pair, sides));
  const barriers = (fences.get(key) ?? []).map((fence) => barrierOf(fence, pair, operation, sides));
  // An action is an update, too, of every field that it sets.
  if (action !== null)
    for (const fence of fences.get(`update ${collection}`) ?? []) {
      const barrier = barrierOf(fence, { operation: 'update', collection }, 'update', sides);
      const { about } = barrier;
      if (about === null || [...action.sets.keys()].some((field) => about.has(field)))
        barriers.push({ ...barrier, about: null });
    }
  return assembled(
    rulebook,
    pair,
    action,
    grounds,
    barriers,
    isShareable(operation) ? [shared(operation)] : [],
    readableFor(pair),
  );
}

function isShareable(operation: Operation): operation is Shareable {
  return (shareable as readonly string[]).includes(operation);
}

function shared(operation: Shareable): Node {
  return Object.freeze({ kind: 'shared', operation });
}

function groundOf(rule: Rule, pair: Pair, sides: Sides): Ground {
  const leaf = trueOf(rule, rule.when, pair, sides);
  return { rule, leaf, node: all([speaks(rule.audience, pair), leaf], 'a rule') };
}

function barrierOf(fence: Fence, pair: Pair, operation: Operation, sides: Sides): Barrier {
  const passed = trueOf(fence, fence.when, pair, sides);
  const exempt: Node[] =
    fence.exempt.size === 0 ? [] : [Object.freeze({ kind: 'exempts', roles: fence.exempt, pair })];
  return { fence, about: fence.operations.get(operation)!, node: any([...exempt, passed], 'a fence') };
}

function speaks(audience: Audience, pair: Pair): Node {
  return audience.everybody ? holdsAlways : Object.freeze({ kind: 'speaks', audience, pair });
}

export function trueOf(sentence: Rule | Fence, when: Condition, pair: Pair, sides: Sides): TrueOf {
  return Object.freeze({ kind: 'true of', sentence, when, pair, sides });
}

/**
 * What is not readable is not there, whatever is asked. Whoever shows a record to others must be able to read it by themself:
 * what is shared with them is not theirs to pass on.
 */
function readableFor({ operation, collection }: Pair): Node[] {
  if (operation === 'read' || operation === 'create') return [];
  const by = operation === SHARE ? 'themself' : 'caller';
  const pair = { operation: 'read', collection } as const;
  return [Object.freeze({ kind: 'permitted', pair, side: 'before', by })];
}

/** `further`: reasons to allow that are no rule. */
function assembled(
  rulebook: Rulebook,
  pair: Pair,
  action: Action | null,
  grounds: readonly Ground[],
  barriers: readonly Barrier[],
  further: readonly Node[],
  readable: readonly Node[],
): Permission {
  const { operation, collection } = pair;
  const { fields } = collectionOf(rulebook.schema, collection);
  const granted = anyGround(grounds, further);
  const fenced = every(barriers.filter(({ about }) => about === null));
  const raised =
    action === null ? [] : [...action.sets.keys()].filter((field) => raises(rulebook, collection, field));
  const references = [...(action?.parameters ?? [])].filter(([, { type }]) => type.kind === 'ref');
  const record = all(
    [
      ...readable,
      ...(raised.length > 0 ? [notOwn] : []),
      ...references.map(([name]) => reference(name)),
      granted,
      ...(fenced === holdsAlways ? [] : [fenced]),
    ],
    'the whole',
  );
  const known = new Map<string, FieldPermission>();
  const fieldOf = (name: string): FieldPermission => {
    const reading = operation === 'read';
    // The id comes with every readable record, and no fence is about it.
    const isId = reading && name === 'id';
    const covering = isId ? grounds : grounds.filter(({ rule }) => rule.operations.get(operation)!.has(name));
    const own = covering.length === grounds.length ? granted : anyGround(covering, further);
    const about = isId ? [] : barriers.filter((each) => each.about?.has(name) === true);
    const type = fields.get(name)?.type;
    const parts = [
      ...(operation === 'update' && raises(rulebook, collection, name) ? [notOwn] : []),
      own,
      ...about.map(({ node }) => node),
      ...(!reading && type?.kind === 'ref' ? [reference(name)] : []),
    ];
    return { granted: own, fenced: every(about), whole: all(parts, 'a field') };
  };
  const field = (name: string) => remembered(known, name, () => fieldOf(name));
  return { pair, action, grounds, barriers, granted, fenced, record, field };
}

/**
 * All that the record is asked besides one rule that is true: of a request that supplies fields, each of these asks for one that
 * covers it, which is one.
 */
export function besideGround({ record, granted }: Permission): Node {
  if (record.kind !== 'all') return record;
  return all(
    record.parts.filter((part) => part !== granted),
    record.reason,
  );
}

const notOwn: Node = Object.freeze({ kind: 'not own record' });

function reference(field: string): Node {
  return Object.freeze({ kind: 'reference readable', field });
}

function anyGround(grounds: readonly Ground[], further: readonly Node[]): Node {
  return any([...grounds.map(({ node }) => node), ...further], 'granted');
}

function every(barriers: readonly Barrier[]): Node {
  return barriers.length === 0
    ? holdsAlways
    : all(
        barriers.map(({ node }) => node),
        'fences',
      );
}

/**
 * Would changing this field of one's own entry be giving oneself what it opens? It decides about the caller, and the
 * rulebook does not say `self set`.
 */
export function raises(rulebook: Rulebook, collection: string, field: string): boolean {
  return (
    collection === PEOPLE &&
    rulebook.ofTheCaller.get(PEOPLE)?.has(field) === true &&
    collectionOf(rulebook.schema, PEOPLE).fields.get(field)?.selfSet === false
  );
}

/** Settles for one caller whom sentences speak of, whom fences exempt, and what is shared. */
function foldedFor(rulebook: Rulebook, caller: Caller, open: Permission): Permission {
  const { pair, action } = open;
  // Whoever shares does it by themself: what others share with them counts nowhere, not even in “me may”.
  const alone = pair.operation === SHARE && caller.shared !== undefined ? byThemself(caller) : null;
  const settle = (node: Node) =>
    alone === null ? folded(rulebook, caller, node) : asked(rulebook, alone, folded(rulebook, alone, node));
  const grounds = open.grounds.flatMap((ground): Ground[] => {
    const node = settle(ground.node);
    return node === holdsNever ? [] : [{ ...ground, node }];
  });
  const further = isShareable(pair.operation)
    ? sharedGrounds(
        rulebook,
        caller,
        pair,
        (who, operation) => permissionOf(rulebook, who, operation, pair.collection),
        (rule, when, sides = sidesOf(pair.operation) as 'before') => trueOf(rule, when, pair, sides),
      )
    : [];
  const barriers = open.barriers.flatMap((barrier): Barrier[] => {
    const node = settle(barrier.node);
    return node === holdsAlways ? [] : [{ ...barrier, node }];
  });
  if (caller.ofTheApplication === true && pair.operation === 'read' && pair.collection === PEOPLE)
    barriers.push(barrierOf(noTestIdentity, pair, 'read', sidesOf('read')));
  const readable = readableFor(pair).map(settle);
  return assembled(rulebook, pair, action, [...grounds, ...further], barriers, [], readable);
}

/** Whatever rules say, people of the application and visitors do not read test identities; so they cannot point at them either. */
const noTestIdentity: Fence = {
  id: 'people/test identities',
  collection: PEOPLE,
  exempt: new Set(),
  operations: new Map([['read', null]]),
  when: {
    kind: 'missing',
    operand: {
      kind: 'path',
      root: 'record',
      steps: [{ collection: PEOPLE, field: IDENTITY }],
      type: { kind: 'text' },
    },
  },
  because: 'test identities are there for each other alone',
  text: 'nobody of the application may read a test identity',
  span: { source: '', start: 0, end: 0 },
};

/** The formula with everything in it asked as somebody else. */
function asked(rulebook: Rulebook, who: Caller, node: Node): Node {
  const same = (each: Node) => each;
  const table: NodeTable<Node> = {
    all: ({ parts, reason }) =>
      all(
        parts.map((part) => interpret(part, table)),
        reason,
      ),
    any: ({ parts, reason }) =>
      any(
        parts.map((part) => interpret(part, table)),
        reason,
      ),
    'true of': (leaf) => {
      const condition = settledFor(rulebook, who, leaf);
      return condition.kind === 'constant'
        ? leaf
        : trueOf(leaf.sentence, { kind: 'as', caller: who, condition }, leaf.pair, leaf.sides);
    },
    permitted: ({ pair: { operation, collection } }) =>
      asked(rulebook, who, permissionOf(rulebook, who, operation, collection).record),
    'reference readable': same,
    'not own record': same,
    speaks: same,
    exempts: same,
    shared: same,
  };
  return node === holdsAlways || node === holdsNever ? node : interpret(node, table);
}

/** The one function that puts a caller into a formula. What is shared is put in beside it, as grounds. */
export function folded(rulebook: Rulebook, caller: Caller, node: Node): Node {
  const same = (each: Node) => each;
  const roles = ({ operation, collection }: Pair) => rolesFor(rulebook, caller, operation, collection);
  const table: NodeTable<Node> = {
    all(each) {
      const parts = each.parts.map((part) => interpret(part, table)).filter((part) => part !== holdsAlways);
      if (parts.includes(holdsNever)) return holdsNever;
      return parts.length === 0 ? holdsAlways : all(parts, each.reason);
    },
    any(each) {
      const parts = each.parts.map((part) => interpret(part, table)).filter((part) => part !== holdsNever);
      if (parts.includes(holdsAlways)) return holdsAlways;
      return parts.length === 0 ? holdsNever : any(parts, each.reason);
    },
    speaks: ({ audience, pair }) => (speaksOf(audience, caller, roles(pair)) ? holdsAlways : holdsNever),
    exempts({ roles: exempt, pair }) {
      const held = roles(pair);
      return [...exempt].some((role) => held.has(role)) ? holdsAlways : holdsNever;
    },
    'true of': same,
    permitted: same,
    'reference readable': same,
    'not own record': same,
    shared: same,
  };
  return interpret(node, table);
}
