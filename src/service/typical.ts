import { LRUCache } from 'lru-cache';

/** Of so many callers who were served last the time is known, for so long. */
const CALLERS = 64;
const KNOWN_MS = 10_000;
/** Of fewer nothing is said: one alone could make the measure. */
const FEWEST = 8;

/** How long reading takes just now, whoever reads: the median over callers of what their last answer took. */
export class Typical {
  readonly #last = new LRUCache<string, number>({ max: CALLERS, ttl: KNOWN_MS, ttlResolution: 1_000 });

  note(who: string, took: number): void {
    this.#last.set(who, took);
  }

  /** In milliseconds; 0 where too few have been served of late. Cost: some microseconds. */
  get milliseconds(): number {
    const times = [...this.#last.values()].toSorted((a, b) => a - b);
    return times.length < FEWEST ? 0 : times[Math.floor(times.length / 2)]!;
  }
}
