import type { MutateDocument, MutateRequest } from '../../client/schemas/mutate.ts';
import { mutationsOf } from '../../core/analysis/mutations.ts';
import type { Database } from '../../store/connection.ts';
import type { Tried } from '../../store/publish/index.ts';
import { plantFaults, type MutationOptions } from '../../store/mutations.ts';
import { knownName } from './why.ts';

const MOST = 200;

/** Plants faults in a rulebook, and tells who found each. */
export async function mutateAnswer(
  database: Database,
  { rulebook, enter }: Tried,
  { collections, most = MOST }: MutateRequest,
  progress: MutationOptions['progress'],
): Promise<MutateDocument> {
  for (const name of collections ?? [])
    knownName('collections', name, [...rulebook.schema.keys()], 'collection');
  const began = performance.now();
  const all = mutationsOf(rulebook.sources, rulebook.schema, [...rulebook.roles.keys()]).filter(
    ({ collection }) =>
      collections === undefined || (collection !== null && collections.includes(collection)),
  );
  const chosen = spread(all, most);
  const { fates, failing } = await plantFaults(database, rulebook, chosen, { sweep: true, progress }, enter);
  return {
    faults: fates.map(({ mutation: { kind, file, line, was, now }, foundBy, by }) => ({
      kind,
      file,
      line,
      was,
      now,
      foundBy,
      by,
    })),
    failing: [...new Set(failing.map(({ trial }) => trial))],
    possible: all.length,
    milliseconds: Math.round(performance.now() - began),
  };
}

/** At most so many, evenly from all. */
export function spread<T>(all: readonly T[], most: number): T[] {
  if (all.length <= most) return [...all];
  return Array.from({ length: most }, (_, index) => all[Math.floor((index * all.length) / most)]!);
}
