import { Dice } from '../../src/core/analysis/dice.ts';
import type { Schema } from '../../src/core/types/schema.ts';
import { collectionOf, systemFieldNames } from '../../src/core/types/schema.ts';
import { JsonDocument, type Scalar, type Type, type Value } from '../../src/core/types/types.ts';

/** Three collections that point at each other, themselves and people, with every type that there is. */
export const schemaText = `
people { team ref teams  level integer  nick text  joined date  away boolean  tags list of text  extra json }
collection teams { name text label  parent ref teams  lead ref people  budget decimal  opened timestamp  color one of ("red", "green", "Blue")  tree by parent }
collection items {
  code text label  team ref teams  owner ref people  twin ref items  size integer  price decimal  done boolean
  due date  seen timestamp  token uuid  state one of ("new", "old", "?")  note text  extra json
  tags list of text  sizes list of integer  prices list of decimal  days list of date  moments list of timestamp
  flags list of boolean  tokens list of uuid  states list of one of ("new", "old")
  owned by owner
}
`;

/** Roles that people are given by hand; a fourth is held by a condition. */
export const assigned = ['r1', 'r2', 'r3'] as const;

export const collections = ['people', 'teams', 'items'] as const;

const uuids = ['00000000-0000-4000-8000-000000000001', 'ffffffff-ffff-4fff-bfff-ffffffffffff'];

/** Values at the edges of each type, and some in the middle, so that equal ones meet. */
const pools: Readonly<Record<Exclude<Type['kind'], 'ref' | 'one of' | 'list' | 'json'>, readonly Scalar[]>> =
  {
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
      // A day before and after the clocks of EST5EDT change, in the hour that is left out or comes twice.
      '2026-03-07T07:30:00Z',
      '2026-10-31T05:30:00.25Z',
      '2026-11-02T06:30:00Z',
      '9999-12-31T23:59:59.999999Z',
    ],
    uuid: uuids,
  };

