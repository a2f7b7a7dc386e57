import type { Dice } from '../../src/core/analysis/dice.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { sharingsOf, type Share } from '../../src/core/decide/shares.ts';
import type { Question } from '../../src/core/evaluate/decider.ts';
import { actionKey, type Rulebook } from '../../src/core/ir/rulebook.ts';
import { collectionOf, type Field, type Schema } from '../../src/core/types/schema.ts';
import type { Type, Value } from '../../src/core/types/types.ts';
import { randomValue } from './generator.ts';

/**
 * Small rulebooks for whole outcomes: creates with defaults and groups of stamps, updates with stamps, actions, deletions with
 * what follows, shares, `old` and `new`, conditional roles, field fences, people's own record, trees.
 */
export const outcomeCollections = ['people', 'zones', 'boxes', 'notes'] as const;
export type OutcomeCollection = (typeof outcomeCollections)[number];

export const outcomeSchema = `
people { zone ref zones on delete clear  grade integer  nick text  mentor ref people }
collection zones { name text label  parent ref zones on delete clear  main ref boxes  tree by parent }
collection boxes {
  code text label  owner ref people on delete clear  zone ref zones on delete remove  state one of ("new", "open", "shut") = "new"
  size integer = 1  locked boolean  signed ref people  due date  twin ref boxes on delete clear  pair ref boxes on delete clear
  owned by owner
}
collection notes { code text label  box ref boxes required on delete remove  about ref boxes on delete clear  after ref notes on delete remove  copy ref notes  writer ref people  kind one of ("a", "b") = "a"  marked boolean = false  seen timestamp = now  owned by writer }
action seal on boxes (size integer, zone ref zones) sets state = "shut", size = size, zone = zone
action claim_it on boxes sets owner = me, locked = missing
action mark on notes (kind one of ("a", "b") required) sets kind = kind, marked = true
action promote on people (grade integer required) sets grade = grade
`;

/** Roles given by hand; `w3` is held by a condition. */
export const outcomeRoles = ['w1', 'w2'] as const;

/** Everything may feed everything: who could raise whom is not what is compared here. */
const accepts = ['people', 'zones', 'boxes', 'notes'].flatMap((name) =>
  ['people', 'zones', 'boxes', 'notes', 'w3', 'mine'].map(
    (fed) => `accept ${name} feeds ${fed} because "a test"`,
  ),
);

const conditions: Readonly<Record<OutcomeCollection, readonly string[]>> = {
  people: [
    'this = me',
    'grade > 1',
    'zone within me.zone',
    'mentor = me',
    'nick is present',
    'me.grade >= 2',
  ],
  zones: [
    'parent is present',
    'this within me.zone',
    'name = "a"',
    'parent.name != "b"',
    'main.owner = me',
    'count(p in people where p.zone = this) < 2',
  ],
  boxes: [
    'owner = me',
    'state = "open"',
    'state != "shut"',
    'zone within me.zone',
    'signed is missing',
    'signed = me',
    'size > 1',
    'size < me.grade',
    'locked',
    'not locked',
    'owner.mentor = me',
    'this in me.mine',
    'twin.state = "open"',
    'some n in notes has (n.box = this and n.writer = me)',
    'no n in notes has (n.box = this and n.marked)',
    'due is missing or due < today',
    'me has role w2',
    'me may update owner (grade)',
    'some b in boxes has (b.owner = owner and b.locked)',
    'count(b in boxes where b.state = state) < 4',
    'lower(code) contains "a"',
    'due >= today - 30 days',
    'twin is present or pair is present',
    'pair.twin is present',
    'zone.main = this',
    'some n in notes has (n.box = this)',
    'count(b in boxes where b.twin = this) < 2',
  ],
  notes: [
    'writer = me',
    'box.owner = me',
    'me may read box',
    'kind = "a"',
    'marked',
    'not marked',
    'about is present',
    'about is present or box.twin is present',
    'after.kind = "a"',
    'me may update box (state)',
    'me may delete box',
    'not (me may read box)',
    'not (me may delete box)',
  ],
};

