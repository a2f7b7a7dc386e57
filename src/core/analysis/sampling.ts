import type { RecordValues } from '../decide/caller.ts';
import { Decider, type World } from '../evaluate/decider.ts';
import { PEOPLE, collectionOf, fieldOf, type Collection, type Schema } from '../types/schema.ts';
import { attemptsAtCreating, attemptsOn, type Attempt, type Material } from './attempts.ts';
import { reachedOf } from './search.ts';
import { whose, type Counted } from './tally.ts';

/** Records that stand for all others, seen from one caller, and what is tried with them. */
export interface Sample {
  readonly records: readonly RecordValues[];
  readonly attempts: readonly Attempt[];
}

/**
 * Records out of sight are alike in that alone, so more of them are taken: a hole need not be the same for all. They are
 * read; writes are tried on as many as of any other kind.
 */
const HIDDEN = 4;

/**
 * Of records that are alike for a caller (whose they are, all that may be done with them, and what their references show)
 * `perKind` are taken, so that every boundary has one. `nameOf`: whoever is counted, by their id.
 */
export function sampleRecords(
  decider: Decider,
  one: Counted,
  nameOf: ReadonlyMap<string, Counted>,
  collection: Collection,
  ids: readonly string[],
  perKind: number,
): Sample {
  const { rulebook, world } = decider;
  const { name } = collection;
  const kinds = new Map<string, RecordValues[]>();
  let hidden: RecordValues | undefined;
  for (const id of ids) {
    const record = world.look(name, id);
    if (record === null) continue;
    const reached = reachedOf(decider, name, record);
    if (!reached.read) hidden ??= record;
    const { relation } = whose(ownersOf(world, rulebook.schema, collection, record), one, nameOf);
    const shown = new Set(reached.shown);
    const brought = reached.read
      ? targetsOf(decider, collection, record, shown).map(({ visible }) => visible && [...visible])
      : null;
    const key = JSON.stringify([relation, reached, brought]);
    const alike = kinds.get(key) ?? [];
    if (alike.length < (reached.read ? perKind : perKind * HIDDEN)) kinds.set(key, [...alike, record]);
  }
  const material = materialFor(decider, one, nameOf, name, hidden);
  const tried = [...kinds.values()].flatMap((alike) => alike.slice(0, perKind));
  const attempts = tried.flatMap((record) =>
    attemptsOn(decider, collection, record, reachedOf(decider, name, record), material),
  );
  const records = [...kinds.values()].flat();
  const [model] = records;
  if (model !== undefined) attempts.push(...attemptsAtCreating(decider, collection, model, material));
  return { records, attempts };
}

/** The records that references point at, and what of each is to be seen from here; null: nothing. */
export function targetsOf(
  decider: Decider,
  collection: Collection,
  record: RecordValues,
  shown: ReadonlySet<string> | null,
) {
  const { rulebook, world } = decider;
  return [...collection.fields.values()].flatMap(({ name, type, system }) => {
    if (type.kind !== 'ref' || system) return [];
    const target = collectionOf(rulebook.schema, type.collection);
    const pointed = record[name] ?? null;
    const other = pointed === null ? null : world.look(target.name, pointed as string);
    const visible = other === null || shown?.has(name) !== true ? null : decider.shown(target.name, other);
    return [{ field: name, target, other, visible }];
  });
}

/** Another person, and records out of sight that references could be pointed at. */
function materialFor(
  decider: Decider,
  one: Counted,
  nameOf: ReadonlyMap<string, Counted>,
  collection: string,
  hidden: RecordValues | undefined,
): Material {
  const me = one.caller.person?.id;
  const [other] = [...nameOf.keys()].filter((id) => id !== me);
  const unreadable = new Map<string, RecordValues>();
  if (hidden !== undefined) unreadable.set(collection, hidden);
  for (const id of nameOf.keys()) {
    const person = decider.world.look(PEOPLE, id);
    if (person !== null && decider.shown(PEOPLE, person) === null) unreadable.set(PEOPLE, person);
  }
  return { other: other ?? null, unreadable };
}

function ownersOf(
  world: World,
  schema: Schema,
  collection: Collection,
  record: RecordValues,
): (string | null)[] {
  if (collection.name === PEOPLE) return [record.id as string];
  return collection.owners.map((path) => {
    let [here, at]: [RecordValues | null, string] = [record, collection.name];
    for (const [index, step] of path.entries()) {
      const value = (here?.[step] ?? null) as string | null;
      if (index === path.length - 1 || value === null) return value;
      at = (fieldOf(schema, at, step)!.type as { collection: string }).collection;
      here = world.look(at, value);
    }
    return null;
  });
}
