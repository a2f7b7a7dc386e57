import type { Fragment } from '../core/sql/fragment.ts';
import { askTogether, rowsOf, type Part } from './batch.ts';
import { run, runKept, type Asks, type Database } from './connection.ts';
import { isTakenBack } from './failures.ts';
import { tallies } from './tallies.ts';

type Row = Record<string, unknown>;

/** Whoever called is not, or no longer, who they were taken for: ask again, by what is so now. */
export class GuessedWrong extends Error {
  constructor() {
    super('the caller is not who they were taken for');
    tallies.guesses.wrong++;
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
  readonly #said: string;
  #arrived: Promise<Row[]> | null = null;
  #now: string | null = null;

  /** `arrival` and `said`: see `arrivalNow`. */
  constructor(database: Database, arrival: Fragment, said: string) {
    this.#database = database;
    this.#arrival = arrival;
    this.#said = said;
  }

  /** Has the arrival said so? */
  get isRight(): boolean {
    return this.#now !== null;
  }

  /** The moment of the arrival; null as long as it is under way: what goes with it has the same. */
  get now(): string | null {
    return this.#now;
  }

  async asks(statement: Part, kept: boolean): Promise<Row[]> {
    if (this.#arrived === null) {
      this.#arrived = this.#together({ ...statement, once: !kept });
      return this.#arrived;
    }
    await this.#arrived;
    if (statement.raw === true) return (await rowsOf(this.#database, statement, kept)) as Row[];
    return (kept ? runKept : run)(this.#database, statement);
  }

  /** Answers the rows of the statement that goes with the arrival. Throws `GuessedWrong`. */
  async #together(statement: Part): Promise<Row[]> {
    let answers: Row[][];
    try {
      answers = await askTogether(this.#database, [this.#arrival, statement]);
    } catch (error) {
      // Nothing is told before it is known who asks: whoever asks anew does so in the ordinary way.
      if (isTakenBack(error)) throw new GuessedWrong();
      throw error;
    }
    const [[arrival], rows] = answers as [Row[], Row[]];
    if (arrival?._said !== this.#said) throw new GuessedWrong();
    tallies.guesses.right++;
    this.#now = arrival!._now as string;
    return rows;
  }
}
