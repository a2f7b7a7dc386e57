import type { Fence, Operation, Rule, Rulebook } from '../ir/rulebook.ts';
import { all, any, holds, leavesOf, type Node, type TrueOf } from '../decide/nodes.ts';
import type { Permission } from '../decide/formula.ts';
import { remembered } from '../decide/remembered.ts';
import type { Access } from './access.ts';
import { AskedOnce } from './asked-once.ts';
import { openedFor } from './pinned-sentences.ts';
import { bothSql, itemsOf, mayNode, nameOf, suppliedOf, type BothSides, type EffectItem } from './effects.ts';
import { commaList, sql, type Fragment } from './fragment.ts';
import { identifier } from './identifiers.ts';
import type { Pinned } from './pinned.ts';

/** A sentence of a collection, with the operation that it is counted for; null: of creating, which no record that is there tells. */
export interface CountedSentence {
  readonly sentence: Rule | Fence;
  readonly kind: 'rule' | 'fence';
  readonly operation: Operation | null;
}

/** What a change does for one identity. */
export interface CountedIdentity {
  readonly was: number;
  readonly is: number;
  readonly gained: number;
  readonly lost: number;
  /** What they gain or lose, with how many records. */
  readonly effects: readonly (EffectItem & { readonly gained: number; readonly lost: number })[];
  /** For each sentence: the records that it opens, or holds back, and how many of these another one does, too. */
  readonly sentences: readonly { readonly own: number; readonly shared: number }[];
}

/** Records for which the same conditions are true: `n` of them. */
export type Kind = Readonly<Record<string, number>> & { readonly n: number };

export interface PinnedCounts {
  /** One row for each kind of record. */
  readonly statement: Fragment;
  readonly sentences: readonly CountedSentence[];
  readonly read: (kinds: readonly Kind[]) => {
    readonly total: number;
    readonly identities: readonly CountedIdentity[];
  };
}

/**
 * Counts what a change does for several identities, and what each of its sentences does. PostgreSQL asks each condition once of each
 * record, for all of them, and tells how many records there are of each kind; what follows for whom is told from these. An update is
 * judged for the record as it is. `most`: kinds at most that are told, and one more to show that there are more. Cost: one pass.
 */
export function pinnedCountsSql(pinned: readonly Pinned[], both: BothSides, most: number): PinnedCounts {
  const { from, aliases } = bothSql(pinned[0]!.was, pinned[0]!.is, both);
  const bits = new AskedOnce();
  // Whoever may not sign in by the draft is asked of by the rules of nobody: its sentences are told by somebody else's.
  const rulebooks = pinned.map(({ is }) => is.rulebook);
  const told = rulebooks.reduce((one, each) => (each.rules.length > one.rules.length ? each : one));
  const sentences = countedSentences(told, both.is);
  const counters = pinned.map((each) => {
    const was = both.was === null ? null : new Sight(each.was, both.was, aliases.was, bits);
    const is = both.is === null ? null : new Sight(each.is, both.is, aliases.is, bits);
    return counter(was, is, both, sentences);
  });
  const asked = columnsOf(bits);
  const columns = [...asked, sql`count(*) as n`];
  const places = commaList(asked.map((_, index) => ({ text: String(index + 1), values: [] })));
  const grouped = asked.length === 0 ? sql`` : sql` group by ${places}`;
  const limit = { text: String(most + 1), values: [] };
  return {
    statement: sql`select ${commaList(columns)} from ${from}${grouped} limit ${limit}`,
    sentences,
    read: (kinds) => ({
      total: kinds.reduce((sum, { n }) => sum + n, 0),
      identities: counters.map((count) => count(kinds)),
    }),
  };
}

/** So many flags are one column: they fit an integer. */
const A_COLUMN = 30;