/** What only a change can be asked. */
const transitions: Readonly<Record<OutcomeCollection, readonly string[]>> = {
  people: ['old.grade = new.grade', 'new.grade < 2', 'old.nick is missing'],
  zones: ['old.name = new.name', 'new.parent is present'],
  boxes: [
    'old.state = "new" and new.state = "open"',
    'old.size < new.size',
    'new.owner = old.owner',
    'old.signed is missing',
    'new.signed = me',
    'new.zone within me.zone',
    'new.twin.state = "open"',
    'old.twin.size < new.size',
    'new.twin is present or new.pair is present',
    'old.pair.twin is present or old.zone within me.zone',
    'new.state in ("open", "shut")',
    'old.locked is missing or new.locked',
    'not (me may read this)',
    'me may read this',
  ],
  notes: [
    'old.kind = "a"',
    'new.kind != old.kind',
    'new.about = old.about',
    'no n in notes has (n.after = new.after and n.marked)',
  ],
};

const fields: Readonly<Record<OutcomeCollection, readonly string[]>> = {
  people: ['zone', 'grade', 'nick', 'mentor'],
  zones: ['name', 'parent', 'main'],
  boxes: ['code', 'owner', 'zone', 'state', 'size', 'locked', 'signed', 'due', 'twin', 'pair'],
  notes: ['code', 'box', 'about', 'after', 'copy', 'writer', 'kind', 'marked'],
};

const stamps: Readonly<Record<OutcomeCollection, readonly string[]>> = {
  people: ['mentor = me'],
  zones: [],
  boxes: [
    'owner = me',
    'owner = me.mentor.mentor',
    'signed = me',
    'state = "open"',
    'state = "new"',
    'size = 2',
    'size = 1',
    'owner = me, signed = me',
  ],
  notes: ['writer = me', 'marked = true'],
};

const actions: Readonly<Record<OutcomeCollection, readonly string[]>> = {
  people: ['promote'],
  zones: [],
  boxes: ['seal', 'claim_it'],
  notes: ['mark'],
};

