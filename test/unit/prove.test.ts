import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { prove, type Solve } from '../../src/core/analysis/prove/index.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import { demoRulebook } from '../support/world.ts';

let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(10);
});
afterAll(() => solver.close());

const base = `
  collection districts { name text label  parent ref districts  tree by parent }
  collection hives { code text required label  keeper ref people  district ref districts  price decimal  year integer
    status one of ("active", "retired") = "active"  seen timestamp  note text  owned by keeper }
  collection visits { code text label  hive ref hives required  inspector ref people  starts timestamp required }
  people { district ref districts  level integer }
  role keeper  role steward  role auditor includes steward only read  role office when me.email ends with "@x.example"
  attribute visited list of ref hives = every v.hive for v in visits where v.inspector = me
  claim tenant text from "tenant"
  action retire on hives sets status = "retired"`;

/** A solver that never comes to an answer: only the random worlds are left. */
const speechless: Solve = async () => 'unknown';

async function ask(rules: string, invariant: string, solve = solver.solve) {
  const text = `${base}\n rules hives { ${rules} }\n invariant "i" ${invariant}`;
  const checked = checkRulebook([{ name: 'a.gate', text }]);
  expect(checked.ok ? [] : checked.diagnostics, text).toEqual([]);
  if (!checked.ok) throw new Error('unreachable');
  return prove(checked.rulebook, checked.rulebook.invariants[0]!, solve);
}

describe('proved', () => {
  test.each([
    ['a rule’s own condition', 'people may read when keeper = me', 'read hives only if keeper = me'],
    ['that visitors are nobody', 'people may read', 'read hives only if me is present'],
    [
      'that nobody shares what is only shared with them',
      'people may read when keeper = me  people may share',
      'share hives only if keeper = me',
    ],
    [
      'a fence',
      'people may read, update  nobody but steward may update unless keeper = me',
      'update hives only if keeper = me or me has role steward',
    ],
    [
      'a fence on one field',
      'people may read  nobody may read (price) unless keeper = me',
      'read hives (price) only if keeper = me',
    ],
    [
      'a role for one operation alone',
      'steward may read, update',
      'update hives only if me has role steward',
    ],
    [
      'membership of a list',
      'people may read when this in me.visited',
      'read hives only if some v in visits has (v.hive = this and v.inspector = me)',
    ],
    [
      'a tree',
      'people may read when district.parent within me.district',
      'read hives only if district within me.district',
    ],
    [
      'what follows of numbers',
      'people may read when year > 2000 and price < 5',
      'read hives only if year >= 2001 and price <= 5.0',
    ],
    [
      'what follows of texts',
      'people may read when note starts with "open:"',
      'read hives only if note contains "open" and length(note) >= 5',
    ],
    ['a role with a condition', 'office may read', 'read hives only if me.email contains "@"'],
    [
      'an action',
      'steward may read, retire  nobody may update unless old.status = "active"',
      'retire hives only if old.status != "retired" and new.status = "retired"',
    ],
    ['moments', 'people may read when seen + 2 days < now', 'read hives only if seen < now'],
    [
      'no quantifier',
      'people may read when no v in visits has (v.hive = this)',
      'read hives only if not (this in me.visited)',
    ],
  ])('%s', async (_, rules, invariant) => {
    expect(await ask(rules, invariant)).toEqual({ result: 'proved' });
    // No random world speaks against what is proved, and without the solver nothing is.
    expect((await ask(rules, invariant, speechless)).result).toBe('not decided');
  });
});

describe('refuted, with the smallest example', () => {
  test.each([
    [
      'an or for an and',
      'people may read when keeper = me or status = "active"',
      'read hives only if keeper = me',
      /keeper = (missing|the record|people \d)|keeper = missing/,
    ],
    [
      'a missing value',
      'people may read when not (status = "retired") or keeper is missing',
      'read hives only if status = "active"',
      /keeper = missing/,
    ],
    ['an auditor', 'steward may read, update', 'read hives only if keeper = me', /record of hives/],
    [
      'one step too few',
      'people may read when district within me.district',
      'read hives only if district = me.district',
      /district = districts/,
    ],
    [
      'a bound too wide',
      'people may read when year >= 2000',
      'read hives only if year > 2000',
      /year = 2000/,
    ],
    [
      'who may visit',
      'people may read when some v in visits has (v.hive = this)',
      'read hives only if this in me.visited',
      /visits/,
    ],
    ['a visitor', 'everybody may read (code)', 'read hives only if me is present', /visitor/],
    [
      'a field that one role gives back',
      'keeper may read (all but price)  steward may read',
      'read hives (price) only if me has role keeper',
      /steward|auditor/,
    ],
  ])('%s', async (_, rules, invariant, said) => {
    for (const solve of [solver.solve, speechless]) {
      const proof = await ask(rules, invariant, solve);
      expect(proof).toMatchObject({ result: 'refuted' });
      const { caller, record, others } = (proof as Extract<typeof proof, { result: 'refuted' }>).example;
      expect([caller, record, ...others].join('\n')).toMatch(said);
    }
  });
});

