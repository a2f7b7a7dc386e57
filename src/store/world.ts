import type { RecordValues } from '../core/decide/caller.ts';
import type { Anchor } from '../core/evaluate/closures.ts';
import type { World } from '../core/evaluate/decider.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import { commaList, sql, value, type Fragment } from '../core/sql/fragment.ts';
import { column, columnType, identifier, recordKeys } from '../core/sql/identifiers.ts';
import { relation } from '../core/sql/relations.ts';
import { collectionOf, columnsOf, fieldOf } from '../core/types/schema.ts';
import type { Value } from '../core/types/types.ts';
import { run, type Executor } from './connection.ts';

/** Records that one question may need at once: more is a job for the database, not for memory. */
const MOST_LOADED = 200_000;
/** A collection of at most so many records is held whole, as soon as anything of it is needed. */
const HELD_WHOLE = 5_000;
/** Rounds of loading: one for each step further that conditions look. */
const MOST_ROUNDS = 200;

/** The question cannot be answered by loading records: it would need too many of a collection. */
export class TooMuchToLoad extends Error {
  override readonly name = 'TooMuchToLoad';
  readonly collection: string;

  constructor(collection: string) {
    super(`more than ${MOST_LOADED} records of ${collection} would have to be looked at`);
    this.collection = collection;
  }
}

/** Records that turned out to be needed together: all beside something, or some. */
interface Wanted {
  readonly collection: string;
  readonly beside: Anchor | undefined;
  readonly most: number | null;
}

/**
 * Records with full sight, held in memory so that closures can be asked about them, and fetched as they turn out to be
 * needed: the work is begun anew each time something was missing, with everything that it asked for so far at hand. So it
 * must have no effect besides its answer. For developers' questions, never for an end user's request.
 */
export class LoadedWorld {
  readonly #on: Executor;
  readonly #rulebook: Rulebook;
  readonly #records = new Map<string, Map<string, RecordValues | null>>();
  readonly #groups = new Map<string, readonly RecordValues[]>();
  readonly #wantedIds = new Map<string, Set<string>>();
  readonly #wantedGroups = new Map<string, Wanted>();
  /** Collections of which every record is at hand; null: there are too many. */
  readonly #whole = new Map<string, readonly RecordValues[] | null>();
  #loaded = 0;

  constructor(on: Executor, rulebook: Rulebook) {
    this.#on = on;
    this.#rulebook = rulebook;
  }

  /** Does the work with this world. Cost: a round of statements for each step that conditions look further. */
  async run<T>(now: string, work: (world: World) => T): Promise<T> {
    const world: World = {
      now,
      look: (collection, id) => this.#look(collection, id),
      all: (collection, beside) => this.#all(collection, beside),
      few: (collection, most) => this.#few(collection, most),
    };
    for (let round = 0; round < MOST_ROUNDS; round++) {
      const answer = work(world);
      if (!this.#isWanting()) return answer;
      await this.#fetch();
    }
    throw new TooMuchToLoad('every collection');
  }

  /** The records, by id, all at once, so that the work need not ask for each. */
  async fetch(collection: string, ids: readonly string[]): Promise<void> {
    for (const id of ids) this.#want(collection, id);
    await this.#fetch();
  }

  #isWanting(): boolean {
    return this.#wantedIds.size > 0 || this.#wantedGroups.size > 0;
  }

  /** A record that is not there yet counts as missing for this round, so that others can be asked for in the same. */
  #look(collection: string, id: string): RecordValues | null {
    const known = this.#records.get(collection)?.get(id);
    if (known !== undefined) return known;
    if (this.#isWhole(collection)) return null;
    this.#want(collection, id);
    return null;
  }

  #want(collection: string, id: string): void {
    if (this.#records.get(collection)?.has(id) === true) return;
    const wanted = this.#wantedIds.get(collection) ?? new Set();
    this.#wantedIds.set(collection, wanted.add(id));
  }