/** A random value of a type; missing three times in ten. References are chosen among `ids`. */
export function randomValue(dice: Dice, type: Type, ids: ReadonlyMap<string, readonly string[]>): Value {
  if (dice.percent(30)) return null;
  if (type.kind === 'ref') return dice.pick(ids.get(type.collection)!);
  if (type.kind === 'one of') return dice.pick(type.values);
  if (type.kind === 'json') return new JsonDocument(dice.pick([{}, [1, 'a'], 'text', 0, false]));
  if (type.kind === 'list')
    return Array.from({ length: dice.between(0, 3) }, () => randomLiteral(dice, type.of, false));
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
  /** What paths from `me` may name, besides fields: filled while the rulebook is written. */
  #attributes: [string, Type][] = [];

  constructor(dice: Dice, schema: Schema) {
    this.#dice = dice;
    this.#schema = schema;
  }

  /** Some lets, and some sentences for each collection, for all operations. */
  rulebook(): string {
    const attributes = this.#writeAttributes();
    const roles = this.#roles();
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
      if (this.#dice.percent(60)) sentences.push(this.#sharing(collection));
      return `rules ${collection} {\n  ${sentences.join('\n  ')}\n}`;
    });
    const zone = this.#dice.percent(50)
      ? [`time zone "${this.#dice.pick(['EST5EDT', 'PST8PDT', 'Etc/GMT-14'])}"`]
      : [];
    return [...zone, ...attributes, ...roles, ...lets, ...rules].join('\n');
  }

  /** Some attributes, each of which later ones may be worked out from. */
  #writeAttributes(): string[] {
    const written: string[] = [];
    const about = (collection: string) => ({
      collection: null,
      me: true,
      working: true,
      named: [{ text: 'v1', collection }],
      ranges: 1,
    });
    const every = (name: string, type: Type, text: string, collection: string, value: string) => {
      if (this.#dice.percent(50)) return;
      const where = this.#dice.percent(80) ? ` where ${this.#condition(about(collection), 1)}` : '';
      written.push(`attribute ${name} ${text} = every v1.${value} for v1 in ${collection}${where}`);
      this.#attributes.push([name, type]);
    };
    const list = (of: Type) => ({ kind: 'list', of }) as Type;
    every('mates', list({ kind: 'ref', collection: 'people' }), 'list of ref people', 'teams', 'lead');
    every('spots', list({ kind: 'ref', collection: 'teams' }), 'list of ref teams', 'items', 'owner.team');
    every('words', list({ kind: 'text' }), 'list of text', 'items', 'note');
    every('costs', list({ kind: 'decimal' }), 'list of decimal', 'items', 'price');
    if (this.#dice.percent(40)) {
      written.push(`attribute top integer = count(v1 in items where ${this.#condition(about('items'), 1)})`);
      this.#attributes.push(['top', { kind: 'integer' }]);
    }
    if (this.#dice.percent(40)) {
      written.push('attribute boss ref people = me.team.lead');
      this.#attributes.push(['boss', { kind: 'ref', collection: 'people' }]);
    }
    const fed = [...this.#attributes.map(([name]) => name), 'r4', ...collections];
    const accepts = fed.flatMap((name) =>
      collections.map((each) => `accept ${each} feeds ${name} because "a test"`),
    );
    return [...written, ...accepts];
  }

  #roles(): string[] {
    const limit = () => {
      if (this.#dice.percent(40)) return '';
      const pairs = ['read', 'update', 'items', 'teams (read)', 'people (update, delete)', 'items (read)'];
      const some = pairs.filter(() => this.#dice.percent(40));
      return some.length === 0 ? '' : ` ${this.#dice.pick(['only', 'without'])} ${some.join(', ')}`;
    };
    const including = (...roles: string[]) =>
      this.#dice.percent(50) ? ` includes ${this.#dice.pick(roles)}${limit()}` : '';
    const held = this.#condition({ collection: null, me: true, working: true, named: [], ranges: 1 }, 1);
    return [
      'role r3',
      `role r2${including('r3')}`,
      `role r1${including('r2', 'r3')}${including('r3')}`,
      `role r4${including('r1', 'r2')} when ${held}`,
    ];
  }

  #sentence(collection: string): string {
    const who = this.#dice.pick([
      'everybody',
      'people',
      'visitors',
      'r1',
      'r2',
      'r4',
      'r1, r3',
      'visitors, r2',
    ]);
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

  /** Who may share: often enough that shares give something, and sometimes only behind a fence. */
  #sharing(collection: string): string {
    const condition = () => this.#condition({ collection, me: true, named: [], ranges: 0 }, 2);
    const when = this.#dice.percent(50) ? ` when ${condition()}` : '';
    const fence = this.#dice.percent(25) ? `\n  nobody but r1 may share unless ${condition()}` : '';
    return `${this.#dice.pick(['people', 'people', 'r1', 'r2, r4'])} may share${when}${fence}`;
  }

  #fence(collection: string): string {
    const but = this.#dice.percent(50) ? ` but ${this.#dice.pick(['r1', 'r2, r3', 'r4'])}` : '';
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
    const may = roll > 78 && scope.working !== true ? this.#may(scope) : null;
    if (may !== null) return may;
    if (roll <= 15 && scope.working !== true)
      return `me has role ${this.#dice.pick(['r1', 'r2', 'r3', 'r4'])}`;
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
    if (roll <= 15 || type.kind === 'json') return `${text} is ${this.#dice.pick(['missing', 'present'])}`;
    if (type.kind === 'list') return this.#member(scope, text, type.of);
    if (roll <= 25 && type.kind === 'boolean') return text;
    if (type.kind === 'ref') {
      const list = this.#dice.percent(30) ? this.#listOf(scope, type) : null;
      if (list !== null && (type.collection !== 'teams' || this.#dice.percent(50)))
        return `${text} ${this.#dice.pick(['in', 'not in'])} ${list}`;
      if (list !== null) return `${text} within ${list}`;
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

  /** Is something in the list? */
  #member(scope: Names, list: string, of: Type): string {
    const reference = of.kind === 'ref' ? this.#reference(scope, of.collection) : null;
    if (of.kind === 'ref' && reference === null) return `${list} is present`;
    const path = this.#dice.percent(50) ? this.#sameType(scope, of) : null;
    const item = reference ?? path ?? this.#literal(of);
    if (this.#dice.percent(40)) return `${list} contains ${item}`;
    return `${item} ${this.#dice.pick(['in', 'not in'])} ${list}`;
  }

  /** A list that can hold values of the type. */
  #listOf(scope: Names, type: Type): string | null {
    for (let attempt = 0; attempt < 12; attempt++) {
      const path = this.#path(scope);
      if (path.type.kind !== 'list') continue;
      if (JSON.stringify(path.type.of) === JSON.stringify(type)) return path.text;
    }
    return null;
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
    if (root.text === 'me' && this.#attributes.length > 0 && this.#dice.percent(40)) {
      const [name, type] = this.#dice.pick(this.#attributes);
      steps.push(name);
      if (type.kind !== 'ref' || this.#dice.percent(50)) return { text: steps.join('.'), type };
      here = type.collection;
    }
    for (let depth = steps.length; ; depth++) {
      const field = this.#dice.pick([...collectionOf(this.#schema, here).fields.values()]);
      steps.push(field.name);
      if (field.type.kind !== 'ref' || depth >= 4 || this.#dice.percent(40)) {
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
  /** Is it a role or an attribute? */
  readonly working?: boolean;
  readonly named: readonly Named[];
  /** How many `some` and `count` are around. */
  readonly ranges: number;
}

function randomLiteral(dice: Dice, type: Type, fractions = true): Scalar {
  if (type.kind === 'list' || type.kind === 'json') throw new TypeError('there are no such literals');
  if (type.kind === 'ref') return dice.pick(uuids);
  if (type.kind === 'one of') return dice.pick(type.values);
  // Beside an integer a fraction may stand, too.
  if (type.kind === 'integer' && fractions && dice.percent(30))
    return dice.pick(['0.5', '-1.0', '42.000000001']);
  return dice.pick(pools[type.kind]);
}
