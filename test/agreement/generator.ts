import { Dice } from '../../demo/data/random.ts';
import type { Schema } from '../../src/core/types/schema.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import type { Type, Value } from '../../src/core/types/types.ts';

/** Three collections that point at each other, themselves and people, with every type that there is. */
export const schemaText = `
people { team ref teams  level integer  nick text  joined date  away boolean }
collection teams { name text label  parent ref teams  lead ref people  budget decimal  opened timestamp  color one of ("red", "green", "Blue") }
collection items {
  code text label  team ref teams  owner ref people  twin ref items  size integer  price decimal  done boolean
  due date  seen timestamp  token uuid  state one of ("new", "old", "?")  note text
  owned by owner
}
role r1  role r2  role r3
`;

export const collections = ['people', 'teams', 'items'] as const;

const uuids = ['00000000-0000-4000-8000-000000000001', 'ffffffff-ffff-4fff-bfff-ffffffffffff'];

/** Values at the edges of each type, and some in the middle, so that equal ones meet. */
const pools: Readonly<Record<Exclude<Type['kind'], 'ref' | 'one of'>, readonly Exclude<Value, null>[]>> = {
  text: [
    '',
    'a',
    'A',
    'b',
    'ä',
    'a b',
    '"',
    '\\',
    "'",
    '?',
    '%',
    '$1',
    '😀',
    '\uFF61',
    '\uFFFD',
    'null',
    'a\nb',
  ],
  integer: [0, 1, -1, 2, 42, 9007199254740991, -9007199254740991],
  decimal: [
    '0',
    '0.0',
    '-0.5',
    '1.5',
    '1.50',
    '2',
    '42',
    '99999999999999999999.000000001',
    '-99999999999999999999.000000001',
  ],
  boolean: [true, false],
  date: ['0001-01-01', '2024-02-29', '2026-05-01', '2026-05-02', '9999-12-31'],
  timestamp: [
    '0001-01-01T00:00:00Z',
    '2026-05-01T12:00:00Z',
    '2026-05-01T12:00:00.000001Z',
    '2026-05-01T12:00:00.5Z',
    '9999-12-31T23:59:59.999999Z',
  ],
  uuid: uuids,
};

/** A random value of a type; missing three times in ten. References are chosen among `ids`. */
export function randomValue(dice: Dice, type: Type, ids: ReadonlyMap<string, readonly string[]>): Value {
  if (dice.percent(30)) return null;
  if (type.kind === 'ref') return dice.pick(ids.get(type.collection)!);
  if (type.kind === 'one of') return dice.pick(type.values);
  return dice.pick(pools[type.kind]);
}

/** Writes random conditions and rules in the language, well typed, over a schema. */
export class RuleWriter {
  readonly #dice: Dice;
  readonly #schema: Schema;

  constructor(dice: Dice, schema: Schema) {
    this.#dice = dice;
    this.#schema = schema;
  }

