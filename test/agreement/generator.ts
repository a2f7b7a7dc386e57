import { Dice } from '../../demo/data/random.ts';
import type { Schema } from '../../src/core/types/schema.ts';
import { collectionOf, systemFieldNames } from '../../src/core/types/schema.ts';
import type { Type, Value } from '../../src/core/types/types.ts';

/** Three collections that point at each other, themselves and people, with every type that there is. */
export const schemaText = `
people { team ref teams  level integer  nick text  joined date  away boolean }
collection teams { name text label  parent ref teams  lead ref people  budget decimal  opened timestamp  color one of ("red", "green", "Blue")  tree by parent }
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

/** A record that a condition can name: a variable of `some` or `count`, or one side of an update. */
interface Named {
  readonly text: string;
  readonly collection: string;
}

/** Writes random conditions and rules in the language, well typed, over a schema. */
export class RuleWriter {
  readonly #dice: Dice;
  readonly #schema: Schema;

  constructor(dice: Dice, schema: Schema) {
    this.#dice = dice;
    this.#schema = schema;
  }

  /** Some lets, and some sentences for each collection, for all operations. */
  rulebook(): string {
    const lets = collections.map((collection) => {
      const body = this.#condition(
        { collection: null, me: true, named: [{ text: 'it', collection }], ranges: 1 },
        2,
      );
      return `let about_${collection}(it: ${collection}) = ${body}`;
    });
    const rules = collections.map((collection) => {
      const sentences = Array.from({ length: this.#dice.between(1, 4) }, () => this.#sentence(collection));
      if (this.#dice.percent(40)) sentences.push(this.#fence(collection));
      return `rules ${collection} {\n  ${sentences.join('\n  ')}\n}`;
    });
    return [...lets, ...rules].join('\n');
  }

  #sentence(collection: string): string {
    const who = this.#dice.pick(['everybody', 'people', 'visitors', 'r1', 'r2', 'r1, r3', 'visitors, r2']);
    const sides = this.#dice.percent(25);
    const named = sides ? ['old', 'new'].map((text) => ({ text, collection })) : [];
    const when = this.#dice.percent(85)
      ? ` when ${this.#condition({ collection, me: true, named, ranges: 0 }, 3)}`
      : '';
    const update = `update ${this.#fields(collection, false)}`;
    if (sides) return `${who} may ${update}${when}`;
    const remove = this.#dice.percent(40) ? ', delete' : '';
    return `${who} may read ${this.#fields(collection, true)}, ${update}${remove}${when}`;
  }

  #fence(collection: string): string {
    const but = this.#dice.percent(50) ? ` but ${this.#dice.pick(['r1', 'r2, r3'])}` : '';
    const names = [...collectionOf(this.#schema, collection).fields.keys()].filter(
      (name) => !systemFieldNames.has(name),
    );
    const some = names.filter(() => this.#dice.percent(30));
    const list = some.length === 0 ? '' : ` (${some.join(', ')})`;
    const unless = this.#condition({ collection, me: true, named: [], ranges: 0 }, 2);
    const closed = list !== '' && this.#dice.percent(30) ? '' : ` unless ${unless}`;
    return `nobody${but} may read${list}, update${list}${closed}`;
  }

  #fields(collection: string, system: boolean): string {
    const names = [...collectionOf(this.#schema, collection).fields.values()]
      .filter((field) => system || !field.system)
      .map((field) => field.name);
    const some = names.filter(() => this.#dice.percent(50));
    if (some.length === 0 || this.#dice.percent(30)) return '(all)';
    return this.#dice.percent(50) ? `(${some.join(', ')})` : `(all but ${some.join(', ')})`;
  }

  /** A caller's filter: no lets, no `some`, nothing of the caller. */
  filter(collection: string): string {
    return this.#condition({ collection, me: false, named: [], ranges: 0 }, 2);
  }

  #condition(scope: Names, depth: number): string {
    if (depth > 0 && this.#dice.percent(55)) {
      if (this.#dice.percent(25)) return `not (${this.#condition(scope, depth - 1)})`;
      const parts = Array.from({ length: this.#dice.between(2, 3) }, () => this.#condition(scope, depth - 1));
      return `(${parts.join(this.#dice.percent(50) ? ' and ' : ' or ')})`;
    }
    if (!scope.me || this.#dice.percent(70)) return this.#atom(scope);
    const roll = this.#dice.between(1, 100);
    const may = roll > 78 ? this.#may(scope) : null;
    if (may !== null) return may;
    if (roll <= 15) return `me has role ${this.#dice.pick(['r1', 'r2', 'r3'])}`;
    // A let is used in rules alone, never in another: then none can use itself.
    if (roll <= 35 && scope.collection !== null) return `about_${scope.collection}(this)`;
    // Two inside each other are enough: a third multiplies the work and adds no new case.
    if (scope.ranges === 2) return this.#atom(scope);
    const collection = this.#dice.pick(collections);
    const variable = `v${scope.named.length + 1}`;
    const inner = {
      ...scope,
      ranges: scope.ranges + 1,
      named: [...scope.named, { text: variable, collection }],
    };
    const body = this.#condition(inner, depth > 0 ? depth - 1 : 0);
    if (roll <= 85) return `${this.#dice.pick(['some', 'no'])} ${variable} in ${collection} has (${body})`;
    return `count(${variable} in ${collection} where ${body}) ${this.#dice.pick(['=', '<', '>='])} ${this.#dice.between(0, 12)}`;
  }

  /** Rules follow others in one direction alone: people ask for teams, and items for both; so no circle comes about. */
  #may(scope: Names): string | null {
    const below = { people: ['teams'], teams: [], items: ['people', 'teams'] } as Record<string, string[]>;
    for (let attempt = 0; attempt < 12 && scope.collection !== null; attempt++) {
      const { text, type } = this.#path(scope);
      if (text.startsWith('me') || type.kind !== 'ref' || !below[scope.collection]!.includes(type.collection))
        continue;
      const field = this.#dice.pick(
        [...collectionOf(this.#schema, type.collection).fields.keys()].slice(1, -2),
      );
      return `me may ${this.#dice.pick(['read', 'delete', `update`])} ${text}`.replace(
        /update (.*)$/,
        `update $1 (${field})`,
      );
    }
    return null;
  }

  #atom(scope: Names): string {
    const { text, type } = this.#path(scope);
    const roll = this.#dice.between(1, 100);
    if (roll <= 15) return `${text} is ${this.#dice.pick(['missing', 'present'])}`;
    if (roll <= 25 && type.kind === 'boolean') return text;
    if (type.kind === 'ref') {
      const other = this.#reference(scope, type.collection);
      if (other !== null && type.collection === 'teams' && this.#dice.percent(50))
        return `${text} within ${other}`;
      return other === null ? `${text} is missing` : `${text} ${this.#dice.pick(['=', '!='])} ${other}`;
    }
    if (roll <= 40) {
      const list = Array.from({ length: this.#dice.between(1, 3) }, () => this.#literal(type));
      return `${text} ${this.#dice.pick(['in', 'not in'])} (${list.join(', ')})`;
    }
    const isText = type.kind === 'text' || type.kind === 'one of';
    if (isText && this.#dice.percent(40)) return this.#textTest(scope, text, type);
    const ordered = type.kind !== 'boolean' && type.kind !== 'uuid' && type.kind !== 'one of';
    const operator = this.#dice.pick(ordered ? ['=', '!=', '<', '<=', '>', '>='] : ['=', '!=']);
    const left = this.#moved(text, type);
    if (type.kind === 'timestamp' && this.#dice.percent(20)) return `now ${operator} ${left}`;
    if (type.kind === 'date' && this.#dice.percent(20)) return `today ${operator} ${left}`;
    const other = this.#dice.percent(40) ? this.#sameType(scope, type) : null;
    const right = other ?? this.#literal(type);
    return this.#dice.percent(50) ? `${left} ${operator} ${right}` : `${right} ${operator} ${left}`;
  }

  #textTest(scope: Names, text: string, type: Type): string {
    const roll = this.#dice.between(1, 100);
    if (roll <= 25) return `length(${text}) ${this.#dice.pick(['=', '<', '>'])} ${this.#dice.between(0, 3)}`;
    const changed = roll <= 50 ? `lower(${text})` : text;
    const other = this.#dice.percent(40) ? this.#sameType(scope, { kind: 'text' }) : null;
    const part = other ?? this.#literal(this.#dice.percent(50) ? { kind: 'text' } : type);
    return `${changed} ${this.#dice.pick(['contains', 'starts with', 'ends with'])} ${part}`;
  }

  /** Now and then a time is moved, also out of the years that there are. */
  #moved(text: string, type: Type): string {
    if (this.#dice.percent(60)) return text;
    const sign = this.#dice.pick(['+', '-']);
    const days = this.#dice.pick(['1 day', '30 days', '2 weeks', '900000 days', '1700000 days']);
    const times = this.#dice.pick(['48 hours', '1 minute', '999999 hours', days]);
    if (type.kind === 'timestamp') return `${text} ${sign} ${times}`;
    return type.kind === 'date' ? `${text} ${sign} ${days}` : text;
  }

  /** A path of one to four steps from the record, from a variable, from one side of an update, or from `me`. */
  #path(scope: Names): { text: string; type: Type } {
    const roots: Named[] = [...scope.named];
    if (scope.collection !== null)
      roots.push({ text: '', collection: scope.collection }, { text: 'this', collection: scope.collection });
    if (scope.me) roots.push({ text: 'me', collection: 'people' });
    const root = this.#dice.pick(roots);
    let here = root.collection;
    const steps = root.text === '' ? [] : [root.text];
    for (let depth = 1; ; depth++) {
      const field = this.#dice.pick([...collectionOf(this.#schema, here).fields.values()]);
      steps.push(field.name);
      if (field.type.kind !== 'ref' || depth === 4 || this.#dice.percent(40)) {
        return { text: steps.join('.'), type: field.type };
      }
      here = field.type.collection;
    }
  }

  #sameType(scope: Names, type: Type): string | null {
    const family = (kind: string) => (kind === 'decimal' ? 'integer' : kind);
    for (let attempt = 0; attempt < 12; attempt++) {
      const path = this.#path(scope);
      if (family(path.type.kind) === family(type.kind)) return path.text;
    }
    return null;
  }

  #reference(scope: Names, target: string): string | null {
    const records = scope.named.filter((each) => each.collection === target).map((each) => each.text);
    if (target === 'people' && scope.me) records.push('me');
    if (target === scope.collection) records.push('this');
    if (records.length > 0 && this.#dice.percent(60)) return this.#dice.pick(records);
    for (let attempt = 0; attempt < 12; attempt++) {
      const path = this.#path(scope);
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

/** What a condition can name. `me` may stand in rules, not in filters. */
interface Names {
  readonly collection: string | null;
  readonly me: boolean;
  readonly named: readonly Named[];
  /** How many `some` and `count` are around. */
  readonly ranges: number;
}

function randomLiteral(dice: Dice, type: Type): Exclude<Value, null> {
  if (type.kind === 'ref') return dice.pick(uuids);
  if (type.kind === 'one of') return dice.pick(type.values);
  // Beside an integer a fraction may stand, too.
  if (type.kind === 'integer' && dice.percent(30)) return dice.pick(['0.5', '-1.0', '42.000000001']);
  return dice.pick(pools[type.kind]);
}