/** The conditions as bits, in as many columns as it takes. */
function columnsOf(bits: AskedOnce): Fragment[] {
  return bits.all.flatMap((_, first) => {
    if (first % A_COLUMN !== 0) return [];
    const sum = bits.all
      .slice(first, first + A_COLUMN)
      .map(
        (each, index) => sql`case when ${each} then ${{ text: String(2 ** index), values: [] }} else 0 end`,
      )
      .reduce((before, each) => sql`${before} + ${each}`);
    return [sql`${sum} as ${identifier(`b_${first / A_COLUMN}`)}`];
  });
}

function isSet(kind: Kind, place: number): boolean {
  return ((kind[`b_${Math.floor(place / A_COLUMN)}`]! >> (place % A_COLUMN)) & 1) === 1;
}

/** What one identity may by one side, told by the conditions that are true of a record. */
class Sight {
  readonly access: Access;
  readonly collection: string;
  readonly places = new Set<number>();
  readonly #alias: string;
  readonly #bits: AskedOnce;
  readonly #leaves = new Map<TrueOf, number>();
  #own: number | null = null;
  readonly #permissions = new Map<Operation, Permission>();

  constructor(access: Access, collection: string, alias: string, bits: AskedOnce) {
    this.access = access;
    this.collection = collection;
    this.#alias = alias;
    this.#bits = bits;
  }

