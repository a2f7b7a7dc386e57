import { Asking, Numbered, type Bits } from '../analysis/bits.ts';
import { plainCondition } from '../analysis/grounds.ts';
import { Outcomes } from '../analysis/outcomes.ts';
import type { Condition } from '../ir/conditions.ts';
import { isBuiltIn } from '../ir/rulebook.ts';
import type { Access } from './access.ts';
import { bitsSql, truthSql } from './counting.ts';
import {
  bothSql,
  itemsOf,
  mayNode,
  nameOf,
  suppliedOf,
  type ActItem,
  type BothSides,
  type EffectItem,
} from './effects.ts';
import { anyOf, sql, value, type Fragment } from './fragment.ts';
import { column, recordKeys } from './identifiers.ts';
import type { Pinned } from './pinned.ts';
import type { SetForm } from './sets.ts';

/** Records that are alike for everybody, on both sides, by what is asked of them all: `n` of them, with some of them by id. */
export interface CommonKind {
  readonly was: string;
  readonly is: string;
  readonly n: number;
  readonly examples: readonly (string | null)[];
}

/** Records that some condition of one person’s own finds: alike in these, too. */
export interface OwnKind extends CommonKind {
  readonly own_was: string;
  readonly own_is: string;
}

/** What one person gains and loses of one kind. */
export interface CountedEffect {
  readonly was: number;
  readonly is: number;
  readonly gained: number;
  readonly lost: number;
  readonly more: Examples;
  readonly less: Examples;
  /** Records of which it is not decided on one of the sides; they are neither gained nor lost. Absent: none. */
  readonly open?: number;
}

/** Records by id. */
export interface Examples {
  readonly sure: readonly string[];
  /** Those of them count for which none of the person’s own conditions is true. */
  readonly maybe: readonly string[];
}

/**
 * What a change does for many people, without a pass for each of them: what is the same for all is asked of every record once, and of each
 * person only what speaks of them, of the records that it finds. It comes to what `effectsSql` says for each. Nothing may be shared with
 * those who are asked about, in this collection or what its sentences ask about. Cost: one pass, and for each person a search for theirs.
 */
export class EffectKinds {
  readonly items: readonly (EffectItem | ActItem)[];
  readonly #both: BothSides;
  readonly #pairs: Pinned[] = [];
  readonly #common = { was: new Numbered(), is: new Numbered() };
  readonly #people: { readonly was: Asked; readonly is: Asked }[] = [];

  /** `items`: all that is told of a record, or actions. */
  constructor(both: BothSides, items: EffectKinds['items'] = itemsOf(both)) {
    this.#both = both;
    this.items = items;
  }

  /** One more person who is asked about, before anything is counted: they are known by their place. Cost: a millisecond or two. */
  add(pair: Pinned): void {
    this.#pairs.push(pair);
    this.#people.push({ was: this.#asked('was', pair.was), is: this.#asked('is', pair.is) });
  }

