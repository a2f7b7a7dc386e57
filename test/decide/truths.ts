import type { RecordValues } from '../../src/core/decide/caller.ts';
import { NOW } from './in-hand.ts';

/** How each condition of the language comes out, written down by hand: what both engines could get wrong alike. */
export const schema = `
people { age integer  yard ref yards  boss ref people }
collection yards { name text label  up ref yards  tree by up }
collection hives {
  code text label  note text  size integer  weight decimal  sold boolean  kind one of ("log", "box")
  due date  seen timestamp  tags list of text  weights list of decimal  sizes list of integer  keeper ref people
  yard ref yards  more json
}
collection visits { code text label  hive ref hives  open boolean  who ref people  weight decimal  n integer }
role keeper
role lead
attribute led list of ref yards = every y for y in yards where y.name = "east"
`;
export const person = (id: string, more: RecordValues = {}): RecordValues & { id: string } => ({
  id,
  name: null,
  email: null,
  age: null,
  yard: null,
  boss: null,
  created_at: NOW,
  updated_at: NOW,
  ...more,
});
const yard = (id: string, up: string | null) => ({ id, name: id, up, created_at: NOW, updated_at: NOW });
const visit = (
  id: string,
  hive: string | null,
  open: boolean | null,
  who: string | null = null,
  weight: string | null = null,
  n: number | null = null,
) => ({
  id,
  code: id,
  hive,
  open,
  who,
  weight,
  n,
  created_at: NOW,
  updated_at: NOW,
});
export const records: Record<string, readonly RecordValues[]> = {
  people: [person('ada', { age: 30, yard: 'east', boss: 'ben', led: ['shed', 'east'] }), person('ben')],
  yards: [yard('top', null), yard('east', 'top'), yard('shed', 'east'), yard('a', 'b'), yard('b', 'a')],
  hives: ['h', 'h2', 'h3', 'h4', 'h5'].map((id) => ({ id, created_at: NOW, updated_at: NOW })),
  visits: [
    visit('v1', 'h', true, 'ada', null, 0),
    visit('v2', 'h', false),
    visit('v3', 'h2', null),
    visit('v4', 'h3', false, null, '1.00'),
    visit('v5', 'h4', true),
    visit('v6', 'h4', null),
    visit('v7', 'h5', false, 'ben'),
    visit('v8', 'h5', false, 'ada'),
  ],
};

/** A condition, what the record in hand says beside being “h”, and how it comes out for ada; null: unknown. */
export type Stated = readonly [text: string, values: RecordValues, truth: boolean | null];

const no = { note: null };

/** What a filter may ask. */
export const filterTruths: readonly Stated[] = [
  ['note = "x"', { note: 'x' }, true],
  ['note = "x"', { note: 'X' }, false],
  ['note = "x"', no, null],
  ['note != "x"', { note: 'y' }, true],
  ['note != "x"', no, null],
  ['size < 3', { size: 2 }, true],
  ['size < 3', { size: 3 }, false],
  ['size < 3', { size: null }, null],
  ['size <= 3', { size: 3 }, true],
  ['size <= 3', { size: 4 }, false],
  ['size > 3', { size: 4 }, true],
  ['size > 3', { size: 3 }, false],
  ['size >= 3', { size: 3 }, true],
  ['size >= 3', { size: 2 }, false],
  ['size < 10', { size: 9 }, true],
  ['weight = 1.5', { weight: '1.50' }, true],
  ['weight = 1.5', { weight: '1.51' }, false],
  ['weight != size', { weight: '2.1', size: 2 }, true],
  ['weight < 10', { weight: '9.5' }, true],
  ['weight = size', { weight: '2.0', size: 2 }, true],
  ['size = weight', { weight: '2.0', size: 2 }, true],
  ['size < weight', { weight: '2.5', size: 2 }, true],
  ['weight in (1, 2.50)', { weight: '2.5' }, true],
  ['size in (1, 2.5)', { size: 1 }, true],
  ['note < "b"', { note: 'a' }, true],
  ['note < "b"', { note: 'B' }, true],
  ['note contains "bc"', { note: 'abcd' }, true],
  ['note contains "bc"', { note: 'abd' }, false],
  ['note contains "bc"', no, null],
  ['"abcd" contains note', no, null],
  ['note starts with "ab"', { note: 'abc' }, true],
  ['note starts with "ab"', { note: 'cab' }, false],
  ['note ends with "ab"', { note: 'cab' }, true],
  ['note ends with "ab"', { note: 'abc' }, false],
  ['lower(note) = "äbc"', { note: 'äBC' }, true],
  ['lower(note) = "Äbc"', { note: 'ÄBC' }, true],
  ['length(note) = 2', { note: '🐝x' }, true],
  ['length(note) = 2', no, null],
  ['kind in ("log", "box")', { kind: 'box' }, true],
  ['kind in ("log")', { kind: 'box' }, false],
  ['kind in ("log")', { kind: null }, null],
  ['note is missing', no, true],
  ['note is missing', { note: '' }, false],
  ['note is present', { note: '' }, true],
  ['more is present', { more: null }, false],
  ['sold', { sold: true }, true],
  ['sold', { sold: false }, false],
  ['sold', { sold: null }, null],
  ['not sold', { sold: true }, false],
  ['not sold', { sold: false }, true],
  ['not sold', { sold: null }, null],
  ['sold and size = 1', { sold: null, size: 2 }, false],
  ['sold and size = 1', { sold: null, size: 1 }, null],
  ['size = 1 and sold', { sold: null, size: 2 }, false],
  ['sold or size = 1', { sold: null, size: 1 }, true],
  ['sold or size = 1', { sold: null, size: 2 }, null],
  ['sold or size = 1', { sold: false, size: 2 }, false],
  ['note in tags', { note: 'a', tags: ['b', 'a'] }, true],
  ['note in tags', { note: 'a', tags: [] }, false],
  ['note in tags', { note: 'a', tags: null }, null],
  ['note in tags', { note: null, tags: [] }, null],
  ['"b" in tags', { tags: ['b'] }, true],
  ['weight in weights', { weight: '1.0', weights: ['1'] }, true],
  ['size in sizes', { size: 10, sizes: [9, 10] }, true],
  ['size in weights', { size: 1, weights: ['1.0'] }, true],
  ['weight in sizes', { weight: '1.0', sizes: [1] }, true],
  ['weight in sizes', { weight: '1.0000000000000000001', sizes: [1] }, false],
  ['keeper.age > 20', { keeper: 'ada' }, true],
  ['keeper.age > 20', { keeper: 'ben' }, null],
  ['keeper.boss.age is missing', { keeper: 'ada' }, true],
  ['yard within keeper.yard', { yard: 'east', keeper: 'ben' }, null],
  ['seen < now', { seen: '2026-05-01T11:59:59.999999Z' }, true],
  ['seen < now', { seen: NOW }, false],
  ['seen <= now', { seen: NOW }, true],
  ['seen < "2026-05-01T12:00:00.5Z"', { seen: NOW }, true],
  ['seen + 1 hours > now', { seen: '2026-05-01T11:00:00Z' }, false],
  ['seen + 61 minutes > now', { seen: '2026-05-01T11:00:00Z' }, true],
  ['seen + 1 days > now', { seen: '9999-12-31T12:00:00Z' }, null],
  ['due = today', { due: '2026-05-01' }, true],
  ['due < today', { due: '2026-04-30' }, true],
  ['due + 2 days = "2026-03-01"', { due: '2026-02-27' }, true],
  ['due + 1 days > today', { due: '9999-12-31' }, null],
];

