import { readFileSync } from 'node:fs';
import { describe, expect, test } from 'vitest';
import { adviceKinds, adviceOn } from '../../src/core/analysis/advice/index.ts';
import { fixed as withFixes } from '../../src/core/diagnostics/fixes.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { sarifLog } from '../../src/cli/commands/sarif.ts';
import { demoRulebook } from '../support/world.ts';

function adviceOf(text: string) {
  const sources = [{ name: 'a.gate', text }];
  const checked = checkRulebook(sources);
  expect(checked.ok ? [] : checked.diagnostics, text).toEqual([]);
  if (!checked.ok) throw new Error('unreachable');
  return { sources, advice: adviceOn(checked.rulebook) };
}
const codesOf = (text: string) => new Set(adviceOf(text).advice.map((each) => each.kind.code as string));

describe('advice', () => {
  const docs = readFileSync('docs/advice.md', 'utf8');

  test.each(adviceKinds)(
    '$code, $title: its example is valid and is advised on, and the docs say so',
    (kind) => {
      expect(codesOf(kind.example)).toContain(kind.code);
      for (const text of [kind.code, kind.title, kind.explanation, kind.example])
        expect(docs).toContain(text);
    },
  );

  test('codes are never used twice', () => {
    expect(new Set(adviceKinds.map((kind) => kind.code)).size).toBe(adviceKinds.length);
  });

  test('a fix takes the doubt away, and what is left is still a rulebook', () => {
    let fixes = 0;
    for (const kind of adviceKinds) {
      const { sources, advice } = adviceOf(kind.example);
      const own = advice.filter((each) => each.kind === kind && each.fix !== undefined);
      if (own.length === 0) continue;
      fixes++;
      const { sources: fixed, made } = withFixes(sources, own);
      expect(made).toEqual(own);
      expect(codesOf(fixed[0]!.text), kind.code).not.toContain(kind.code);
    }
    expect(fixes).toBeGreaterThanOrEqual(3);
  });

  const base = `collection hives { code text  keeper ref people  price decimal sensitive  owned by keeper }
    role keeper  role steward includes keeper
    test identity ada { roles steward }  test identity ben { roles keeper }`;

  test.each([
    [
      'a condition that holds for somebody else',
      'A001',
      'rules hives { keeper may read when keeper = me  steward may read }',
    ],
    [
      'an unconditional rule for fewer fields',
      'A001',
      'rules hives { people may read (all) when keeper = me  people may read (code) }',
    ],
    ['an owner that stays the caller', 'A003', 'rules hives { keeper may read, update when keeper = me }'],
    ['an owner that must be the caller', 'A004', 'rules hives { keeper may read, create when keeper = me }'],
    ['a sensitive field of one’s own', 'A007', 'rules hives { people may read when keeper = me }'],
    [
      'a sensitive field behind a fence',
      'A007',
      'rules hives { people may read  nobody may read (price) unless keeper = me }',
    ],
    [
      'what the rulebook accepts',
      'A003',
      'rules hives { steward may read, update }  accept steward may update (keeper) on hives because "x"',
    ],
    [
      'a fence that exempts whom a rule speaks of',
      'A009',
      'rules hives { steward may read, delete  nobody but steward may delete }',
    ],
    [
      'one number written in two ways',
      'A008',
      'rules hives { people may read when price = 1.5 and price = 1.50 }',
    ],
    [
      'a number that is stamped in another way than it is asked for',
      'A017',
      'rules hives { people may read  keeper may update (code) when price = 1.5 stamp price = 1.50 }',
    ],
    [
      'a number that two rules stamp in two ways',
      'A018',
      'rules hives { people may read  keeper may update (code) stamp price = 1.5  steward may update (code) stamp price = 1.50 }',
    ],
    ['an either-or', 'A008', 'rules hives { people may read when code = "a" or code = "b" }'],
    ['a role that comes along with another', 'A010', 'rules hives { keeper may read }'],
    [
      'a let that is used',
      'A011',
      'let mine(h: hives) = h.keeper = me  rules hives { people may read when mine(this) }',
    ],
    [
      'a reference to search by',
      'A014',
      'rules hives { people may read when keeper = me and code contains "x" }',
    ],
    ['what is asked of the caller alone', 'A014', 'rules hives { people may read when me.name is present }'],
  ])('%s is nothing to say of: no %s', (_, code, rules) => {
    expect(codesOf(`${base}\n${rules}`)).not.toContain(code);
  });

  const offered = (rules: string) => `
    collection lots { code text required label  status one of ("draft", "checked", "listed") = "draft"  note text  buyer ref people }
    role steward  role keeper
    action list on lots sets status = "listed"
    rules lots { people may read  ${rules} }
    test identity ada { roles steward, keeper }`;
  test.each([
    [
      'an action, by a fence on update',
      'steward may list when old.status = "checked"  nobody may update unless old.status = "draft"',
    ],
    [
      'an action, by one on what it sets',
      'steward may list when old.status = "checked"  nobody may update (status) unless old.status = "draft"',
    ],
    [
      'an action, by one on itself',
      'steward may list when old.status = "checked"  nobody may list unless old.status in ("draft", "listed")',
    ],
    [
      'an action, by what it leaves',
      'steward may list when note = "ok"  nobody may list unless note is missing',
    ],
    [
      'an update of one field',
      'steward may update (note) when status = "listed"  nobody may update (note, code) unless status = "draft"',
    ],
    [
      'an update, by its new side',
      'steward may update (status) when new.status = "listed"  nobody may update unless new.status != "listed"',
    ],
    [
      'a deletion, by what cannot be read',
      'steward may delete when status = "draft"  nobody may read unless status = "listed"',
    ],
    [
      'what is made',
      'steward may create (code, status) when status = "listed"  nobody may create unless status = "draft"',
    ],
    [
      'what is made, by what it fills in',
      'steward may create (code) stamp status = "listed"  nobody may create unless status = "draft"',
    ],
  ])('a fence may leave a rule nobody: %s', (_, rules) => {
    expect(codesOf(offered(rules))).toContain('A024');
  });

  test.each([
    [
      'it exempts somebody',
      'steward may list when old.status = "checked"  nobody but keeper may update unless old.status = "draft"',
    ],
    [
      'one is about the record before, the other after',
      'steward may update (status) when new.status = "listed"  nobody may update unless old.status = "draft"',
    ],
    [
      'what is supplied is another',
      'steward may update (status) when old.status = "draft"  nobody may update unless new.status = "listed"',
    ],
    [
      'it is about another field',
      'steward may update (note, code) when status = "listed"  nobody may update (note) unless status = "draft"',
    ],
    [
      'it is about another operation',
      'steward may delete when status = "listed"  nobody may update unless status = "draft"',
    ],
    [
      'some records are both',
      'steward may list when old.status in ("checked", "draft")  nobody may update unless old.status = "draft" or note = "x"',
    ],
    [
      'the sentence fills in on creation alone',
      'steward may create (code), update (code) when code = "x" or note = "y" stamp note = "y"  nobody may update unless note = "z"',
    ],
  ])('a fence leaves somebody where %s', (_, rules) => {
    expect(codesOf(offered(rules))).not.toContain('A024');
  });

  const acting = (action: string, rules: string) =>
    `collection hives { code text  keeper ref people  status one of ("here", "sold") = "here"  left timestamp  note text }
    action go on hives ${action}  rules hives { people may read  ${rules} } test identity ada { }`;
  test.each([
    ['sets status = "sold"', 'people may go when status = "here"', 'this is never true: write old.status'],
    ['sets status = "sold"', 'people may go when new.status = "here"', 'this is never true'],
    ['sets status = "sold"', 'people may go when status != "sold"', 'this is never true: write old.status'],
    ['sets left = now', 'people may go when left is missing', 'this is never true: write old.left'],
    ['sets keeper = me', 'people may go when keeper is missing', 'this is never true: write old.keeper'],
    ['sets note = missing', 'people may go when note = "x"', 'this is never true: write old.note'],
    ['sets note = missing', 'people may go when note is present', 'this is never true: write old.note'],
    [
      'sets status = "sold"',
      'people may go  nobody may go unless status = "here"',
      'nobody passes this fence: write old.status',
    ],
    ['sets status = "sold"', 'people may go when old.status = "here"', null],
    ['sets status = "sold"', 'people may go when status = "here" or keeper = me', null],
    ['sets status = "sold"', 'people may read when status = "here"  people may go', null],
    ['sets note = missing', 'people may go when old.note is present', null],
    ['(why text required) sets note = why', 'people may go when old.note = "x" and new.note = "y"', null],
    ['(why text) sets note = why', 'people may go when note is missing', null],
    ['sets keeper = me', 'everybody may go when keeper is missing', null],
    // What the rule fills in is enough: that is told by itself.
    ['sets status = "sold"', 'people may go when note is missing stamp note = "x"', null],
    // The condition contradicts itself: that is told.
    ['sets status = "sold"', 'people may go when status = "here" and status = "sold"', null],
  ])('an action that %s, and “%s”: %s', (action, rules, said) => {
    const { advice } = adviceOf(acting(action, rules));
    const own = advice.filter(({ kind }) => kind.code === 'A022').map(({ message }) => message);
    expect(own).toEqual(said === null ? [] : [expect.stringContaining(said)]);
  });

  test.each([
    ['people may create (code, keeper)', '', 'keeper (people)'],
    ['people may update when note = "x"', '', 'keeper (people)'],
    ['people may go', '', null],
    ['people may give', '', 'to (people)'],
    ['people may create (code) stamp keeper = me', '', null],
    [
      'people may create (code, keeper) when keeper = me',
      'rules people { people may read (id) when this = me }',
      null,
    ],
  ])('“%s” and “%s” supply what nobody can read: %s', (rule, more, said) => {
    const actions = 'action give on hives (to ref people) sets keeper = to';
    const { advice } = adviceOf(`${acting('sets note = "x"', rule)} ${actions} ${more}`);
    const own = advice.filter(({ kind }) => kind.code === 'A023').map(({ message }) => message);
    expect(own).toEqual(said === null ? [] : [expect.stringContaining(said)]);
  });

  test.each([
    ['fields', 'collection bees { kind "Sort" text  sort text }', 'sort is shown as “sort”, as kind is'],
    ['collections', 'collection bees "Hives" { kind text }', 'bees is shown as “Hives”, as hives is'],
    ['roles', 'role helper "Keeper"', 'helper is shown as “Keeper”, as keeper is'],
  ])('%s that read the same are told', (_, more, message) => {
    expect(adviceOf(`${base}\n${more}`).advice.map((each) => each.message)).toContain(message);
    expect(codesOf(base)).not.toContain('A021');
  });

  test('a stamp that makes its own rule false is told, whether the rule says new or nothing', () => {
    for (const asked of ['price', 'new.price'])
      expect(
        codesOf(
          `${base}\nrules hives { people may read  keeper may update (code) when ${asked} = 2 stamp price = 1 }`,
        ),
      ).toContain('A017');
  });

  test('of the demo is what is known of it, and SARIF 2.1.0 tells the same', () => {
    const checked = checkRulebook(demoRulebook);
    if (!checked.ok) throw new Error('the demo rulebook has errors');
    const advice = adviceOn(checked.rulebook);
    expect(new Set(advice.map((each) => each.kind.code))).toEqual(new Set(['A002', 'A013', 'A014', 'A015']));
    const log = sarifLog(demoRulebook, [], advice);
    expect(log.version).toBe('2.1.0');
    const [run] = log.runs;
    expect(run!.results!.length).toBe(advice.length);
    for (const result of run!.results!) {
      expect(run!.tool.driver.rules![result.ruleIndex!]!.id).toBe(result.ruleId);
      const { artifactLocation, region } = result.locations![0]!.physicalLocation!;
      const lines = demoRulebook.find((file) => file.name === artifactLocation!.uri)!.text.split('\n');
      expect(lines[region!.startLine! - 1]!.slice(region!.startColumn! - 1)).toMatch(
        /^(\w+(, \w+)* may|role|let)/,
      );
      expect(region!.endLine!).toBeGreaterThanOrEqual(region!.startLine!);
    }
  });

  test('a SARIF fix says what to delete and what to put there', () => {
    const { sources, advice } = adviceOf(adviceKinds.find((kind) => kind.code === 'A016')!.example);
    const [result] = sarifLog(sources, [], advice).runs[0]!.results!.filter((each) => each.ruleId === 'A016');
    const [replacement] = result!.fixes![0]!.artifactChanges[0]!.replacements;
    expect(replacement).toMatchObject({
      insertedContent: { text: ' stamp keeper = me' },
      deletedRegion: { startLine: 3, endLine: 3 },
    });
  });
});