  /** Some sentences for each collection, for all operations. */
  rulebook(): string {
    return collections
      .map((collection) => {
        const sentences = Array.from({ length: this.#dice.between(1, 4) }, () => this.#sentence(collection));
        return `rules ${collection} {\n  ${sentences.join('\n  ')}\n}`;
      })
      .join('\n');
  }

  #sentence(collection: string): string {
    const who = this.#dice.pick(['everybody', 'people', 'visitors', 'r1', 'r2', 'r1, r3', 'visitors, r2']);
    const when = this.#dice.percent(85) ? ` when ${this.condition(collection, 3, true)}` : '';
    return `${who} may read ${this.#fields(collection, true)}, update ${this.#fields(collection, false)}${when}`;
  }

  #fields(collection: string, system: boolean): string {
    const names = [...collectionOf(this.#schema, collection).fields.values()]
      .filter((field) => system || !field.system)
      .map((field) => field.name);
    const some = names.filter(() => this.#dice.percent(50));
    if (some.length === 0 || this.#dice.percent(30)) return '(all)';
    return this.#dice.percent(50) ? `(${some.join(', ')})` : `(all but ${some.join(', ')})`;
  }

  /** A condition over a record of `collection`; `me` may stand in rules, not in filters. */
  condition(collection: string, depth: number, me: boolean): string {
    if (depth > 0 && this.#dice.percent(55)) {
      if (this.#dice.percent(25)) return `not (${this.condition(collection, depth - 1, me)})`;
      const parts = Array.from({ length: this.#dice.between(2, 3) }, () =>
        this.condition(collection, depth - 1, me),
      );
      return `(${parts.join(this.#dice.percent(50) ? ' and ' : ' or ')})`;
    }
    return this.#atom(collection, me);
  }

  #atom(collection: string, me: boolean): string {
    const { text, type } = this.#path(collection, me);
    const roll = this.#dice.between(1, 100);
    if (roll <= 15) return `${text} is ${this.#dice.pick(['missing', 'present'])}`;
    if (roll <= 25 && type.kind === 'boolean') return text;
    if (type.kind === 'ref') {
      const other = this.#reference(collection, type.collection, me);
      return other === null ? `${text} is missing` : `${text} ${this.#dice.pick(['=', '!='])} ${other}`;
    }
    if (roll <= 40) {
      const list = Array.from({ length: this.#dice.between(1, 3) }, () => this.#literal(type));
      return `${text} ${this.#dice.pick(['in', 'not in'])} (${list.join(', ')})`;
    }
    const ordered = type.kind !== 'boolean' && type.kind !== 'uuid' && type.kind !== 'one of';
    const operator = this.#dice.pick(ordered ? ['=', '!=', '<', '<=', '>', '>='] : ['=', '!=']);
    if (type.kind === 'timestamp' && this.#dice.percent(20)) return `now ${operator} ${text}`;
    const other = this.#dice.percent(40) ? this.#sameType(collection, type, me) : null;
    const right = other ?? this.#literal(type);
    return this.#dice.percent(50) ? `${text} ${operator} ${right}` : `${right} ${operator} ${text}`;
  }

  /** A path of one to four steps from the record, or from `me`. */
  #path(collection: string, me: boolean): { text: string; type: Type } {
    const mine = me && this.#dice.percent(25);
    let here = mine ? 'people' : collection;
    const steps: string[] = mine ? ['me'] : this.#dice.percent(10) ? ['this'] : [];
    for (let depth = 1; ; depth++) {
      const field = this.#dice.pick([...collectionOf(this.#schema, here).fields.values()]);
      steps.push(field.name);
      if (field.type.kind !== 'ref' || depth === 4 || this.#dice.percent(40))
        return { text: steps.join('.'), type: field.type };
      here = field.type.collection;
    }
  }

  #sameType(collection: string, type: Type, me: boolean): string | null {
    const numbers = ['integer', 'decimal'];
    for (let attempt = 0; attempt < 12; attempt++) {
      const path = this.#path(collection, me);
      const both = numbers.includes(path.type.kind) && numbers.includes(type.kind);
      if (path.type.kind === type.kind || both) return path.text;
    }
    return null;
  }

  #reference(collection: string, target: string, me: boolean): string | null {
    if (target === 'people' && me && this.#dice.percent(50)) return 'me';
    if (target === collection && this.#dice.percent(30)) return 'this';
    for (let attempt = 0; attempt < 12; attempt++) {
      const path = this.#path(collection, me);
      if (path.type.kind === 'ref' && path.type.collection === target) return path.text;
    }
    return null;
  }

  #literal(type: Type): string {
    const value = randomLiteral(this.#dice, type);
    if (type.kind === 'integer' || type.kind === 'decimal' || type.kind === 'boolean') return String(value);
    return `"${String(value).replaceAll('\\', '\\\\').replaceAll('"', '\\"').replaceAll('\n', '\\n')}"`;
  }
}

function randomLiteral(dice: Dice, type: Type): Exclude<Value, null> {
  if (type.kind === 'ref') return dice.pick(uuids);
  if (type.kind === 'one of') return dice.pick(type.values);
  // Beside an integer a fraction may stand, too.
  if (type.kind === 'integer' && dice.percent(30)) return dice.pick(['0.5', '-1.0', '42.000000001']);
  return dice.pick(pools[type.kind]);
}