  #asked(side: 'was' | 'is', access: Access): Asked {
    const name = this.#both[side];
    const { rulebook, caller, now } = access;
    const isActing = name !== null && !this.items.every(isNoAct);
    const outcomes = !isActing
      ? null
      : new Outcomes(rulebook, name, caller, now, this.#common[side], { only: 'actions' });
    const asking = outcomes?.asking ?? new Asking(rulebook, caller, now, this.#common[side]);
    const holds = this.items.map((item): ((bits: Bits) => boolean | null) => {
      if (!isNoAct(item)) {
        const acts = outcomes?.act(item.operation);
        return (bits) => (acts === undefined ? false : answers[acts(bits)]);
      }
      const { operation, field } = item;
      const at = field === null ? null : this.#both.fields.find((each) => each.name === field)![side];
      // What is not there on one side is nobody’s there.
      if (name === null || (at === null && field !== null)) return () => false;
      const permission = access.permission(nameOf(operation), name);
      const node = mayNode(permission, { operation, field: at }, suppliedOf(this.#both, side));
      return asking.ask(plainCondition(access.rulebook, access.caller, node));
    });
    return { asking, holds };
  }

  /** One row for each kind of record; `most` kinds, and one more to show that there are more. */
  all(most: number): Fragment {
    const [{ was, is }] = this.#pairs as [Pinned];
    const { from, aliases } = bothSql(was, is, this.#both);
    const bits = this.#bits(was, is, { was: this.#common.was.conditions, is: this.#common.is.conditions });
    // Some are found by a person’s own conditions, too: then others of the kind are wanted.
    const half = (less: boolean, of: string): Fragment => ({
      text: `${of}(id) filter (where right(id, 1) ${less ? '<' : '>='} '8')`,
      values: [],
    });
    return sql`select was, is_ as "is", count(*) as n, array[${half(true, 'min')}, ${half(true, 'max')}, ${half(false, 'min')}, ${half(false, 'max')}] as examples from (select ${this.#id(aliases)}::text as id, ${bits.was} as was, ${bits.is} as is_ from ${from}) as each group by was, is_ limit ${value(most + 1)}::bigint`;
  }

  /**
   * One row for each kind of record that this person’s own conditions find; null: they have none. `sets`: how sets of ids are put where
   * the records are found.
   */
  own(person: number, sets: SetForm): Fragment | null {
    const { was, is } = this.#pairs[person]!;
    const found = this.#found(person, sets);
    if (found === null) return null;
    const { from, aliases } = bothSql(was, is, this.#both);
    const common = this.#bits(was, is, { was: this.#common.was.conditions, is: this.#common.is.conditions });
    const own = this.#bits(was, is, this.#own(person));
    return sql`select was, is_ as "is", own_was, own_is, count(*) as n, array[min(id), max(id)] as examples from (select ${this.#id(aliases)}::text as id, ${common.was} as was, ${common.is} as is_, ${own.was} as own_was, ${own.is} as own_is from ${from} where ${found}) as each group by was, is_, own_was, own_is`;
  }

  /** Those of the records that none of the person’s own conditions finds; null: they have none. */
  others(person: number, ids: readonly string[]): Fragment | null {
    const { was, is } = this.#pairs[person]!;
    const found = this.#found(person, 'hashed');
    if (found === null) return null;
    const { from, aliases } = bothSql(was, is, this.#both);
    const id = this.#id(aliases);
    return sql`select ${id}::text as id from ${from} where ${id} = any(${recordKeys(ids)}) and (${found}) is not true`;
  }

  /** What is true of no record in particular for this person: one row of `was` and `is`; null: nothing is asked. */
  facts(person: number): Fragment | null {
    const { was, is } = this.#pairs[person]!;
    const asked = this.#people[person]!;
    const facts = { was: asked.was.asking.facts.conditions, is: asked.is.asking.facts.conditions };
    if (facts.was.length + facts.is.length === 0) return null;
    const bits = this.#bits(was, is, facts);
    return sql`select ${bits.was} as was, ${bits.is} as "is"`;
  }

  /** What the person gains and loses, item by item. */
  counted(
    person: number,
    all: readonly CommonKind[],
    own: readonly OwnKind[],
    facts: { readonly was: string; readonly is: string },
  ): CountedEffect[] {
    const asked = this.#people[person]!;
    const none = {
      was: '0'.repeat(asked.was.asking.own.conditions.length),
      is: '0'.repeat(asked.is.asking.own.conditions.length),
    };
    const isSure = none.was === '' && none.is === '';
    const left = new Map(all.map((kind) => [keyOf(kind), kind.n]));
    for (const kind of own) left.set(keyOf(kind), (left.get(keyOf(kind)) ?? 0) - kind.n);
    const kinds = [
      ...all.map((kind) => ({
        ...kind,
        n: left.get(keyOf(kind))!,
        own_was: none.was,
        own_is: none.is,
        isSure,
      })),
      ...own.map((kind) => ({ ...kind, isSure: true })),
    ].filter(({ n }) => n > 0);
    const bits = kinds.map((kind): { readonly was: Bits; readonly is: Bits } => ({
      was: { common: kind.was, own: kind.own_was, facts: facts.was },
      is: { common: kind.is, own: kind.own_is, facts: facts.is },
    }));
    return this.items.map((_, item) => {
      const [was, is] = [asked.was.holds[item]!, asked.is.holds[item]!];
      const truths = bits.map((each) => [was(each.was), is(each.is)] as const);
      const isOpen = (index: number) => truths[index]!.includes(null);
      const those = (before: boolean | null, after: boolean | null) =>
        kinds.filter(
          (_each, index) =>
            (before === null || truths[index]![0] === before) &&
            (after === null || truths[index]![1] === after),
        );
      const count = (some: readonly { readonly n: number }[]) => some.reduce((sum, { n }) => sum + n, 0);
      const [gained, lost] = [those(false, true), those(true, false)];
      const open = count(kinds.filter((_each, index) => isOpen(index)));
      return {
        ...(open === 0 ? {} : { open }),
        was: count(those(true, null)),
        is: count(those(null, true)),
        gained: count(gained),
        lost: count(lost),
        more: examplesOf(gained),
        less: examplesOf(lost),
      };
    });
  }

  #own(person: number): { readonly was: readonly Condition[]; readonly is: readonly Condition[] } {
    const { was, is } = this.#people[person]!;
    return { was: was.asking.own.conditions, is: is.asking.own.conditions };
  }

  /** Is any of the person’s own conditions true? Null: they have none. */
  #found(person: number, sets: SetForm): Fragment | null {
    const own = this.#own(person);
    const [was, is] = [this.#pairs[person]!.was.withSets(sets), this.#pairs[person]!.is.withSets(sets)];
    const { aliases } = bothSql(was, is, this.#both);
    const conditions = new Map(
      [
        ...own.was.map((each) => truthSql(was, each, aliases.was)),
        ...own.is.map((each) => truthSql(is, each, aliases.is)),
      ].map((each) => [JSON.stringify(each), each]),
    );
    return conditions.size === 0 ? null : anyOf([...conditions.values()]);
  }

  #bits(
    was: Access,
    is: Access,
    conditions: { readonly was: readonly Condition[]; readonly is: readonly Condition[] },
  ): { readonly was: Fragment; readonly is: Fragment } {
    const { aliases } = bothSql(was, is, this.#both);
    return {
      was: bitsSql(was, conditions.was, aliases.was),
      is: bitsSql(is, conditions.is, aliases.is),
    };
  }

  #id(aliases: { readonly was: string; readonly is: string }): Fragment {
    return column(aliases[this.#both.is === null ? 'was' : 'is'], 'id');
  }
}

/** What is asked on one side, and for each item how its truth is read; null: it is not decided. */
interface Asked {
  readonly asking: Asking;
  readonly holds: readonly ((bits: Bits) => boolean | null)[];
}

const answers = { yes: true, no: false, 'not decided': null } as const;

function isNoAct(item: EffectItem | ActItem): item is EffectItem {
  return isBuiltIn(item.operation);
}

function keyOf({ was, is }: CommonKind): string {
  return `${was} ${is}`;
}

function examplesOf(kinds: readonly (CommonKind & { readonly isSure: boolean })[]): Examples {
  const of = (some: typeof kinds) =>
    some.flatMap(({ examples }) => examples.filter((each) => each !== null)).toSorted();
  return {
    sure: of(kinds.filter(({ isSure }) => isSure)),
    maybe: of(kinds.filter(({ isSure }) => !isSure)),
  };
}
