import { Dice } from '../dice.ts';
import { shareable } from '../../decide/nodes.ts';
import { shareableCollections } from '../../decide/shares.ts';
import { isGivenByHand } from '../../evaluate/attributes.ts';
import type { RecordValues } from '../../decide/caller.ts';
import { nodesOf } from '../../ir/conditions.ts';
import type { Invariant, Rulebook } from '../../ir/rulebook.ts';
import { PEOPLE, type Collection, type Field } from '../../types/schema.ts';
import { shiftTimestamp } from '../../types/time.ts';
import { JsonDocument, type Scalar, type Type, type Value } from '../../types/types.ts';
import { conditionsOf, mentionedBy } from './mentioned.ts';
import { placed, type Found, type Records, type Somebody } from './worlds.ts';

const NOW = '2026-05-01T12:00:00Z';

/** Records of each collection at most: what two records and one more cannot show is rarely said in a rule. */
const MOST_RECORDS = 3;

/** How often there are none, in percent: what is said of none is often forgotten. */
const NONE = 8;

/**
 * Looks for an identity and a record that speak against an invariant in `worlds` small random ones, the same for the same
 * seed: values are those that the rules speak of, those beside them, and missing ones. Null says nothing. Cost: some 0.2 ms a world.
 */
export function searchAtRandom(
  rulebook: Rulebook,
  invariant: Invariant,
  worlds: number,
  speaksAgainst: (found: Found) => boolean,
  seed = 1,
): Found | null {
  const dice = new Dice(seed);
  const pool = poolOf(rulebook);
  const mentioned = mentionedBy(rulebook, [invariant.collection]);
  const isShared = shareableCollections(rulebook).size > 0;
  for (let round = 0; round < worlds; round++) {
    const records = randomRecords(dice, rulebook, pool, invariant.collection);
    const one = randomSomebody(dice, rulebook, records, pool);
    for (const somebody of [one, !isShared ? nobody : withShares(dice, rulebook, records, pool, one)]) {
      for (const { id } of records.get(invariant.collection)!) {
        const asked = { collection: invariant.collection, id: id as string, now: NOW };
        const found = placed(rulebook, { asked, records, somebody, mentioned });
        if (found !== null && speaksAgainst(found)) return found;
      }
    }
  }
  return null;
}

/** Some records, shared with them by others. */
function withShares(
  dice: Dice,
  rulebook: Rulebook,
  records: Records,
  pool: ReadonlyMap<Type['kind'], readonly Scalar[]>,
  one: Somebody,
): Somebody {
  const somebody = dice.percent(30) ? nobody : one;
  // Whoever shares several, or asks as well, is the same person.
  const known = new Map([[one.me, one]]);
  const aSharer = () => {
    const drawn = randomSomebody(dice, rulebook, records, pool);
    const sharer = known.get(drawn.me) ?? drawn;
    known.set(drawn.me, sharer);
    return sharer;
  };
  const shares = [...shareableCollections(rulebook)].flatMap((collection) =>
    records.get(collection)!.map(({ id }) => ({
      sharer: aSharer(),
      share: {
        collection,
        record: id as string,
        operations: shareable.filter((each) => each === 'read' || dice.percent(50)),
      },
    })),
  );
  return { ...somebody, shares };
}

const nobody: Somebody = { me: null, roles: [], verified: false, claims: {} };

/** The values that conditions speak of, and their neighbours, by kind of type. */
function poolOf(rulebook: Rulebook): ReadonlyMap<Type['kind'], readonly Scalar[]> {
  const pool = new Map<Type['kind'], Set<Scalar>>([
    ['text', new Set(['', 'a'])],
    ['integer', new Set([0, 1])],
    ['decimal', new Set(['0', '1'])],
    ['boolean', new Set([true, false])],
    ['date', new Set([NOW.slice(0, 10), '2026-04-30', '2026-05-02'])],
    ['timestamp', new Set([NOW])],
    ['uuid', new Set(['00000000-0000-4000-8000-00000000000f'])],
  ]);
  const [moments, days] = [pool.get('timestamp')!, pool.get('date')!];
  for (const minutes of [-1, 1, -1_440, 1_440, -527_040, 527_040])
    moments.add(shiftTimestamp(NOW, 0, minutes, 'UTC')!);
  const nodes = conditionsOf(rulebook).flatMap((each) => [...nodesOf(each)]);
  for (const node of nodes) {
    if (node.kind === 'shift')
      for (const sign of [1, -1])
        for (const beside of [-1, 0, 1]) {
          const moved = shiftTimestamp(NOW, sign * node.days, sign * node.minutes + beside, node.zone);
          if (moved === null) continue;
          moments.add(moved);
          days.add(moved.slice(0, 10));
        }
    if (node.kind !== 'literal') continue;
    const values = pool.get(node.type.kind);
    values?.add(node.value);
    if (node.type.kind === 'integer')
      for (const beside of [-1, 1]) values?.add((node.value as number) + beside);
    if (node.type.kind === 'text') values?.add(`${node.value as string}.`);
  }
  // What is written in other letters, and is the same in small ones.
  const texts = pool.get('text')!;
  if (nodes.some(({ kind }) => kind === 'lower'))
    for (const each of [...texts] as string[])
      texts.add(each.replaceAll(/[a-z]/g, (letter) => letter.toUpperCase()));
  return new Map([...pool].map(([kind, values]) => [kind, [...values]]));
}