/** What only a rule may ask, where a yard is readable unless it is called “top”. */
export const ruleTruths: readonly Stated[] = [
  ['some v in visits has (v.hive = this and v.open)', { id: 'h' }, true],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h2' }, null],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h3' }, false],
  ['some v in visits has (v.hive = this and v.open)', { id: 'h4' }, true],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h' }, false],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h2' }, null],
  ['no v in visits has (v.hive = this and v.open)', { id: 'h3' }, true],
  ['count(v in visits where v.hive = this) = 2', { id: 'h' }, true],
  ['count(v in visits where v.hive = this and v.open) = 1', { id: 'h' }, true],
  ['count(v in visits where v.hive = this and v.open) = 1', { id: 'h4' }, null],
  ['count(v in visits where v.hive = this) = 0', { id: 'h9' }, true],
  [
    'some v in visits has (v.hive = this and some w in visits has (w.hive = v.hive and not w.open))',
    { id: 'h' },
    true,
  ],
  [
    'some v in visits has (v.hive = this and some w in visits has (w.hive = v.hive and not w.open))',
    { id: 'h4' },
    null,
  ],
  ['keeper = me', { keeper: 'ada' }, true],
  ['keeper = me', { keeper: 'ben' }, false],
  ['keeper.boss = me', { keeper: null }, null],
  ['me.age = 30', {}, true],
  ['me.boss.age > 1', {}, null],
  ['yard within me.yard', { yard: 'shed' }, true],
  ['yard within me.yard', { yard: 'east' }, true],
  ['yard within me.yard', { yard: 'top' }, false],
  ['yard within me.yard', { yard: null }, null],
  ['yard within me.yard', { yard: 'a' }, null],
  ['yard within me.led', { yard: 'shed' }, true],
  ['yard within me.led', { yard: 'east' }, true],
  ['yard within me.led', { yard: 'top' }, false],
  ['yard within me.led', { yard: 'a' }, null],
  ['yard in me.led', { yard: 'east' }, true],
  ['yard in me.led', { yard: 'top' }, false],
  ['some v in visits has (v.weight = weight)', { weight: '1.0' }, true],
  ['some v in visits has (weight = v.weight)', { weight: '1.0' }, true],
  ['some v in visits has (v.weight = size)', { size: 1 }, true],
  ['some v in visits has (v.hive.keeper = me)', {}, null],
  ['some v in visits has (v.hive = this and some w in visits has (w.who = v.who))', { id: 'h' }, true],
  ['some v in visits has (v.hive = this or v.open)', { id: 'h9' }, true],
  ['some v in visits has (v.who = me and some w in visits has (v.who = me and w.code = "v7"))', {}, true],
  ['some v in visits has (v.n = count(w in visits where v.hive is missing))', {}, true],
  ['some v in visits has (v.n = weight)', { weight: '0.0' }, true],
  ['some v in visits has (v.code = note)', no, null],
  ['no v in visits has (v.code = note)', no, null],
  ['me has role keeper', {}, true],
  ['me has role lead', {}, false],
  ['me may read yard', { yard: 'east' }, true],
  ['me may read yard', { yard: 'top' }, false],
  ['me may read yard', { yard: 'nowhere' }, false],
  ['me may read yard', { yard: null }, null],
];

export const rulesWith = (when: string) =>
  `${schema} rules yards { people may read (all) when name != "top" } rules hives { people may read (all) when ${when} }`;
