import type { Rulebook } from '../../ir/rulebook.ts';
import type { Field } from '../../types/schema.ts';

/** A field that points at records of a collection. */
export interface Referrer {
  readonly holder: string;
  readonly field: Field;
}

/** The fields that point at records of a collection, of which `on delete` says this. */
export function referrersOf(
  rulebook: Pick<Rulebook, 'schema'>,
  target: string,
  onDelete: 'remove' | 'clear' | 'refuse',
): Referrer[] {
  return [...rulebook.schema.values()].flatMap((collection) =>
    [...collection.fields.values()]
      .filter(
        ({ name, type, onDelete: does }) =>
          does === onDelete && type.kind === 'ref' && type.collection === target && name !== 'id',
      )
      .map((field) => ({ holder: collection.name, field })),
  );
}

/** The collections whose records go along when one of this is deleted, or lose a reference. */
export function followersOf(rulebook: Pick<Rulebook, 'schema'>, collection: string): Set<string> {
  const found = new Set<string>();
  const queue = new Set([collection]);
  for (const target of queue)
    for (const onDelete of ['remove', 'clear'] as const)
      for (const { holder } of referrersOf(rulebook, target, onDelete)) {
        found.add(holder);
        if (onDelete === 'remove') queue.add(holder);
      }
  return found;
}
