import { affectedBy } from '../analysis/affected.ts';
import { differencesBetween } from '../analysis/differences.ts';
import type { Rulebook, Trial } from '../ir/rulebook.ts';
import type { Passage } from '../passage/passage.ts';

/**
 * Could the change have a part in what a trial expects? It is new or changed itself, or about a collection for which the change may make a
 * difference. The others need not be tried first; that they cannot fail is not said.
 */
export function touchedBy(before: Rulebook, after: Rulebook, passage: Passage): (trial: Trial) => boolean {
  const differences = differencesBetween(before, after, passage.renamed);
  const collections = affectedBy(before, after, passage, differences);
  const changed = new Set(differences.map(({ what }) => what));
  if (collections === null) return () => true;
  return ({ title, given, parts }) =>
    changed.has(`trial ${JSON.stringify(title)}`) ||
    [...given, ...parts.flatMap(({ expectations }) => expectations)].some(({ collection }) =>
      collections.has(collection),
    );
}
