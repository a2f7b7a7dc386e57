import { standingOf } from '../../core/decide/caller.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { shareableFrom } from '../../core/decide/shares.ts';
import type { Access } from '../../core/sql/access.ts';
import { EffectKinds, type CommonKind, type Examples, type OwnKind } from '../../core/sql/effect-kinds.ts';
import { effectsSql, type ActItem, type BothSides, type EffectItem } from '../../core/sql/effects.ts';
import type { Pinned } from '../../core/sql/pinned.ts';
import type { SetForm } from '../../core/sql/sets.ts';
import { run, type Executor } from '../connection.ts';
import { expectedCost } from '../records/plans.ts';

/** Somebody whose rights are compared. */
export interface Whom {
  readonly kind: 'visitor' | 'identity' | 'person';
  /** `visitor`; the name of a test identity; the address of a person, or their id. */
  readonly name: string;
}

/** What one of them gains and loses of one kind: differences of sets, so that a swap shows as both. */
export interface Effect extends Counted {
  readonly collection: string;
  readonly who: Whom;
}

/** What somebody gains and loses of one kind in one collection. */
export interface Counted {
  /** `read`, `update`, `delete`, `share`, or an action. */
  readonly operation: string;
  /** Null: the record as such. */
  readonly field: string | null;
  readonly was: number;
  readonly is: number;
  readonly gained: number;
  readonly lost: number;
  /** Some of the records, by label. */
  readonly more: readonly string[];
  readonly less: readonly string[];
  /** Of an action: records of which it is not decided before or after: neither gained nor lost. Absent: none. */
  readonly open?: number;
}

/** Somebody, as they are before and after. */
export interface Person extends Pinned {
  readonly who: Whom;
}

/** What was counted for somebody in a collection, with the ids of examples in place of labels. */
export interface Found {
  readonly person: Person;
  readonly collection: string;
  readonly counted: readonly Counted[];
}

/** For whom both sides say the very same. */
export function sameFor(people: readonly Person[], both: BothSides): ReadonlySet<Person> {
  const known = new Map<string, boolean>();
  const said = ({ caller }: Access) => JSON.stringify(caller.person?.values ?? null);
  const standing = ({ caller, rulebook }: Access) => `${standingOf(caller)} ${rulebook.rules.length}`;
  const isSame = ({ was, is }: Person): boolean => {
    const isShared = was.caller.shared !== undefined || is.caller.shared !== undefined;
    if (isShared || said(was) !== said(is)) return effectsSql(was, is, both) === null;
    // For all who hold the same it is the same, whoever they are.
    const alike = () => effectsSql(was.withSlots(), is.withSlots(), both) === null;
    return remembered(known, `${standing(was)}, ${standing(is)}`, alike);
  };
  return new Set(people.filter(isSame));
}

/** From how many on a pass for all of them is less than one for each. */
const TOGETHER = 4;
/** Kinds of records at most that are told apart for all of them. */
const MOST_KINDS = 20_000;

/**
 * Counts a collection for many at once: for all to whom nothing is shared that could count. Whoever is not in the answer is to be counted
 * alone. `ends`: when no more people are counted so; identities and visitors are in any case.
 * `most`: kinds of records that are told apart; where there are more, everybody is to be counted alone.
 */
export async function countTogether(
  on: Executor,
  both: BothSides,
  people: readonly Person[],
  ends: number,
  most = MOST_KINDS,
): Promise<ReadonlyMap<Person, Found>> {
  const together = people.filter((each) => !isShared(each, both));
  if (together.length < TOGETHER) return new Map();
  const found = await countKinds(on, new EffectKinds(both), together, both, ends, most);
  // All examples that were at hand may be found by what is their own: then none of the others is known by name.
  const isNameless = ({ gained, lost, more, less }: Counted) =>
    (gained > 0 && more.length === 0) || (lost > 0 && less.length === 0);
  return new Map([...found].filter(([, { counted }]) => !counted.some(isNameless)));
}

/**
 * Counts on how many records of a collection each may carry out its actions, with anything at all, before and after. Whoever is not in the
 * answer was not counted: to them something is shared that could count, or there was no time, or there are too many kinds of records.
 */
export async function countActs(
  on: Executor,
  both: BothSides,
  acts: readonly ActItem[],
  people: readonly Person[],
  ends: number,
  most = MOST_KINDS,
): Promise<ReadonlyMap<Person, Found>> {
  const together = people.filter((each) => !isShared(each, both));
  if (together.length === 0) return new Map();
  return countKinds(on, new EffectKinds(both, acts), together, both, ends, most);
}

