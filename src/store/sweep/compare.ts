import { reachedOf } from '../../core/analysis/reached.ts';
import { Deciding, type Counted, type Reached, type Tally } from '../../core/analysis/tally.ts';
import { Decider, type World } from '../../core/evaluate/decide.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { allowedSql } from '../../core/sql/counting.ts';
import { run, type Executor } from '../connection.ts';
import type { LoadedWorld } from '../world.ts';

/** Two answers to one question that are not the same: a defect of ours, never of the rulebook. */
export interface Difference {
  readonly between: 'closures and database' | 'closures and counts' | 'closures and service';
  readonly identity: string;
  readonly collection: string;
  readonly record: string;
  readonly operation: string;
  readonly field: string | null;
  readonly text: string;
}

/** Records whose answers are fetched with one statement. */
const CHUNK = 500;

/** What the closures say of records, one after the other. */
export async function reachedByClosures(
  world: LoadedWorld,
  rulebook: Rulebook,
  now: string,
  { caller }: Counted,
  collection: string,
  ids: readonly string[],
): Promise<Map<string, Reached>> {
  await world.fetch(collection, ids);
  const deciding = new Deciding(rulebook, collection, caller);
  return world.run(now, (loaded: World) => {
    const decider = new Decider(rulebook, caller, loaded);
    const reached = new Map<string, Reached>();
    for (const id of ids) {
      const record = loaded.look(collection, id);
      if (record === null) continue;
      reached.set(id, reachedOf(decider, deciding, collection, record));
    }
    return reached;
  });
}

/** Compares what the closures say with what the database returns, cell by cell. Answers the differences, and the cells. */
export async function compareWithDatabase(
  on: Executor,
  rulebook: Rulebook,
  now: string,
  { name, caller }: Counted,
  collection: string,
  reached: ReadonlyMap<string, Reached>,
): Promise<{ readonly differences: Difference[]; readonly cells: number }> {
  const access = new Access(rulebook, caller, now);
  const ids = [...reached.keys()];
  const differences: Difference[] = [];
  let cells = 0;
  for (let start = 0; start < ids.length; start += CHUNK) {
    const { statement, names } = allowedSql(access, collection, ids.slice(start, start + CHUNK));
    for (const row of await run<Record<string, string | boolean | null>>(on, statement)) {
      const closures = reached.get(row.id as string)!;
      for (const { operation, field, column } of names) {
        cells++;
        const database = row[column] === true;
        const said = allows(closures, operation, field);
        if (database === said) continue;
        differences.push({
          between: 'closures and database',
          identity: name,
          collection,
          record: row.id as string,
          operation,
          field,
          text: `the closures say ${word(said)}, the database ${word(database)}`,
        });
      }
    }
  }
  return { differences, cells };
}

/** Where every record was asked about, the counts must be those of the closures. */
export function compareCounts(
  { name }: Counted,
  collection: string,
  tallies: readonly Tally[],
  reached: ReadonlyMap<string, Reached>,
): Difference[] {
  const counted = new Map<string, number>();
  const asked = new Map<string, number>();
  const add = (to: Map<string, number>, key: string, count: number) =>
    to.set(key, (to.get(key) ?? 0) + count);
  for (const tally of tallies) {
    if (tally.caller !== name || tally.collection !== collection) continue;
    for (const [operation, count] of Object.entries(tally.records)) add(counted, operation, count);
    for (const operation of ['read', 'update'] as const)
      for (const [field, count] of Object.entries(tally.fields[operation]))
        add(counted, `${operation} ${field}`, count);
  }
  for (const each of reached.values()) {
    if (!each.read) continue;
    add(asked, 'read', 1);
    if (each.updatable.length > 0) add(asked, 'update', 1);
    if (each.delete) add(asked, 'delete', 1);
    for (const action of each.actions) add(asked, action, 1);
    for (const field of each.shown) add(asked, `read ${field}`, 1);
    for (const field of each.updatable) add(asked, `update ${field}`, 1);
  }
  return [...new Set([...counted.keys(), ...asked.keys()])]
    .filter((key) => counted.get(key) !== asked.get(key))
    .map((key) => ({
      between: 'closures and counts',
      identity: name,
      collection,
      record: '',
      operation: key.split(' ')[0]!,
      field: key.split(' ')[1] ?? null,
      text: `the closures count ${asked.get(key) ?? 0}, the database ${counted.get(key) ?? 0}`,
    }));
}

function allows(reached: Reached, operation: string, field: string | null): boolean {
  switch (operation) {
    case 'read':
      return field === null ? reached.read : reached.shown.includes(field);
    case 'update':
      return reached.updatable.includes(field!);
    case 'delete':
      return reached.delete;
    default:
      return reached.actions.includes(operation);
  }
}

function word(truth: boolean): string {
  return truth ? 'yes' : 'no';
}
