import { remembered } from '../decide/remembered.ts';
import { keyOf, type Fragment } from './fragment.ts';

/** Conditions that are asked of a row, each once however many ask it: PostgreSQL does not see that they are the same. */
export class AskedOnce {
  readonly all: Fragment[] = [];
  readonly #known = new Map<string, number>();

  /** Where the condition stands among all. */
  place(condition: Fragment): number {
    const key = keyOf(condition);
    return remembered(this.#known, key, () => this.all.push(condition) - 1);
  }
}