test('what cannot be put to the solver, or takes too long, is not decided, and never proved', async () => {
  const count = (inspector: string) => `count(v in visits where v.hive = this${inspector}) > 0`;
  const counted = await ask(
    `people may read when ${count('')}`,
    `read hives only if ${count('')} or code = ""`,
  );
  expect(counted.result).toBe('not decided');
  // What the solver cannot count is found by trying.
  const wrong = await ask(
    `people may read when ${count('')}`,
    `read hives only if ${count(' and v.inspector = me')}`,
  );
  expect(wrong).toMatchObject({
    result: 'refuted',
    example: { caller: expect.stringContaining('a person without any role') },
  });
  const { rulebook } = checkRulebook(demoRulebook) as { rulebook: Parameters<typeof prove>[0] };
  const hasty = await prove(rulebook, rulebook.invariants[0]!, speechless);
  expect(hasty).toMatchObject({
    result: 'not decided',
    why: expect.stringContaining('the solver came to no answer in time'),
  });
});

describe('steps', () => {
  test.each([
    [
      'what a change keeps',
      'people may read  people may update when keeper = me and new.keeper = old.keeper',
      'update hives (keeper) only if old.keeper = new.keeper',
    ],
    [
      'what a stamp fills in',
      'people may read, create  people may update (note) stamp keeper = me',
      'update hives (note) only if new.keeper = me',
    ],
    [
      'a record that is made',
      'people may create (code, note) stamp keeper = me  visitors may create (code) when code = "open"',
      'create hives only if keeper = me or code = "open"',
    ],
    ['a default', 'people may create (code)', 'create hives only if status = "active" and price is missing'],
    [
      'who may share',
      'people may read  people may share when keeper = me',
      'share hives only if keeper = me',
    ],
    [
      'what is shared, behind a fence',
      'people may read when keeper = me  people may share when keeper = me  nobody may read unless keeper = me',
      'read hives only if keeper = me',
    ],
    [
      'what an action may not set twice',
      'steward may read  steward may retire when old.status = "active"',
      'update hives only if old.status = "active"',
    ],
  ])('proved: %s', async (_, rules, invariant) => {
    expect(await ask(rules, invariant)).toEqual({ result: 'proved' });
    expect((await ask(rules, invariant, speechless)).result).toBe('not decided');
  });

  test.each([
    [
      'the side after a change',
      'people may read  people may update when old.keeper = me',
      'update hives only if keeper = me',
      /about the record after/,
    ],
    [
      'an action, which is an update, too',
      'steward may read, retire',
      'update hives only if keeper = me',
      /may retire it/,
    ],
    [
      'a field that nobody covers, and a stamp sets',
      'people may read  people may update (note) stamp keeper = me',
      'update hives (keeper) only if old.keeper = new.keeper',
      /may update it with note/,
    ],
    ['who may make a record', 'people may read, create', 'create hives only if keeper = me', /may create/],
    [
      'a record that somebody shares',
      'people may read when keeper = me  people may share when keeper = me',
      'read hives only if keeper = me',
      /shares the record with them for read/,
    ],
    // Where there are no visits at all, the rule is true all the same.
    [
      'records of which there are none',
      'people may read when no v in visits has (v.hive = this)',
      'read hives only if some v in visits has (v.code is present or v.code is missing)',
      /a record of hives/,
    ],
  ])('refuted: %s', async (_, rules, invariant, said) => {
    const proof = await ask(rules, invariant);
    expect(proof).toMatchObject({ result: 'refuted' });
    const { caller, step, record, others } = (proof as Extract<typeof proof, { result: 'refuted' }>).example;
    expect([caller, step, record, ...others].join('\n')).toMatch(said);
  });

  test('an example that only the side after a change has suggests to look at the one before', async () => {
    const proof = await ask(
      'people may read  people may update when old.keeper = me',
      'update hives only if keeper = me',
    );
    expect(proof).toMatchObject({ example: { hint: expect.stringContaining('old.') } });
  });
});

test('the invariants of the demo are proved', async () => {
  const checked = checkRulebook(demoRulebook);
  if (!checked.ok) throw new Error('the demo rulebook has errors');
  for (const invariant of checked.rulebook.invariants)
    expect(await prove(checked.rulebook, invariant, solver.solve), invariant.title).toEqual({
      result: 'proved',
    });
});
