import type { Fragment } from '../core/sql/fragment.ts';
import { askTogether } from './batch.ts';
import { run, runKept, type Asks, type Database } from './connection.ts';
import { OTHER_RESULT_TYPE } from './kept.ts';

type Row = Record<string, unknown>;

/** Whoever called is not, or no longer, who they were taken for: ask again, by what is so now. */
export class GuessedWrong extends Error {
  constructor() {
    super('the caller is not who they were taken for');
  }
}

/** A statement goes by the moment of the call, which the arrival alone tells: it cannot go out beside it. */
export class MomentNotKnown extends Error {
  constructor() {
    super('the moment of the call is asked for before it is known');
  }
}

/**
 * Asks for somebody who was here before, as whom they were then, and in the same breath whether they are so still. The first statement
 * goes out together with the arrival; what it answers is given only where the arrival says the very same. So nothing is served by what
 * is remembered: the arrival begins after the request, and sees whatever was changed before.
 */
export class Guessed implements Asks {
  readonly #database: Database;
  readonly #arrival: Fragment;
  readonly #isSame: (row: Row | undefined) => boolean;
  #arrived: Promise<Row[]> | null = null;
  #now: string | null = null;

  constructor(database: Database, arrival: Fragment, isSame: (row: Row | undefined) => boolean) {
    this.#database = database;
    this.#arrival = arrival;
    this.#isSame = isSame;
  }

  /** Has the arrival said so? */
  get isRight(): boolean {
    return this.#now !== null;
  }

  /** The moment of the arrival. */
  get now(): string {
    if (this.#now === null) throw new MomentNotKnown();
    return this.#now;
  }

  async asks(statement: Fragment, kept: boolean): Promise<Row[]> {
    if (this.#arrived === null) {
      this.#arrived = this.#together(kept ? statement : null);
      const first = await this.#arrived;
      if (kept) return first;
    } else await this.#arrived;
    return (kept ? runKept : run)(this.#database, statement);
  }

  /** Answers the rows of the statement that goes with the arrival, where there is one. Throws `GuessedWrong`. */
  async #together(statement: Fragment | null): Promise<Row[]> {
    const asked = statement === null ? [this.#arrival] : [this.#arrival, statement];
    let answers: Row[][];
    try {
      answers = await askTogether(this.#database, asked);
    } catch (error) {
      // A table has got another column since: whoever asks anew does so in the ordinary way.
      if ((error as { code?: unknown }).code === OTHER_RESULT_TYPE) throw new GuessedWrong();
      throw error;
    }
    const [arrival, rows = []] = answers;
    if (!this.#isSame(arrival![0])) throw new GuessedWrong();
    this.#now = arrival![0]!._now as string;
    return rows;
  }
}
