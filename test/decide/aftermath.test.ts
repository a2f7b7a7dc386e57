import { expect, test } from 'vitest';
import {
  aboveOf,
  aftermathOf,
  clearedOf,
  goingWith,
  seesAftermath,
} from '../../src/core/decide/aftermath.ts';
import { referrersOf } from '../../src/core/decide/steps/referrers.ts';
import { parse } from './in-hand.ts';

const schema = `
people { place ref places  crew ref crews  note text }
collection places { name text label  up ref places on delete clear  tree by up }
collection crews { name text label  home ref places }
collection hives { code text label  crew ref crews required on delete remove  partner ref hives on delete clear  note text }
collection visits { code text label  hive ref hives required on delete remove  guide ref people }
collection logs { code text label  visit ref visits on delete clear  hive ref hives on delete clear  place ref places on delete clear  crew ref crews }
collection apart { name text label  log ref logs  other ref apart on delete clear }
role keeper
`;
const rulebook = parse(schema);
const names = (of: Iterable<string>) => [...of].toSorted();
const crews = aftermathOf(rulebook, 'crews');

test('what goes takes along what goes with it, over any number of steps, and clears what points at any of it', () => {
  expect(names(crews.removed)).toEqual(['crews', 'hives', 'visits']);
  expect(names(crews.cells)).toEqual([
    'hives partner',
    'hives updated_at',
    'logs hive',
    'logs updated_at',
    'logs visit',
  ]);
  // Whatever goes with a crew may itself be what is deleted, and takes along the same.
  expect(names(aftermathOf(rulebook, 'visits').removed)).toEqual(['crews', 'hives', 'visits']);
  expect(names(aftermathOf(rulebook, 'logs').removed)).toEqual(['logs']);
  expect(names(aftermathOf(rulebook, 'logs').cells)).toEqual([]);
  expect(names(aftermathOf(rulebook, 'apart').cells)).toEqual(['apart other', 'apart updated_at']);
  expect(names(aboveOf(rulebook, 'visits'))).toEqual(['crews', 'hives', 'visits']);
  expect(names(aboveOf(rulebook, 'logs'))).toEqual(['logs']);
  expect(goingWith(rulebook, 'hives').map(({ name }) => name)).toEqual(['crew']);
  expect(goingWith(rulebook, 'logs')).toEqual([]);
  const pointing = (does: 'remove' | 'clear' | 'refuse') =>
    referrersOf(rulebook, 'crews', does).map(({ holder, field }) => `${holder} ${field.name}`);
  // No record keeps itself from being deleted by its own id.
  expect([pointing('remove'), pointing('clear'), pointing('refuse')]).toEqual([
    ['hives crew'],
    [],
    ['people crew', 'logs crew'],
  ]);
});

test('cleared are references alone, and those that point at what goes', () => {
  expect(clearedOf(rulebook, 'logs', crews).map(({ name }) => name)).toEqual(['visit', 'hive']);
  expect(clearedOf(rulebook, 'hives', crews).map(({ name }) => name)).toEqual(['partner']);
  expect(clearedOf(rulebook, 'apart', crews)).toEqual([]);
});

test.each([
  // What is counted, or looked for, among records that may go.
  ['some v in visits has (v.code = "a")', true],
  ['some a in apart has (a.name = "a")', false],
  ['count(v in visits where v.code = "a") > 1', true],
  ['count(a in apart where a.name = "a") > 1', false],
  ['not (code = "a" or some v in visits has (v.code = "a"))', true],
  // What is cleared is read elsewhere than in the record in hand.
  ['visit is missing', false],
  ['visit.code = "a"', false],
  ['visit.hive.partner is missing', true],
  ['visit.hive.note = "a"', false],
  ['some a in apart has (a.log.visit is missing)', true],
  ['some a in apart has (a.log.code = "a")', false],
  ['some l in logs has (l.visit is missing)', true],
  ['some l in logs has (l.crew is missing)', false],
  ['old.visit.hive.partner is missing', false],
  ['new.visit.hive.partner is missing', true],
  // Trees of places stay as they are where crews go.
  ['place within me.place', false],
  ['me may read visit', true],
  ['code = lower("A") and me has role keeper', false],
])('a rule sees what the deletion of a crew leaves, or does not: %s', (condition, expected) => {
  const { rules } = parse(`${schema}
    rules logs { keeper may update (all) when ${condition} }`);
  expect(seesAftermath(rules[0]!.when, crews)).toBe(expected);
});

test('the tree of what goes is seen by “within”, but on the side of before', () => {
  const places = aftermathOf(rulebook, 'places');
  const sees = (condition: string) =>
    seesAftermath(
      parse(`${schema}\nrules logs { keeper may update (all) when ${condition} }`).rules[0]!.when,
      places,
    );
  expect(sees('place within me.place')).toBe(true);
  expect(sees('new.place within me.place')).toBe(true);
  expect(sees('old.place within me.place')).toBe(false);
  expect(sees('crew.home.up is missing')).toBe(true);
});
