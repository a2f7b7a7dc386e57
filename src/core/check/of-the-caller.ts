import {
  nodesOf,
  partsOf,
  type Condition,
  type Operand,
  type PathOperand,
  type Root,
} from '../ir/conditions.ts';
import type { Action, Attribute, Fence, Role, Rule } from '../ir/rulebook.ts';

/**
 * What decides about whoever calls: every cell and every set of records on which it depends who the caller is for some
 * sentence, role or attribute. Whoever may write these could raise themself, or whomever they like.
 *
 * - Each cell on a path from `me`; and on a path from anything that the sentence says is `me`, or a path from it.
 * - The parent of a tree, where `within` stands beside `me`.
 * - What a role or an attribute is worked out from.
 * - What a `some`, `no` or `count` reads that compares its record with `me`.
 *
 * Not the record in hand that is merely compared with `me` (`keeper = me`): that says whose a record is.
 */
export interface Source {
  /** The role or attribute that it feeds, or the collection whose sentences read it. */
  readonly feeds: string;
  readonly collection: string;
  readonly fields: ReadonlySet<string>;
  /** Does it matter which records there are? */
  readonly records: boolean;
  /** Could one record less give somebody more? */
  readonly removing: boolean;
  /** Of a quantifier: the fields compared with `me`. */
  readonly compared: ReadonlySet<string>;
}

/** All sources of a rulebook's sentences, roles, attributes and actions. */
export function sourcesOf(
  rules: readonly Rule[],
  fences: readonly Fence[],
  roles: ReadonlyMap<string, Role>,
  attributes: ReadonlyMap<string, Attribute>,
  actions: ReadonlyMap<string, Action>,
): Source[] {
  const found = new Found(new Set(attributes.keys()));
  const negated = negatedNames(
    [...rules, ...fences].map(({ when }) => when),
    roles,
    attributes,
  );
  for (const { collection, when } of [...rules, ...fences]) found.body(collection, when);
  for (const { collection, stamps } of rules) for (const { value } of stamps) found.body(collection, value);
  for (const { collection, sets } of actions.values())
    for (const set of sets.values()) if (set.kind === 'value') found.body(collection, set.operand);
  for (const { name, when } of roles.values())
    if (when !== null) found.source(name, [when], null, negated.has(name) || negates([when]));
  for (const { name, source } of attributes.values()) {
    if (source.kind === 'claim') continue;
    const nodes = source.kind === 'every' ? [source.operand, source.where] : [source.operand];
    const range = source.kind === 'every' ? source.range.collection : null;
    found.source(name, nodes, range, negated.has(name) || negates(nodes));
  }
  return found.sources();
}

/** The cells of all sources, by collection. */
export function cellsOf(sources: readonly Source[]): Map<string, Set<string>> {
  const cells = new Map<string, Set<string>>();
  for (const { collection, fields } of sources)
    cells.set(collection, new Set([...(cells.get(collection) ?? []), ...fields]));
  return cells;
}

interface Gathered {
  readonly fields: Set<string>;
  readonly compared: Set<string>;
  records: boolean;
  removing: boolean;
}

class Found {
  readonly #found = new Map<string, Map<string, Gathered>>();
  readonly #attributes: ReadonlySet<string>;

  constructor(attributes: ReadonlySet<string>) {
    this.#attributes = attributes;
  }

  sources(): Source[] {
    return [...this.#found].flatMap(([feeds, by]) =>
      [...by].map(([collection, gathered]) => ({ feeds, collection, ...gathered })),
    );
  }

  /** A sentence, a stamp or what an action sets. */
  body(feeds: string, node: Condition | Operand): void {
    this.#walk(feeds, node, [], false);
  }

  /** What a role or an attribute is worked out from: all of it. */
  source(
    feeds: string,
    nodes: readonly (Condition | Operand)[],
    range: string | null,
    removing: boolean,
  ): void {
    if (range !== null) this.#records(feeds, range, removing);
    for (const node of nodes.flatMap((each) => [...nodesOf(each)])) {
      if (node.kind === 'path') this.#cells(feeds, node.steps, node.root === 'me');
      if (node.kind === 'some' || node.kind === 'count')
        this.#records(feeds, node.range.collection, removing);
      if (node.kind === 'within') this.#at(feeds, node.parent.collection).fields.add(node.parent.field);
    }
  }

