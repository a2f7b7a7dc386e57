import { uniformInt } from 'pure-rand/distribution/uniformInt';
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus';

/** Random choices that are the same for the same seed, on every machine. */
export class Dice {
  readonly #source;

  constructor(seed: number) {
    this.#source = xoroshiro128plus(seed);
  }

  /** A whole number from `low` to `high`, both included. */
  between(low: number, high: number): number {
    return uniformInt(this.#source, low, high);
  }

  /** True this many times in a hundred. */
  percent(chance: number): boolean {
    return this.between(1, 100) <= chance;
  }

  pick<T>(items: readonly T[]): T {
    return items[this.between(0, items.length - 1)]!;
  }

  /** A UUID of version 7 (RFC 9562) with this time in milliseconds. */
  uuid(milliseconds: number): string {
    const time = milliseconds.toString(16).padStart(12, '0');
    const hex = (digits: number) =>
      this.between(0, 16 ** digits - 1)
        .toString(16)
        .padStart(digits, '0');
    const variant = (8 + this.between(0, 3)).toString(16);
    return `${time.slice(0, 8)}-${time.slice(8)}-7${hex(3)}-${variant}${hex(3)}-${hex(6)}${hex(6)}`;
  }
}
