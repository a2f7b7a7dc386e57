import type { Caller } from '../decide/caller.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { groundsOf, speaksOfCaller } from './grounds.ts';
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
  readonly #now: string;
  readonly #places = new Map<string, readonly Place[] | boolean>();

  constructor(rulebook: Rulebook, caller: Caller, now: string, common: Numbered) {
    this.#rulebook = rulebook;
    this.#caller = caller;
    this.#now = now;
    this.#common = common;
  }

  /** Numbers the condition, whose roles have been put in, and answers how to read its truth. */
  ask(condition: Condition): (bits: Bits) => boolean {
    const key = JSON.stringify(condition);
    let places = this.#places.get(key);
    if (places === undefined) this.#places.set(key, (places = this.#placesOf(condition)));
    if (typeof places === 'boolean') {
      const settled = places;
      return () => settled;
    }
    const where = places;
    return (bits) => where.some(([kind, number]) => bits[kind][number] === '1');
  }

  #placesOf(condition: Condition): readonly Place[] | boolean {
    const places: Place[] = [];
    for (const ground of groundsOf(this.#rulebook, this.#caller, condition)) {
      const known = answered(ground, this.#caller, this.#now);
      if (known.kind === 'constant' && known.value) return true;
      if (isHopeless(known)) continue;
      if (!speaksOfRecord(known)) places.push(['facts', this.facts.number(known)]);
      else if (speaksOfCaller(ground)) places.push(['own', this.own.number(known)]);
      else places.push(['common', this.#common.number(known)]);
    }
    return places.length === 0 ? false : places;
  }
}