  permission(operation: Operation): Permission {
    return remembered(this.#permissions, operation, () => this.access.permission(operation, this.collection));
  }

  /** Sees to it that what the formula asks is asked. */
  asking(node: Node): Node {
    const sides = { old: this.#alias, new: this.#alias };
    for (const leaf of leavesOf([node]))
      if (leaf.when.kind !== 'constant')
        remembered(this.#leaves, leaf, () => this.#place(this.access.holds(leaf, this.#alias, sides)));
    this.#further(node);
    return node;
  }

  /** Does the formula hold of records of that kind? */
  holds(node: Node, kind: Kind): boolean {
    return holds(node, {
      trueOf: (leaf) =>
        leaf.when.kind === 'constant' ? leaf.when.value : isSet(kind, this.#leaves.get(leaf)!),
      permitted: ({ pair }) => this.holds(this.permission(pair.operation).record, kind),
      // No value is named, so no reference is asked about.
      referenceReadable: () => true,
      isOwnRecord: () => !isSet(kind, this.#own!),
    });
  }

  #place(condition: Fragment): number {
    const place = this.#bits.place(condition);
    this.places.add(place);
    return place;
  }

  /** What stands in it beside conditions: another formula of the same record, and whether it is the caller's own entry. */
  #further(node: Node): void {
    if (node.kind === 'all' || node.kind === 'any') node.parts.forEach((part) => this.#further(part));
    else if (node.kind === 'permitted') this.asking(this.permission(node.pair.operation).record);
    else if (node.kind === 'not own record')
      this.#own ??= this.#place(this.access.nodeSql(node, this.#alias));
  }
}

type Holds = (kind: Kind) => boolean;

const never: Holds = () => false;

/** How one identity is counted: asks for all that it takes, and counts the kinds of records when they are there. */
function counter(
  was: Sight | null,
  is: Sight | null,
  both: BothSides,
  sentences: readonly CountedSentence[],
): (kinds: readonly Kind[]) => CountedIdentity {
  const items = itemsOf(both);
  const of = (sight: Sight | null, side: 'was' | 'is', { operation, field }: EffectItem): Holds => {
    const at = field === null ? null : both.fields.find(({ name }) => name === field)![side];
    // What is not there on one side is nobody's there.
    if (sight === null || (field !== null && at === null)) return never;
    const node = sight.asking(
      mayNode(sight.permission(nameOf(operation)), { operation, field: at }, suppliedOf(both, side)),
    );
    return (kind) => sight.holds(node, kind);
  };
  const sides = items.map((item) => ({ item, was: of(was, 'was', item), is: of(is, 'is', item) }));
  // What is told first is whether the record is read at all.
  const reads = sides[0]!;
  const told = sentences.map((each) => sentenceSides(is!, each));
  const places = new Set([...(was?.places ?? []), ...(is?.places ?? [])]);
  return (kinds) => {
    const own = merged(kinds, places);
    const count = (which: Holds) => own.reduce((sum, kind) => (which(kind) ? sum + kind.n : sum), 0);
    const changes = (each: { readonly was: Holds; readonly is: Holds }) => ({
      gained: count((kind) => each.is(kind) && !each.was(kind)),
      lost: count((kind) => each.was(kind) && !each.is(kind)),
    });
    return {
      was: count(reads.was),
      is: count(reads.is),
      ...changes(reads),
      effects: sides.flatMap((each) => {
        const { gained, lost } = changes(each);
        return gained === 0 && lost === 0 ? [] : [{ ...each.item, gained, lost }];
      }),
      sentences: told.map(({ opens, others }) => ({
        own: count(opens),
        shared: count((kind) => opens(kind) && others(kind)),
      })),
    };
  };
}

/** Kinds that differ in nothing that one identity asks are one for them. */
function merged(kinds: readonly Kind[], places: ReadonlySet<number>): Kind[] {
  const masks = new Map<string, number>();
  for (const place of places) {
    const column = `b_${Math.floor(place / A_COLUMN)}`;
    masks.set(column, (masks.get(column) ?? 0) | (1 << (place % A_COLUMN)));
  }
  const found = new Map<string, Kind>();
  for (const kind of kinds) {
    const seen = [...masks].map(([column, mask]) => [column, kind[column]! & mask] as const);
    const key = seen.map(([, bits]) => bits).join(' ');
    found.set(key, { ...Object.fromEntries(seen), n: (found.get(key)?.n ?? 0) + kind.n });
  }
  return [...found.values()];
}

/** Those about the collection; none where it is not there. */
function countedSentences(rulebook: Rulebook, collection: string | null): CountedSentence[] {
  const of = <T extends Rule | Fence>(every: readonly T[], kind: CountedSentence['kind']) =>
    every
      .filter((each) => each.collection === collection)
      .map((sentence): CountedSentence => ({ sentence, kind, operation: countedFor(sentence) }));
  return [...of(rulebook.rules, 'rule'), ...of(rulebook.fences, 'fence')];
}

function countedFor({ operations }: Rule | Fence): Operation | null {
  const told = [...operations.keys()].filter((each) => each !== 'create');
  return told.includes('read') ? 'read' : (told[0] ?? null);
}

/** Which records a sentence opens, or holds back, and which of its like another one does. */
function sentenceSides(
  sight: Sight,
  { sentence, kind: of, operation }: CountedSentence,
): { readonly opens: Holds; readonly others: Holds } {
  if (operation === null) return { opens: never, others: never };
  const permission = sight.permission(operation);
  const asked = (node: Node): Holds => {
    sight.asking(node);
    return (kind) => sight.holds(node, kind);
  };
  const readable = operation === 'read' ? () => true : asked(sight.permission('read').record);
  if (of === 'rule') {
    const ground = permission.grounds.find((each) => each.rule === sentence);
    if (ground === undefined) return { opens: never, others: never };
    const opens = asked(all([ground.node, permission.fenced], 'the whole'));
    const others = permission.grounds.filter((each) => each !== ground).map(({ node }) => node);
    return { opens: (kind) => opens(kind) && readable(kind), others: asked(any(others, 'the whole')) };
  }
  const barrier = permission.barriers.find((each) => each.fence === sentence);
  if (barrier === undefined) return { opens: never, others: never };
  const granted = asked(openedFor(permission, barrier.about));
  const passed = asked(barrier.node);
  const others = permission.barriers.filter((each) => each !== barrier).map(({ node }) => asked(node));
  return {
    opens: (kind) => granted(kind) && !passed(kind) && readable(kind),
    others: (kind) => others.some((each) => !each(kind)),
  };
}