  #at(feeds: string, collection: string): Gathered {
    const by = this.#found.get(feeds) ?? new Map<string, Gathered>();
    this.#found.set(feeds, by);
    const known = by.get(collection) ?? {
      fields: new Set(),
      compared: new Set(),
      records: false,
      removing: false,
    };
    by.set(collection, known);
    return known;
  }

  #records(feeds: string, collection: string, removing: boolean): Gathered {
    const at = this.#at(feeds, collection);
    at.records = true;
    at.removing ||= removing;
    return at;
  }

  #cells(feeds: string, steps: PathOperand['steps'], fromMe: boolean): void {
    for (const [index, { collection, field }] of steps.entries()) {
      // An attribute is no cell: its own source is looked at by itself. And nobody writes an id.
      if (field === 'id' || (fromMe && index === 0 && this.#attributes.has(field))) continue;
      this.#at(feeds, collection).fields.add(field);
    }
  }

  #walk(feeds: string, node: Condition | Operand, around: readonly Equality[], negative: boolean): void {
    const known = [...around, ...equalitiesIn(node)];
    const aliases = aliasesOf(known);
    const visit = (each: Condition | Operand, under: boolean): void => {
      switch (each.kind) {
        case 'path':
          for (const path of readingsOf(each, aliases))
            if (path.root === 'me') this.#cells(feeds, path.steps, true);
          return;
        case 'within':
          if ([each.left, each.right].some((side) => speaksOfMe(side, aliases)))
            this.#at(feeds, each.parent.collection).fields.add(each.parent.field);
          visit(each.left, under);
          visit(each.right, under);
          return;
        case 'some':
        case 'count': {
          const inner = each.kind === 'some' ? each.body : each.where;
          const removing = under || each.kind === 'count';
          this.#quantified(feeds, each.range, inner, aliasesOf([...known, ...equalitiesIn(inner)]), removing);
          const outer = known.filter(({ sides }) =>
            sides.every(({ root }) => typeof root !== 'number' || root < each.range.depth),
          );
          this.#walk(feeds, inner, outer, removing);
          return;
        }
        case 'not':
          visit(each.operand, true);
          return;
        case 'among':
        case 'and':
        case 'as':
        case 'at most':
        case 'constant':
        case 'contains':
        case 'ends with':
        case 'equal':
        case 'has role':
        case 'holds':
        case 'length':
        case 'less':
        case 'literal':
        case 'lower':
        case 'may':
        case 'member':
        case 'missing':
        case 'nothing':
        case 'now':
        case 'or':
        case 'shift':
        case 'starts with':
        case 'today':
          for (const part of partsOf(each)) visit(part, under);
      }
    };
    visit(node, negative);
  }

  /** A quantifier that compares anything of its record with `me` decides by which records there are, and what they say. */
  #quantified(
    feeds: string,
    { collection, depth }: { readonly collection: string; readonly depth: number },
    body: Condition,
    aliases: Aliases,
    removing: boolean,
  ): void {
    const compared = new Set<string>();
    for (const each of nodesOf(body)) {
      const sides = sidesOf(each);
      if (sides.length < 2) continue;
      for (const side of sides) {
        const others = sides.filter((other) => other !== side);
        if (!others.some((other) => speaksOfMe(other, aliases))) continue;
        for (const path of nodesOf(side))
          if (path.kind === 'path' && path.root === depth) compared.add(path.steps[0]!.field);
      }
    }
    if (compared.size === 0) return;
    const at = this.#records(feeds, collection, removing);
    for (const field of compared) at.compared.add(field);
    for (const each of nodesOf(body))
      if (each.kind === 'path' && each.root === depth) this.#cells(feeds, each.steps, false);
  }
}

