import { actionsOf, alongWord, type Reached } from '../../core/analysis/outcomes.ts';
import { reachedOf } from '../../core/analysis/search.ts';
import { planCounting, type Counted, type Tally } from '../../core/analysis/tally.ts';
import { Decider, type World } from '../../core/evaluate/decider.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Executor } from '../connection.ts';
import type { LoadedWorld } from '../world.ts';
import { reachedByBits } from './bits.ts';

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
  unchanged = false,
): Promise<Map<string, Reached>> {
  await world.fetch(collection, ids);
  return world.run(now, (loaded: World) => {
    const decider = new Decider(rulebook, caller, loaded);
    const reached = new Map<string, Reached>();
    for (const id of ids) {
      const record = loaded.look(collection, id);
      if (record === null) continue;
      reached.set(id, reachedOf(decider, collection, record, unchanged));
    }
    return reached;
  });
}

/**
 * Compares what the closures say with what the database returns, cell by cell. Answers the differences, and the cells; one
 * that either could not decide is no difference.
 */
export async function compareWithDatabase(
  on: Executor,
  rulebook: Rulebook,
  now: string,
  { name, caller }: Counted,
  collection: string,
  reached: ReadonlyMap<string, Reached>,
  unchanged = false,
): Promise<{ readonly differences: Difference[]; readonly cells: number; readonly undecided: number }> {
  const plan = planCounting(rulebook, now, collection, [{ name, caller }], { unchanged });
  const ids = [...reached.keys()];
  const questions = questionsAbout(rulebook, collection);
  const differences: Difference[] = [];
  let [cells, undecided] = [0, 0];
  for (let start = 0; start < ids.length; start += CHUNK) {
    const chunk = ids.slice(start, start + CHUNK);
    for (const [id, database] of await reachedByBits(on, rulebook, now, plan, plan.callers[0]!, chunk)) {
      const closures = reached.get(id)!;
      for (const { operation, field } of questions) {
        cells++;
        const [said, found] = [closures, database].map((each) => answerOf(each, operation, field));
        if (said === null || found === null) undecided++;
        else if (said !== found)
          differences.push({
            between: 'closures and database',
            identity: name,
            collection,
            record: id,
            operation,
            field,
            text: `the closures say ${word(said!)}, the database ${word(found!)}`,
          });
      }
    }
  }
  return { differences, cells, undecided };
}

/** Everything that can be said of one record. */
function questionsAbout(
  rulebook: Rulebook,
  collection: string,
): { operation: string; field: string | null }[] {
  const fields = [...collectionOf(rulebook.schema, collection).fields.values()];
  return [
    { operation: 'read', field: null },
    ...fields.map(({ name }) => ({ operation: 'read', field: name })),
    ...fields.filter(({ system }) => !system).map(({ name }) => ({ operation: 'update', field: name })),
    { operation: 'delete', field: null },
    { operation: 'share', field: null },
    ...actionsOf(rulebook, collection).map((operation) => ({ operation, field: null })),
    { operation: 'goes along', field: 'delete' },
    ...fields
      .filter(({ onDelete }) => onDelete === 'clear')
      .map(({ name }) => ({ operation: 'goes along', field: `update ${name}` })),
  ];
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
  /** What either could not decide for some record has no number that could be compared. */
  const open = new Set<string>();
  const add = (to: Map<string, number>, key: string, count: number) =>
    to.set(key, (to.get(key) ?? 0) + count);
  for (const tally of tallies) {
    if (tally.caller !== name || tally.collection !== collection) continue;
    for (const [operation, count] of Object.entries(tally.records)) add(counted, operation, count);
    for (const [what, count] of Object.entries(tally.follows)) add(counted, alongWord(what), count);
    for (const operation of ['read', 'update'] as const)
      for (const [field, count] of Object.entries(tally.fields[operation]))
        add(counted, `${operation} ${field}`, count);
    for (const what of Object.keys(tally.undecided)) open.add(what);
  }
  for (const each of reached.values()) {
    for (const what of each.follows) add(asked, alongWord(what), 1);
    if (!each.read) continue;
    add(asked, 'read', 1);
    if (each.updatable.length > 0) add(asked, 'update', 1);
    if (each.delete) add(asked, 'delete', 1);
    if (each.share) add(asked, 'share', 1);
    for (const action of each.actions) add(asked, action, 1);
    for (const field of each.shown) add(asked, `read ${field}`, 1);
    for (const field of each.updatable) add(asked, `update ${field}`, 1);
    for (const what of each.undecided) open.add(what);
  }
  if ([...open].some((what) => what.startsWith('update '))) open.add('update');
  return [...new Set([...counted.keys(), ...asked.keys()])]
    .filter((key) => !open.has(key) && counted.get(key) !== asked.get(key))
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

/** Null: not decided. */
function answerOf(reached: Reached, operation: string, field: string | null): boolean | null {
  switch (operation) {
    case 'read':
      return field === null ? reached.read : reached.shown.includes(field);
    case 'update':
      return reached.undecided.includes(`update ${field!}`) ? null : reached.updatable.includes(field!);
    case 'delete':
      return reached.undecided.includes('delete') ? null : reached.delete;
    case 'share':
      return reached.share;
    case 'goes along':
      return reached.undecided.includes(alongWord(field!)) ? null : reached.follows.includes(field!);
    default:
      return reached.undecided.includes(operation) ? null : reached.actions.includes(operation);
  }
}

function word(truth: boolean): string {
  return truth ? 'yes' : 'no';
}