/** Is something shared with them that could count in the collection? */
function isShared({ was, is }: Person, both: BothSides): boolean {
  const shares = ({ rulebook, caller }: Access, name: string | null) =>
    name !== null &&
    (caller.shared ?? []).some(({ collection }) => shareableFrom(rulebook, name).has(collection));
  return shares(was, both.was) || shares(is, both.is);
}

async function countKinds(
  on: Executor,
  kinds: EffectKinds,
  together: readonly Person[],
  both: BothSides,
  ends: number,
  most: number,
): Promise<Map<Person, Found>> {
  const found = new Map<Person, Found>();
  for (const person of together) {
    kinds.add(person);
    // Of hundreds it would keep everybody else waiting.
    await new Promise(setImmediate);
  }
  const all = await run<CommonKind>(on, kinds.all(most));
  if (all.length > most) return found;
  /** By what people hold: how what is theirs is found. */
  const forms = new Map<string, SetForm>();
  for (const [index, person] of together.entries()) {
    if (isOver(person, ends)) continue;
    const facts = kinds.facts(index);
    const [told] = facts === null ? [nothing] : await run<typeof nothing>(on, facts);
    const standing = `${standingOf(person.was.caller)}, ${standingOf(person.is.caller)}`;
    const form = forms.get(standing) ?? (await formFor(on, kinds, index));
    forms.set(standing, form);
    const own = kinds.own(index, form);
    const theirs = own === null ? [] : await run<OwnKind>(on, own);
    const effects = kinds.counted(index, all, theirs, told!);
    const unsure = new Set(effects.flatMap(({ more, less }) => [...more.maybe, ...less.maybe]));
    const others = unsure.size === 0 ? null : kinds.others(index, [...unsure]);
    const sure = new Set(others === null ? [] : (await run<{ id: string }>(on, others)).map(({ id }) => id));
    const some = ({ sure: first, maybe }: Examples) =>
      [...new Set([...first, ...maybe.filter((id) => sure.has(id))])].slice(0, 2);
    const counted = effects.map((each, item): Counted => ({
      ...kinds.items[item]!,
      ...each,
      more: some(each.more),
      less: some(each.less),
    }));
    found.set(person, { person, collection: nameOf(both), counted });
  }
  return found;
}

const nothing = { was: '', is: '' };

/** An index finds few ids in an array; many are found by hashing them, in a pass over the collection. The planner is asked. */
async function formFor(on: Executor, kinds: EffectKinds, person: number): Promise<SetForm> {
  const [hashed, searched] = [kinds.own(person, 'hashed'), kinds.own(person, 'searched')];
  if (hashed === null || searched === null || hashed.text === searched.text) return 'hashed';
  return (await expectedCost(on, searched)) < (await expectedCost(on, hashed)) ? 'searched' : 'hashed';
}

export function nameOf({ was, is }: BothSides): string {
  return (is ?? was)!;
}

/** How long people are counted together, and how long one by one, in milliseconds: identities and visitors are in any case. */
export const COUNTING_MILLISECONDS = { together: 60_000, alone: 30_000 } as const;

function isOver({ who }: Person, ends: number): boolean {
  return who.kind === 'person' && performance.now() > ends;
}

/**
 * Counts by a pass for each, as long as there is time. `alone`: by person, in the order in which they matter. Answers those who were not
 * counted, too.
 */
export async function countAlone(
  on: Executor,
  alone: ReadonlyMap<Person, readonly BothSides[]>,
  ends: number,
): Promise<{ readonly found: readonly Found[]; readonly unfinished: ReadonlySet<Person> }> {
  const found: Found[] = [];
  const unfinished = new Set<Person>();
  for (const [person, sides] of alone) {
    if (sides.length > 0 && isOver(person, ends)) {
      unfinished.add(person);
      continue;
    }
    for (const both of sides) {
      const { items, statement } = effectsSql(person.was, person.is, both)!;
      const [row] = await run<Row>(on, statement);
      const counted = items.map((item, index) => readCounted(item, row!, index));
      found.push({ person, collection: nameOf(both), counted });
    }
  }
  return { found, unfinished };
}

type Row = Readonly<Record<string, number & (string | null)[]>>;

function readCounted(item: EffectItem, row: Row, index: number): Counted {
  const ids = (name: string) => [
    ...new Set((row[`${name}_${index}`]! as (string | null)[]).filter((id) => id !== null)),
  ];
  const count = (name: string): number => row[`${name}_${index}`]!;
  return {
    ...item,
    was: count('was'),
    is: count('is'),
    gained: count('gained'),
    lost: count('lost'),
    more: ids('more'),
    less: ids('less'),
  };
}