  #all(collection: string, beside: Anchor | undefined): readonly RecordValues[] {
    const whole = this.#whole.get(collection);
    if (whole !== undefined && whole !== null)
      return beside === undefined ? whole : this.#beside(collection, whole, beside);
    const key = JSON.stringify([collection, beside?.field, beside?.value]);
    const known = this.#groups.get(key);
    if (known !== undefined) return known;
    this.#wantedGroups.set(key, { collection, beside, most: null });
    return [];
  }

  /** Those of a whole collection that are beside something, found once. */
  #beside(
    collection: string,
    whole: readonly RecordValues[],
    { field, value: wanted }: Anchor,
  ): readonly RecordValues[] {
    const key = JSON.stringify([collection, field]);
    let by = this.#byField.get(key);
    if (by === undefined) {
      by = new Map();
      for (const each of whole) {
        const at = each[field] ?? null;
        const same = by.get(at);
        if (same === undefined) by.set(at, [each]);
        else same.push(each);
      }
      this.#byField.set(key, by);
    }
    // Where the field is missing, the answer is not no: unknown is not false.
    return [...(by.get(wanted) ?? []), ...(by.get(null) ?? [])];
  }

  readonly #byField = new Map<string, Map<Value, RecordValues[]>>();

  #isWhole(collection: string): boolean {
    return (this.#whole.get(collection) ?? null) !== null;
  }

  #few(collection: string, most: number): readonly RecordValues[] {
    const whole = this.#whole.get(collection) ?? null;
    if (whole !== null) return whole.slice(0, most);
    const key = JSON.stringify([collection, most]);
    const known = this.#groups.get(key);
    if (known !== undefined) return known;
    this.#wantedGroups.set(key, { collection, beside: undefined, most });
    return [];
  }

  async #fetch(): Promise<void> {
    const wanted = new Set([
      ...this.#wantedIds.keys(),
      ...[...this.#wantedGroups.values()].map((each) => each.collection),
    ]);
    for (const collection of wanted) await this.#holdWhole(collection);
    for (const [collection, ids] of this.#wantedIds) {
      if (this.#isWhole(collection)) continue;
      const records = this.#records.get(collection) ?? new Map<string, RecordValues | null>();
      this.#records.set(collection, records);
      for (const id of ids) records.set(id, null);
      const rows = await this.#select(collection, sql`r.id = any(${recordKeys([...ids])})`);
      for (const row of rows) records.set(row.id as string, row);
    }
    this.#wantedIds.clear();
    for (const [key, { collection, beside, most }] of this.#wantedGroups) {
      if (this.#isWhole(collection)) continue;
      const condition = this.#besideSql(collection, beside);
      this.#groups.set(key, await this.#select(collection, condition, most ?? MOST_LOADED + 1));
    }
    this.#wantedGroups.clear();
  }

  /** Holds all of a small collection, so that nothing of it has to be asked for a second time. */
  async #holdWhole(collection: string): Promise<void> {
    if (this.#whole.has(collection)) return;
    this.#whole.set(collection, null);
    const rows = await this.#select(collection, sql`true`, HELD_WHOLE + 1);
    if (rows.length > HELD_WHOLE) return;
    this.#whole.set(collection, rows);
    this.#records.set(collection, new Map(rows.map((row) => [row.id as string, row])));
  }

  #besideSql(collection: string, beside: Anchor | undefined): Fragment {
    if (beside === undefined) return sql`true`;
    const { type } = fieldOf(this.#rulebook.schema, collection, beside.field)!;
    const field = column('r', beside.field);
    return sql`(${field} = ${value(String(beside.value))}::${columnType(type)} or ${field} is null)`;
  }

  async #select(collection: string, condition: Fragment, most = MOST_LOADED + 1): Promise<RecordValues[]> {
    const fields = columnsOf(collectionOf(this.#rulebook.schema, collection));
    const columns = commaList(fields.map((field) => sql`${column('r', field)} as ${identifier(field)}`));
    const rows = await run<Record<string, Value>>(
      this.#on,
      sql`select ${columns} from ${relation(this.#rulebook.schema, collection)} as r where ${condition} order by r.id limit ${value(most)}::bigint`,
    );
    if ((this.#loaded += rows.length) > MOST_LOADED) throw new TooMuchToLoad(collection);
    return rows;
  }
}
