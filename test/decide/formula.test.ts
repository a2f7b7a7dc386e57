import { expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { callerName, rolesFor, rolesHeld, speaksOf, type Caller } from '../../src/core/decide/caller.ts';
import {
  couldHold,
  holds,
  interpret,
  leavesOf,
  type Node,
  type NodeTable,
} from '../../src/core/decide/nodes.ts';
import { permission, permissionOf, raises, sidesOf } from '../../src/core/decide/permission.ts';

const text = `
people { grade integer  nick text self set  team ref teams }
collection teams { name text label  grade integer }
collection hives { code text label  keeper ref people  status text  team ref teams }
action move on hives (team ref teams, note text) sets team = team, status = "moved"
action promote on people (grade integer) sets grade = grade
action rename on people (nick text) sets nick = nick
role keeper
role steward
role lead
accept people feeds people because "a test"
accept people feeds teams because "a test"
rules hives {
  visitors may read (code)
  keeper may read (all), update (code, team), delete when keeper = me
  steward may create (all)
  people may share when keeper = me
  keeper may move
  nobody but steward may update (team), delete unless status != "gone"
  nobody may read (status)
  nobody may update unless code is present
}
rules people {
  everybody may read (all)
  people may update (nick, grade, team) when this = me
  lead may promote
  lead may rename
}
rules teams { people may read (all) when me.grade > 2 and me.nick is present }
`;
const checked = checkRulebook([{ name: 'formula.gate', text }]);
if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
const { rulebook } = checked;

/** A formula in words: what is asked of the caller, of the record, and of which side. */
function told(node: Node): string {
  const inner =
    (word: string, none: string) =>
    ({ parts }: { parts: readonly Node[] }) =>
      parts.length === 0 ? none : `(${parts.map(told).join(` ${word} `)})`;
  const table: NodeTable<string> = {
    all: inner('and', 'always'),
    any: inner('or', 'never'),
    'true of': ({ sentence, sides }) => `${sentence.id.split('/')[1]} ${sides}`,
    speaks: ({ audience: { people, visitors, roles } }) =>
      `is ${[...(people ? ['a person'] : []), ...(visitors ? ['a visitor'] : []), ...roles].join('|')}`,
    exempts: ({ roles, pair }) => `holds ${[...roles].join('|')} to ${pair.operation}`,
    permitted: ({ pair, side, by }) => `may ${pair.operation} ${pair.collection} ${side} as ${by}`,
    'reference readable': ({ field }) => `sees what ${field} points at`,
    'not own record': () => 'not themself',
    shared: ({ operation }) => `is shared to ${operation}`,
  };
  return interpret(node, table);
}

const ada: Caller = { person: { id: 'ada', values: { id: 'ada' } }, roles: new Set(['keeper']) };
const stella: Caller = {
  person: { id: 'stella', values: { id: 'stella' } },
  roles: new Set(['steward', 'keeper']),
};
const nona: Caller = { person: { id: 'nona', values: { id: 'nona' } }, roles: new Set() };
const visitor: Caller = { person: null, roles: new Set() };
const anybody = null;
const update = 'may read hives before as caller';

test.each<[string, Caller | null, string, string, Record<string, string>]>([
  [
    'reading: a rule or a share; the id with any of them, a field by those that cover it and past its fences',
    anybody,
    'read',
    'hives',
    {
      record: '((is a visitor and 1 before) or (is keeper and 2 before) or is shared to read)',
      id: '((is a visitor and 1 before) or (is keeper and 2 before) or is shared to read)',
      code: '((is a visitor and 1 before) or (is keeper and 2 before) or is shared to read)',
      status: '(((is keeper and 2 before) or is shared to read) and fence-2 before)',
    },
  ],
  ['a known caller’s rules alone', ada, 'read', 'hives', { record: '2 before', code: '2 before' }],
  [
    'none of them',
    nona,
    'read',
    'hives',
    { record: 'never', id: 'never', status: '(never and fence-2 before)' },
  ],
  ['a visitor’s', visitor, 'read', 'hives', { record: '1 before', code: '1 before' }],
  [
    'creating: what it becomes, and that references can be read',
    anybody,
    'create',
    'hives',
    {
      record: '(is steward and 3 after)',
      code: '(is steward and 3 after)',
      team: '((is steward and 3 after) and sees what team points at)',
    },
  ],
  [
    'updating: readable, and both sides',
    anybody,
    'update',
    'hives',
    {
      record: `(${update} and ((is keeper and 2 both) or is shared to update) and fence-3 both)`,
      code: '((is keeper and 2 both) or is shared to update)',
      team: '(((is keeper and 2 both) or is shared to update) and (holds steward to update or fence-1 both) and sees what team points at)',
      status: 'is shared to update',
    },
  ],
  [
    'somebody whom a fence lets by',
    stella,
    'update',
    'hives',
    {
      record: `(${update} and 2 both and fence-3 both)`,
      team: '(2 both and sees what team points at)',
      status: 'never',
    },
  ],
  [
    'and somebody whom it does not',
    ada,
    'update',
    'hives',
    { team: '(2 both and fence-1 both and sees what team points at)' },
  ],
  ['deleting: as it is', ada, 'delete', 'hives', { record: `(${update} and 2 before and fence-1 before)` }],
  ['deleting, exempt', stella, 'delete', 'hives', { record: `(${update} and 2 before)` }],
  [
    'sharing: what is readable by themself',
    anybody,
    'share',
    'hives',
    { record: '(may read hives before as themself and (is a person and 4 before))' },
  ],
  [
    'sharing, by somebody known',
    ada,
    'share',
    'hives',
    { record: '(may read hives before as themself and 4 before)' },
  ],
  [
    'an action: its own rules, and every fence on updating what it sets',
    anybody,
    'move',
    'hives',
    {
      record: `(${update} and sees what team points at and (is keeper and 5 both) and ((holds steward to update or fence-1 both) and fence-3 both))`,
    },
  ],
  [
    'what rules read through “me”, but for what anybody may set of themself',
    anybody,
    'update',
    'people',
    {
      record: '(may read people before as caller and ((is a person and 2 both) or is shared to update))',
      grade: '(not themself and ((is a person and 2 both) or is shared to update))',
      nick: '((is a person and 2 both) or is shared to update)',
      team: '(((is a person and 2 both) or is shared to update) and sees what team points at)',
    },
  ],
  [
    'an action that sets such',
    anybody,
    'promote',
    'people',
    { record: '(may read people before as caller and not themself and (is lead and 3 both))' },
  ],
  [
    'an action that sets none',
    anybody,
    'rename',
    'people',
    { record: '(may read people before as caller and (is lead and 4 both))' },
  ],
])('%s', (_, who, operation, collection, expected) => {
  const { record, field } =
    who === null
      ? permission(rulebook, operation, collection)
      : permissionOf(rulebook, who, operation, collection);
  const fields = Object.keys(expected).filter((name) => name !== 'record');
  expect({
    ...('record' in expected ? { record: told(record) } : {}),
    ...Object.fromEntries(fields.map((name) => [name, told(field(name).whole)])),
  }).toEqual(expected);
});

test('what is shared with somebody is theirs alone, and none of it is theirs to share', () => {
  const shared = [{ collection: 'hives', operation: 'read', sharer: ada, records: ['h'] }] as const;
  const guest: Caller = { ...nona, shared };
  expect(told(permissionOf(rulebook, guest, 'read', 'hives').record)).toBe(
    '(shared by ada, 1 before or shared by ada, 2 before)',
  );
  expect(told(permissionOf(rulebook, nona, 'read', 'hives').record), 'of the same roles').toBe('never');
  expect(told(permissionOf(rulebook, guest, 'share', 'hives').record)).toBe('(never and 4 before)');
  expect(told(permissionOf(rulebook, guest, 'update', 'hives').record)).toContain('never');
});

test('a formula is made once for all who hold the same roles, and shares what is the same', () => {
  const also: Caller = { person: { id: 'ben', values: { id: 'ben' } }, roles: new Set(['keeper']) };
  const own = permissionOf(rulebook, ada, 'read', 'hives');
  expect(permissionOf(rulebook, also, 'read', 'hives')).toBe(own);
  expect(permissionOf(rulebook, visitor, 'read', 'hives')).not.toBe(
    permissionOf(rulebook, nona, 'read', 'hives'),
  );
  expect(own.field('code')).toBe(own.field('code'));
  expect(own.field('code').granted).toBe(own.granted);
});

test('only on people, only what rules read through “me”, and not what is “self set”, raises', () => {
  expect(
    [
      ['people', 'grade'],
      ['people', 'nick'],
      ['people', 'team'],
      ['teams', 'grade'],
    ].map(([collection, field]) => raises(rulebook, collection!, field!)),
  ).toEqual([true, false, false, false]);
  expect(['read', 'create', 'update', 'delete', 'share', 'move'].map(sidesOf)).toEqual([
    'before',
    'after',
    'both',
    'before',
    'before',
    'both',
  ]);
});

test('what nobody asks holds, and what is not settled does not', () => {
  const { record } = permission(rulebook, 'update', 'people');
  const asked = (isOwnRecord: boolean, referenceReadable: boolean, permitted: boolean) => (node: Node) =>
    holds(node, {
      trueOf: () => true,
      permitted: () => permitted,
      referenceReadable: () => referenceReadable,
      isOwnRecord: () => isOwnRecord,
    });
  const own = permissionOf(rulebook, ada, 'update', 'people');
  expect(asked(false, true, true)(record), 'nobody in particular').toBe(false);
  expect([asked(false, true, true)(own.record), asked(false, true, false)(own.record)]).toEqual([
    true,
    false,
  ]);
  expect([true, false].map((each) => asked(each, true, true)(own.field('grade').whole))).toEqual([
    false,
    true,
  ]);
  expect([true, false].map((each) => asked(false, each, true)(own.field('team').whole))).toEqual([
    true,
    false,
  ]);
  const shut = permissionOf(rulebook, ada, 'read', 'hives').field('status').whole;
  expect([
    couldHold(shut),
    couldHold(own.record),
    couldHold(permissionOf(rulebook, nona, 'read', 'hives').record),
  ]).toEqual([false, true, false]);
  const leaves = leavesOf([own.record, own.field('grade').whole, own.record]);
  expect(
    leaves.map(({ sentence }) => sentence.id),
    'each once',
  ).toEqual(['people/2']);
});

test('a role counts for what it is brought along for, and is held where it is brought along whole', () => {
  const found = checkRulebook([
    {
      name: 'roles.gate',
      text: `collection hives { code text label }
        role clerk
        role chief includes clerk
        role auditor includes clerk only read
        role deputy includes chief without hives (delete)`,
    },
  ]);
  if (!found.ok) throw new Error(JSON.stringify(found.diagnostics));
  const { rulebook: roles } = found;
  const holder = (...names: string[]): Caller => ({ person: nona.person, roles: new Set(names) });
  const counts = (operation: string, ...names: string[]) =>
    [...rolesFor(roles, holder(...names), operation, 'hives')].toSorted().join(' ');
  expect([counts('read', 'auditor'), counts('update', 'auditor')]).toEqual(['auditor clerk', 'auditor']);
  expect([counts('read', 'deputy'), counts('delete', 'deputy')]).toEqual(['chief clerk deputy', 'deputy']);
  expect([counts('read', 'chief'), counts('read', 'nothing', 'clerk')]).toEqual(['chief clerk', 'clerk']);
  const held = (...names: string[]) => rolesHeld(roles, holder(...names)).join(' ');
  expect([held('auditor'), held('deputy'), held('chief'), held('nothing')]).toEqual([
    'auditor',
    'deputy',
    'chief clerk',
    '',
  ]);
});

test('a rule for everybody speaks of everybody; one for visitors of nobody who is signed in', () => {
  const audience = (more: object) => ({
    everybody: false,
    people: false,
    visitors: false,
    roles: new Set<string>(),
    ...more,
  });
  const spoken = (more: object) =>
    [visitor, nona, ada].map((who) => speaksOf(audience(more), who, who.roles));
  expect(spoken({ everybody: true })).toEqual([true, true, true]);
  expect(spoken({ visitors: true })).toEqual([true, false, false]);
  expect(spoken({ people: true })).toEqual([false, true, true]);
  expect(spoken({ roles: new Set(['keeper']) })).toEqual([false, false, true]);
});

test('people are named by a verified address, or by id', () => {
  const named = (email: string | null) => callerName({ person: { id: 'ada', values: { id: 'ada', email } } });
  expect([named('ada@hollowoak.example'), named(null), callerName(visitor)]).toEqual([
    'ada@hollowoak.example',
    'ada',
    'the visitor',
  ]);
});
