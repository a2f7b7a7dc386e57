import type { Logger } from 'pino';
import { emptyRulebook, type Rulebook } from '../core/ir/rulebook.ts';
import { nothingYet, type Version } from '../core/passage/passage.ts';
import type { Database } from '../store/connection.ts';
import { DatabaseUnavailable } from '../store/failures.ts';
import { publishedVersion } from '../store/publish/index.ts';

/**
 * The rulebook in force. Every request names the version that its own snapshot saw, so a version published by any
 * process holds for the next request of all of them; only its parsing is remembered here.
 */
export class RulebookKeeper {
  readonly #database: Database;
  readonly #logger: Logger;
  #held: (Version & { readonly version: number }) | null = null;

  constructor(database: Database, logger: Logger) {
    this.#database = database;
    this.#logger = logger;
  }

  /** The last one that was asked for: most likely the one in force. */
  get latest(): { readonly version: number | null; readonly rulebook: Rulebook } {
    return this.#held ?? { version: null, rulebook: emptyRulebook };
  }

  async inForce(version: number | null): Promise<Rulebook> {
    if (version === null) return emptyRulebook;
    if (this.#held?.version === version) return this.#held.rulebook;
    const published = await publishedVersion(this.#database, version);
    if (published === null) {
      // Closed on failure: a rulebook that this version of the service cannot read opens nothing.
      this.#logger.error({ version }, 'the published rulebook cannot be read; everything stays closed');
      throw new DatabaseUnavailable('the published rulebook cannot be read');
    }
    this.#held = { version, ...published };
    return published.rulebook;
  }

  /** The same with what its names stand for. */
  async versionInForce(version: number | null): Promise<Version> {
    if (version === null) return nothingYet;
    const rulebook = await this.inForce(version);
    if (this.#held?.rulebook === rulebook) return this.#held;
    return (await publishedVersion(this.#database, version))!;
  }
}
