/** What one caller may have. */
export interface Measure {
  /** Requests that are worked on at once: with fewer than the pool has connections, others are served meanwhile. */
  readonly atOnce: number;
  /** The same for whoever has had more than one under way for long: so many milliseconds of work beyond what one takes. */
  readonly atLength: number;
  readonly lengthMs: number;
  /** Requests that wait for their turn; more are turned away. */
  readonly waiting: number;
  /** What reading takes that counts for nothing, in milliseconds. */
  readonly freeMs: number;
  /** What readings may take beyond that before they are turned away, and how much of it comes back with each millisecond. */
  readonly creditMs: number;
  readonly back: number;
  /** What an answer took counts so much later: by then it is known what others had to wait at the same time. */
  readonly settleMs: number;
  /** A refusal comes after so many milliseconds, so that whoever asks again at once costs little. */
  readonly heldMs: number;
}

export const MEASURE: Measure = {
  atOnce: 4,
  atLength: 1,
  lengthMs: 60_000,
  waiting: 100,
  freeMs: 250,
  creditMs: 10_000,
  back: 0.2,
  settleMs: 1_000,
  heldMs: 1_000,
};

/** The part of each of several processes: whoever asks of all of them, has what one alone would give. */
export function sharedOut(processes: number): Measure {
  const part = (all: number) => Math.max(1, Math.ceil(all / processes));
  const { atOnce, waiting, creditMs, back } = MEASURE;
  return {
    ...MEASURE,
    atOnce: part(atOnce),
    waiting: part(waiting),
    creditMs: part(creditMs),
    back: back / processes,
  };
}