/** What stands on the sides of a comparison; less than two of anything else. */
function sidesOf(node: Condition | Operand): Operand[] {
  return partsOf(node).filter((part): part is Operand => 'type' in part);
}

interface Equality {
  readonly sides: readonly [Place, Place];
}

/** A path without the `id` at its end: the record that it leads to. */
interface Place {
  readonly root: Root;
  readonly steps: PathOperand['steps'];
}

function placeOf({ root, steps }: PathOperand): Place {
  const whole = steps.at(-1)!.field === 'id' ? steps.slice(0, -1) : steps;
  // Whose record it is does not depend on the side of a change.
  return { root: root === 'old' || root === 'new' ? 'record' : root, steps: whole };
}

/** All equalities between paths, wherever they stand. */
function equalitiesIn(node: Condition | Operand): Equality[] {
  return [...nodesOf(node)].flatMap((each): Equality[] => {
    if (each.kind !== 'equal' || each.left.kind !== 'path' || each.right.kind !== 'path') return [];
    return [{ sides: [placeOf(each.left), placeOf(each.right)] }];
  });
}

/** Places that are said to be the same, each with the paths from `me` among them. */
type Aliases = ReadonlyMap<string, readonly Place[]>;

function keyOf({ root, steps }: Place): string {
  return JSON.stringify([root, ...steps.map(({ field }) => field)]);
}

function aliasesOf(equalities: readonly Equality[]): Aliases {
  const groups = new Map<string, Set<string>>();
  const places = new Map<string, Place>();
  for (const { sides } of equalities) {
    const keys = sides.map((place) => {
      const key = keyOf(place);
      places.set(key, place);
      return key;
    });
    const joined = new Set(keys.flatMap((key) => [...(groups.get(key) ?? [key])]));
    for (const key of joined) groups.set(key, joined);
  }
  return new Map(
    [...groups].map(([key, group]) => [
      key,
      [...group].map((each) => places.get(each)!).filter(({ root }) => root === 'me'),
    ]),
  );
}

/** The ways to read a path: as it is, and with a beginning that is said to be of `me` written so. */
function readingsOf(path: PathOperand, aliases: Aliases): Place[] {
  const { root, steps } = path;
  const at = root === 'old' || root === 'new' ? 'record' : root;
  const readings: Place[] = [{ root: at, steps }];
  for (let length = 0; length < steps.length; length++)
    for (const me of aliases.get(keyOf({ root: at, steps: steps.slice(0, length) })) ?? [])
      readings.push({ root: 'me', steps: [...me.steps, ...steps.slice(length)] });
  return readings;
}

function speaksOfMe(operand: Operand, aliases: Aliases): boolean {
  return [...nodesOf(operand)].some(
    (node) => node.kind === 'path' && (node.root === 'me' || readingsOf(node, aliases).length > 1),
  );
}

/** Could a record that is no longer there give somebody more? */
function negates(nodes: readonly (Condition | Operand)[]): boolean {
  return nodes.some((node) => [...nodesOf(node)].some(({ kind }) => kind === 'not' || kind === 'count'));
}

/** The roles and attributes that some condition asks for under a `not` or in a `count`. */
function negatedNames(
  conditions: readonly Condition[],
  roles: ReadonlyMap<string, Role>,
  attributes: ReadonlyMap<string, Attribute>,
): Set<string> {
  const found = new Set<string>();
  const bodies: (Condition | Operand)[] = [
    ...conditions,
    ...[...roles.values()].flatMap(({ when }) => when ?? []),
    ...[...attributes.values()].flatMap(({ source }): (Condition | Operand)[] =>
      source.kind === 'every' ? [source.where] : source.kind === 'value' ? [source.operand] : [],
    ),
  ];
  for (const node of bodies.flatMap((each): (Condition | Operand)[] => [...nodesOf(each)])) {
    if (node.kind !== 'not' && node.kind !== 'count') continue;
    for (const part of nodesOf(node)) {
      if (part.kind === 'has role') found.add(part.role);
      if (part.kind === 'path' && part.root === 'me') found.add(part.steps[0]!.field);
    }
  }
  return found;
}