/** Writes the sentences. */
export function outcomeRulebook(dice: Dice): string {
  const list = (collection: OutcomeCollection) => {
    // A note needs its box, or nothing could fill it.
    const some = fields[collection].filter((name) => name === 'box' || dice.percent(55));
    if (some.length === 0 || dice.percent(35)) return '(all)';
    if (collection === 'notes') return `(${some.join(', ')})`;
    return dice.percent(70) ? `(${some.join(', ')})` : `(all but ${some.join(', ')})`;
  };
  const when = (collection: OutcomeCollection, change: boolean) => {
    const pool = change && dice.percent(50) ? transitions[collection] : conditions[collection];
    const one = dice.pick(pool);
    if (dice.percent(60)) return one;
    const other = dice.pick(
      change ? [...conditions[collection], ...transitions[collection]] : conditions[collection],
    );
    return dice.percent(50) ? `${one} and ${other}` : `${one} or ${other}`;
  };
  const who = () => dice.pick(['people', 'people', 'everybody', 'w1', 'w2', 'w3', 'w1, w2']);
  const condition = (collection: OutcomeCollection, change: boolean) =>
    dice.percent(75) ? ` when ${when(collection, change)}` : '';
  const stamp = (collection: OutcomeCollection, chance: number) =>
    stamps[collection].length > 0 && dice.percent(chance) ? ` stamp ${dice.pick(stamps[collection])}` : '';
  const blocks = outcomeCollections.map((collection) => {
    const sentences = [`${who()} may read ${list(collection)}${condition(collection, false)}`];
    if (dice.percent(50)) sentences.push(`${who()} may read (all)${condition(collection, false)}`);
    if (collection !== 'people')
      for (let count = dice.between(1, 2); count > 0; count--)
        sentences.push(
          `${who()} may create ${list(collection)}${condition(collection, false)}${stamp(collection, 50)}`,
        );
    for (let count = dice.between(1, 3); count > 0; count--)
      sentences.push(
        `${who()} may update ${list(collection)}${condition(collection, true)}${stamp(collection, 35)}`,
      );
    if (dice.percent(70)) sentences.push(`${who()} may delete${condition(collection, false)}`);
    // What others share with somebody may take something away, too.
    const asking = { boxes: 'state', notes: 'kind' }[collection as string];
    if (asking !== undefined && dice.percent(35))
      sentences.push(`${who()} may delete when ${dice.pick(['', 'not '])}(me may update this (${asking}))`);
    // Two that stamp, of which the one makes the other false.
    if (collection === 'boxes' && dice.percent(40))
      sentences.push(
        'people may update (size, due) when signed is missing stamp state = "open"',
        'people may update (size, due, locked) stamp signed = me',
      );
    // Two that would make different records of the same request.
    if (collection === 'notes' && dice.percent(30))
      sentences.push(
        'people may create (code, box) stamp marked = true',
        'people may create (code, box) stamp writer = me',
      );
    // A sentence about more than update stamps only what is made.
    if (collection !== 'people' && dice.percent(35))
      sentences.push(
        `${who()} may create ${list(collection)}, update ${list(collection)}, delete${condition(collection, false)}${stamp(collection, 50)}`,
      );
    for (const action of actions[collection])
      if (dice.percent(70))
        sentences.push(`${who()} may ${action}${condition(collection, true)}${stamp(collection, 30)}`);
    if (dice.percent(60))
      sentences.push(`${dice.pick(['people', 'w1', 'w2'])} may share${condition(collection, false)}`);
    for (let count = dice.between(0, 2); count > 0; count--) sentences.push(fence(collection));
    return `rules ${collection} {\n  ${sentences.filter(isSound).join('\n  ')}\n}`;
  });
  return [
    `attribute mine list of ref boxes = every b for b in boxes where b.owner = me`,
    `role w3 includes w1 when me.grade > 1`,
    `role w1`,
    `role w2${dice.percent(50) ? ' includes w1' : ''}${dice.percent(30) ? ' without boxes (update)' : ''}`.replace(
      /^role w2 without.*$/,
      'role w2',
    ),
    ...accepts,
    ...blocks,
  ].join('\n');

  function fence(collection: OutcomeCollection): string {
    const but = dice.percent(50) ? ` but ${dice.pick(['w1', 'w2', 'w3'])}` : '';
    const unless = dice.percent(80) ? ` unless ${dice.pick(conditions[collection])}` : '';
    const some = fields[collection].filter(() => dice.percent(25));
    const about = some.length > 0 && dice.percent(50) ? ` (${some.join(', ')})` : '';
    const operations = dice.pick(
      about === ''
        ? ['update', 'delete', 'update, delete', 'read', 'create', 'share']
        : ['update', 'read', 'create', 'read, update'],
    );
    const each = operations
      .split(', ')
      .map((one) => `${one}${about}`)
      .join(', ');
    return `nobody${but} may ${each}${unless}`;
  }

  /** A field that is stamped is not named as one that is supplied. */
  function isSound(sentence: string): boolean {
    const stamped = [...(/ stamp (.*)$/.exec(sentence)?.[1]?.matchAll(/(\w+) =/g) ?? [])].map(
      ([, field]) => field!,
    );
    const lists = [...sentence.matchAll(/may create \(([^)]*)\)|update \(([^)]*)\)/g)].map(
      (found) => found[1] ?? found[2]!,
    );
    return !lists.some(
      (list) => !list.startsWith('all') && list.split(', ').some((field) => stamped.includes(field)),
    );
  }
}

/** Records by collection and id. */
export type Records = ReadonlyMap<string, ReadonlyMap<string, RecordValues>>;

/** Some records of each collection, in no circle; the moment is that of their making. */
export function outcomeRecords(dice: Dice, schema: Schema, now: string): Records {
  const ids = new Map(
    outcomeCollections.map((name) => [
      name as string,
      Array.from({ length: name === 'zones' ? 4 : 7 }, (_, index) => dice.uuid(index + 1)),
    ]),
  );
  return new Map(
    outcomeCollections.map((name) => {
      const { fields, tree } = collectionOf(schema, name);
      const all = ids.get(name)!;
      const records = all.map((id, index): [string, RecordValues] => {
        const valueFor = ({ name: field, system, unique, type, required }: Field): Value => {
          if (field === 'id') return id;
          if (system) return now;
          if (unique) return `${name}-${index}@hollowoak.example`;
          if (field === tree) return index === 0 ? null : dice.pick(all.slice(0, index));
          return someValue(dice, type, ids, required);
        };
        return [id, Object.fromEntries([...fields.values()].map((field) => [field.name, valueFor(field)]))];
      });
      return [name, new Map(records)];
    }),
  );
}

/** Small numbers and texts, so that conditions come out both ways. */
function someValue(
  dice: Dice,
  type: Type,
  ids: ReadonlyMap<string, readonly string[]>,
  required: boolean,
): Value {
  for (;;) {
    const found =
      type.kind === 'integer'
        ? dice.percent(20)
          ? null
          : dice.between(0, 4)
        : type.kind === 'text'
          ? dice.pick(['a', 'b', null])
          : randomValue(dice, type, ids);
    if (found !== null || !required) return found;
  }
}

