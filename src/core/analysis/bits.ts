import type { Caller } from '../decide/caller.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { byLeaves, groundsOf, speaksOfCaller } from './grounds.ts';
import { answered, isHopeless, speaksOfRecord } from './sides.ts';

/** Conditions, each once, by number. */
export class Numbered {
  readonly conditions: Condition[] = [];
  readonly #numbers = new Map<string, number>();

  number(condition: Condition): number {
    const key = JSON.stringify(condition);
    const known = this.#numbers.get(key);
    if (known !== undefined) return known;
    this.#numbers.set(key, this.conditions.length);
    return this.conditions.push(condition) - 1;
  }
}

/** What was found of one record: the truth of each numbered condition, as texts of 0 and 1. */
export interface Bits {
  /** The same for everybody. */
  readonly common: string;
  /** Those that speak of the caller. */
  readonly own: string;
  /** Those that speak of no record: the same for all of them. */
  readonly facts: string;
}

/** Where the truth of a condition is found: any of these is enough. */
type Place = readonly [kind: keyof Bits, number: number];

/**
 * The conditions that one caller's answers depend on: what is the same for everybody, what speaks of the caller, and what
 * speaks of no record at all and is asked once.
 */
export class Asking {
  readonly own = new Numbered();
  readonly facts = new Numbered();
  readonly #common: Numbered;
  readonly #rulebook: Rulebook;
  readonly #caller: Caller;
  readonly #now: string | null;
  readonly #told = new Map<string, (bits: Bits) => boolean>();

  /**
   * `now` null: what is known of the caller and the clock answers nothing, so that it serves others, too. Conditions are then taken
   * apart into leaves, each of which is asked once; nothing goes by grounds, which serve to find few records of many.
   */
  constructor(rulebook: Rulebook, caller: Caller, now: string | null, common: Numbered) {
    this.#rulebook = rulebook;
    this.#caller = caller;
    this.#now = now;
    this.#common = common;
  }

  /** Numbers the condition, whose roles have been put in, and answers how to read its truth. */
  ask(condition: Condition): (bits: Bits) => boolean {
    const key = JSON.stringify(condition);
    let told = this.#told.get(key);
    if (told === undefined)
      this.#told.set(
        key,
        (told =
          this.#now === null
            ? this.#byLeaves(byLeaves(answered(condition, this.#caller, null)))
            : this.#byPlaces(this.#placesOf(condition))),
      );
    return told;
  }

  #byPlaces(places: readonly Place[] | boolean): (bits: Bits) => boolean {
    if (typeof places === 'boolean') return () => places;
    return (bits) => places.some(([kind, number]) => bits[kind][number] === '1');
  }

  /** `and` and `or` of leaves that are true or not: where negation is at the leaves alone, that is exact. */
  #byLeaves(condition: Condition): (bits: Bits) => boolean {
    if (condition.kind === 'constant') return () => condition.value;
    if (isHopeless(condition)) return () => false;
    if (condition.kind === 'and' || condition.kind === 'or') {
      const parts = condition.operands.map((each) => this.#byLeaves(each));
      return condition.kind === 'and'
        ? (bits) => parts.every((holds) => holds(bits))
        : (bits) => parts.some((holds) => holds(bits));
    }
    const kind = speaksOfRecord(condition) ? 'own' : 'facts';
    const number = this[kind].number(condition);
    return (bits) => bits[kind][number] === '1';
  }

  #placesOf(condition: Condition): readonly Place[] | boolean {
    const places: Place[] = [];
    for (const ground of groundsOf(this.#rulebook, this.#caller, condition)) {
      const known = this.#now === null ? ground : answered(ground, this.#caller, this.#now);
      if (known.kind === 'constant' && known.value) return true;
      if (isHopeless(known)) continue;
      if (!speaksOfRecord(known)) places.push(['facts', this.facts.number(known)]);
      else if (speaksOfCaller(ground)) places.push(['own', this.own.number(known)]);
      else places.push(['common', this.#common.number(known)]);
    }
    return places.length === 0 ? false : places;
  }
}