/** Collections without records: neither people, nor those asked about, nor what these must point at. */
function emptyOnes(dice: Dice, { schema }: Rulebook, asked: string): ReadonlySet<string> {
  const needs = ({ fields }: Collection) =>
    [...fields.values()].flatMap(({ type, required }) =>
      required && type.kind === 'ref' ? [type.collection] : [],
    );
  const needed = new Set([asked, PEOPLE]);
  // The set grows while it is gone through.
  for (const name of needed) for (const each of needs(schema.get(name)!)) needed.add(each);
  const empty = new Set([...schema.keys()].filter((name) => !needed.has(name) && dice.percent(NONE)));
  for (let size = -1; size !== empty.size;) {
    size = empty.size;
    for (const each of schema.values()) if (needs(each).some((name) => empty.has(name))) empty.add(each.name);
  }
  return empty;
}

function randomRecords(
  dice: Dice,
  rulebook: Rulebook,
  pool: ReadonlyMap<Type['kind'], readonly Scalar[]>,
  asked: string,
) {
  const empty = emptyOnes(dice, rulebook, asked);
  const ids = new Map<string, string[]>();
  let made = 0;
  for (const name of rulebook.schema.keys())
    ids.set(
      name,
      Array.from(
        { length: empty.has(name) ? 0 : dice.between(1, MOST_RECORDS) },
        () => `00000000-0000-4000-8000-${String(++made).padStart(12, '0')}`,
      ),
    );
  const scalar = (type: Type): Scalar => {
    if (type.kind === 'ref') return dice.pick(ids.get(type.collection)!);
    if (type.kind === 'one of') return dice.pick(type.values);
    return dice.pick(pool.get(type.kind)!);
  };
  const valueOf = ({ type, required }: Field): Value => {
    if (!required && dice.percent(25)) return null;
    if (type.kind === 'ref' && empty.has(type.collection)) return null;
    if (type.kind === 'json') return new JsonDocument({});
    if (type.kind === 'list') return Array.from({ length: dice.between(0, 2) }, () => scalar(type.of));
    return scalar(type);
  };
  const records = new Map<string, RecordValues[]>();
  for (const { name, fields } of rulebook.schema.values()) {
    const all = ids.get(name)!.map((id) => {
      const record: Record<string, Value> = {};
      for (const field of fields.values()) record[field.name] = valueOf(field);
      return { ...record, id };
    });
    records.set(name, distinct(rulebook.schema.get(name)!, all));
  }
  return records;
}

/** Worlds in which a unique value stands twice, or a record lies below itself, there are none. */
function distinct({ fields, tree }: Collection, records: readonly RecordValues[]): RecordValues[] {
  const taken = new Map<string, Set<Value>>();
  return records.map((record, index) => {
    const values: Record<string, Value> = { ...record };
    for (const { name, unique, required, type, system } of fields.values()) {
      if (!unique || system || values[name] === null) continue;
      const known = taken.get(name) ?? new Set();
      taken.set(name, known);
      if (known.has(values[name]!))
        values[name] = required
          ? type.kind === 'text'
            ? `${values[name] as string}${index}`
            : values[name]!
          : null;
      known.add(values[name]!);
    }
    const earlier = records.slice(0, index).map((each) => each.id);
    if (tree !== null && !earlier.includes(values[tree]!)) values[tree] = null;
    return values;
  });
}

function randomSomebody(
  dice: Dice,
  rulebook: Rulebook,
  records: Records,
  pool: ReadonlyMap<Type['kind'], readonly Scalar[]>,
): Somebody {
  const claims: Record<string, unknown> = {};
  for (const { source, type } of rulebook.attributes.values())
    if (source.kind === 'claim' && dice.percent(70))
      claims[source.claim] =
        type.kind === 'list'
          ? Array.from({ length: dice.between(0, 2) }, () => dice.pick(pool.get(type.of.kind) ?? ['a']))
          : dice.pick(pool.get(type.kind) ?? ['a']);
  return {
    me: dice.pick(records.get(PEOPLE)!).id as string,
    roles: [...rulebook.roles.keys()].filter((role) => isGivenByHand(rulebook, role) && dice.percent(30)),
    verified: dice.percent(70),
    claims,
  };
}