/** The people and a visitor, most of them with what others share with them. */
export function withShares(
  dice: Dice,
  rulebook: Rulebook,
  people: readonly Caller[],
  records: Records,
): Caller[] {
  const all = [{ person: null, roles: new Set<string>() }, ...people];
  return all.map((caller) => {
    if (dice.percent(40)) return caller;
    const sharers = new Map(people.filter((each) => each !== caller).map((each) => [each.person!.id, each]));
    const shares = [...sharers.keys()].flatMap((sharer) =>
      outcomeCollections.flatMap((collection) =>
        [...records.get(collection)!.keys()]
          .filter(() => dice.percent(40))
          .map((record): Share => ({
            collection,
            record,
            operations: ['read', ...(['update', 'delete'] as const).filter(() => dice.percent(60))],
            sharer,
          })),
      ),
    );
    const shared = sharingsOf(rulebook, shares, sharers);
    return shared.length === 0 ? caller : { ...caller, shared };
  });
}

/** Anything that could be asked for; of records mostly those that `caller` can read, since the others are all alike. */
/** Some request that would change a field, with others or without, or carry out an action. */
export function randomRequest(
  dice: Dice,
  rulebook: Rulebook,
  records: Records,
  { operation, collection, record }: Omit<Question, 'values'>,
  field: string | null,
): Question {
  const ids = new Map([...records].map(([name, all]) => [name, [...all.keys()]]));
  const { fields } = collectionOf(rulebook.schema, collection);
  const action = rulebook.actions.get(actionKey(collection, operation));
  const chosen: (readonly [string, { readonly type: Type; readonly required: boolean }])[] =
    action === undefined
      ? [...fields].filter(
          ([name, { system, unique }]) => name === field || (!system && !unique && dice.percent(20)),
        )
      : [...action.parameters].filter(([, { required }]) => required || dice.percent(70));
  const values = new Map(
    chosen.map(([name, { type, required }]) => {
      const asItIs = field !== null && dice.percent(25);
      return [name, asItIs ? (record![name] ?? null) : someValue(dice, type, ids, required)];
    }),
  );
  return { operation, collection, record, values };
}

export function randomQuestion(
  dice: Dice,
  rulebook: Rulebook,
  records: Records,
  caller: { isReadable(collection: string, record: RecordValues): boolean },
): Question {
  const ids = new Map([...records].map(([name, all]) => [name, [...all.keys()]]));
  const collection = dice.pick(outcomeCollections);
  const all = [...records.get(collection)!.values()];
  let record = dice.pick(all);
  for (let tries = 0; tries < 3 && !caller.isReadable(collection, record); tries++) record = dice.pick(all);
  const { fields } = collectionOf(rulebook.schema, collection);
  const suppliable = [...fields.values()].filter(({ system, unique }) => !system && !unique);
  const actions = [...rulebook.actions.values()].filter((action) => action.collection === collection);
  const operation = dice.pick([
    'update',
    'update',
    'update',
    'create',
    'create',
    'delete',
    'delete',
    'share',
    'read',
    ...actions.map(({ name }) => name),
  ]);
  const valueFor = (type: Type, required: boolean, now: Value): Value => {
    if (dice.percent(5)) return null;
    if (dice.percent(25) && (now !== null || !required)) return now;
    // Oneself, often: that is where rules make a difference.
    return someValue(dice, type, ids, required);
  };
  const action = rulebook.actions.get(actionKey(collection, operation));
  if (action !== undefined) {
    const parameters = [...action.parameters].filter(([, { required }]) => required || dice.percent(70));
    return {
      operation,
      collection,
      record,
      values: new Map(parameters.map(([name, { type, required }]) => [name, valueFor(type, required, null)])),
    };
  }
  if (operation === 'update' || operation === 'create') {
    const making = operation === 'create';
    const some = suppliable
      .filter(({ required }) => (making && required) || dice.percent(making ? 35 : 30))
      .slice(0, making ? 9 : 3);
    return {
      operation,
      collection,
      record: making ? null : record,
      values: new Map(
        some.map(({ name, type, required }) => [name, valueFor(type, required, record[name] ?? null)]),
      ),
    };
  }
  return { operation, collection, record, values: new Map() };
}
