import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { checkFilter, checkRulebook } from '../../src/core/check/index.ts';
import { codes, type Code } from '../../src/core/diagnostics/codes.ts';
import { render } from '../../src/core/diagnostics/render.ts';
import { nearest } from '../../src/core/diagnostics/suggest.ts';
import { format } from '../../src/core/language/printer.ts';
import { limits } from '../../src/core/language/limits.ts';
import { demoRulebook } from '../support/world.ts';

const hives =
  'collection hives { code text required label  keeper ref people  size integer  state one of ("a", "b") }\nrole keeper\n';
const rule = (text: string) => `${hives}rules hives { ${text} }`;
const trial = (text: string) =>
  `${hives}test identity ada { email "a@hollowoak.example" }\ntrial "t" { as ada { ${text} } }`;

/** Collections whose rules follow each other. */
const chain = (length: number) =>
  Array.from(
    { length },
    (_, i) =>
      `collection c${i} { up ref c${Math.max(0, i - 1)} } rules c${i} { everybody may read ${i === 0 ? '' : 'when me may read up'} }`,
  ).join('\n');

function check(text: string) {
  const checked = checkRulebook([{ name: 'x.gate', text }]);
  return checked.ok ? [] : checked.diagnostics;
}

/** For each code: a text that triggers it and the spot that it marks, and one nearly the same that does not. */
const examples: Record<Exclude<Code, 'L006' | 'R008'>, readonly [bad: string, spot: string, good: string]> = {
  L001: [rule('keeper may read when code = $'), '$', rule('keeper may read when code = "x"')],
  L002: [rule('keeper may read when code = "x'), '"x }', rule('keeper may read when code = "x"')],
  L003: [rule('keeper may read when code = "\\x"'), '\\x', rule('keeper may read when code = "\\\\x"')],
  L004: [`// ${'x'.repeat(limits.sourceLength)}`, '/', `// ${'x'.repeat(1000)}`],
  L005: ['role Keeper', 'Keeper', 'role keeper'],
  P001: [rule('keeper gets read'), 'gets', rule('keeper may read')],
  P002: [
    rule(`keeper may read when ${'('.repeat(80)}size = 1${')'.repeat(80)}`),
    '(',
    rule(`keeper may read when ${'('.repeat(40)}size = 1${')'.repeat(40)}`),
  ],
  P003: [
    rule(`keeper may read when size in (${'1, '.repeat(1001)}1)`),
    ',',
    rule('keeper may read when size in (1, 2)'),
  ],
  P004: ['role update', 'update', 'role `update`'],
  P005: [rule('keeper can read'), 'can', rule('keeper may read')],
  N001: ['rules wasps { }', 'wasps', `${hives}rules hives { }`],
  N002: [rule('keeper may read when keepr = me'), 'keepr', rule('keeper may read when keeper = me')],
  N003: [rule('keepr may read'), 'keepr', rule('keeper may read')],
  N004: [trial('may update hives "x" (keeper = bob)'), 'bob', trial('may update hives "x" (keeper = ada)')],
  N005: ['role keeper role keeper', 'keeper', 'role keeper role clerk'],
  N006: ['collection hives { created_at timestamp }', 'created_at', 'collection hives { made_at timestamp }'],
  T001: [
    rule('keeper may read when keeper = size'),
    'keeper = size',
    rule('keeper may read when keeper = me'),
  ],
  T002: [rule('keeper may read when state = "c"'), '"c"', rule('keeper may read when state = "b"')],
  T003: [rule('keeper may read when code.size = 1'), 'code', rule('keeper may read when keeper.name = "x"')],
  T004: [rule('keeper may read when size'), 'size', rule('keeper may read when size is present')],
  T005: [rule('keeper may read when keeper < me'), 'keeper < me', rule('keeper may read when keeper != me')],
  T006: ['collection hives { size integer = now }', 'now', 'collection hives { size integer = 1 }'],
  T007: [
    'collection hives { a text label  b text label }',
    'b',
    'collection hives { a text label  b text unique }',
  ],
  T008: ['collection hives { a text  owned by a }', 'a', 'collection hives { a ref people  owned by a }'],
  T009: ['collection hives { a txt }', 'txt', 'collection hives { a text }'],
  T010: [
    rule(`keeper may read when ${'keeper.'.repeat(9)}name = "x"`),
    '.',
    rule('keeper may read when keeper.name = "x"'),
  ],
  N007: [
    rule('keeper may read when on_duty(this)'),
    'on_duty',
    `let on_duty(h: hives) = h.size = 1\n${rule('keeper may read when on_duty(this)')}`,
  ],
  N009: ['role a includes b  role b includes a', 'b', 'role a includes b  role b'],
  N010: [
    'attribute a integer = me.b\nattribute b integer = me.a',
    'a',
    'people { c integer }\nattribute a integer = me.b\nattribute b integer = me.c',
  ],
  N011: [
    rule('keeper may archive'),
    'archive',
    `action archive on hives sets size = 0\n${rule('keeper may archive')}`,
  ],
  N013: ['role warden was warden', 'warden', 'role warden was steward'],
  N012: [
    'accept people feeds crews because "x"',
    'crews',
    'accept people feeds crews because "x"\nattribute crews integer = count(p in people)',
  ],
  N008: ['let a() = b()\nlet b() = a()', 'b', 'let a() = b()\nlet b() = me is present'],
  T012: [
    `let big(h: hives) = h.size > 9
${rule('keeper may read when big()')}`,
    'big()',
    `let big(h: hives) = h.size > 9
${rule('keeper may read when big(this)')}`,
  ],
  R012: [
    `${hives}collection crews { hive ref hives }\nrules hives { keeper may read when some c in crews has (c.hive = this and me may read c) }\nrules crews { keeper may read when me may read hive }`,
    'keeper may read when some c in crews has (c.hive = this and me may read c)',
    `${hives}collection crews { hive ref hives }\nrules hives { keeper may read when keeper = me }\nrules crews { keeper may read when me may read hive }`,
  ],
  R017: [
    'collection a { x text }\nrules a { people may read when mine }',
    'mine',
    'collection a { x ref people  owned by x }\nrules a { people may read when mine }',
  ],
  R016: [chain(14), 'everybody may read when me may read up', chain(10)],
  R011: [rule('nobody may read unless false'), 'false', rule('nobody may read unless size = 1')],
  R010: [rule('keeper may read when old.size = 1'), 'old.size', rule('keeper may update when old.size = 1')],
  T011: ['collection hives { a text self set }', 'self set', 'people { a text self set }'],
  T013: ['collection a { up text  tree by up }', 'up', 'collection a { up ref a  tree by up }'],
  T015: ['time zone "CET"', '"CET"', 'time zone "EST5EDT"'],
  T014: ['collection a { x list of ref a }', 'x list of ref a', 'collection a { x list of text }'],
  R013: [
    'role a  role b when me has role a',
    'me has role a',
    'role a  role b includes a when me is present',
  ],
  R014: [
    `${rule('keeper may create')}\nattribute mine integer = count(h in hives where h.keeper = me)`,
    'keeper may create',
    `${rule('keeper may create')}\nattribute mine integer = count(h in hives where h.keeper = me)\naccept hives feeds mine because "x"`,
  ],
  R015: [
    'role a when me is present\ntest identity ada { roles a }',
    'a',
    'role a\ntest identity ada { roles a }',
  ],
  E003: [
    `${hives}collection b { name text required }\ntrial "t" { given b () as visitor { reads no b } }`,
    'given b ()',
    `${hives}collection b { name text required }\ntrial "t" { given b (name = "x") as visitor { reads no b } }`,
  ],
  R001: [rule('keeper may read (all), delete (code)'), '(code)', rule('keeper may read (all), delete')],
  R002: [rule('keeper may read, update (code)'), 'read', rule('keeper may read (all), update (code)')],
  R003: [rule('keeper may update (id)'), 'id', rule('keeper may read (id)')],
  R004: [
    rule('keeper may read, update stamp keeper = me'),
    'keeper',
    rule('keeper may update stamp keeper = me'),
  ],
  R005: [
    rule('keeper may create (code, keeper) stamp keeper = me'),
    'keeper',
    rule('keeper may create (code) stamp keeper = me'),
  ],
  R006: [
    rule('keeper may create stamp keeper = me, keeper = me'),
    'keeper',
    rule('keeper may create stamp keeper = me, size = 1'),
  ],
  R007: [rule('keeper may read, read'), 'read', rule('keeper may read, delete')],
  R009: [
    rule('keeper may create (size)'),
    'keeper may create (size)',
    rule('keeper may create (code, size)'),
  ],
  E001: [
    `collection a { x text }\ntest identity ada { }\ntrial "t" { as ada { may read a "x" } }`,
    '"x"',
    `collection a { x text label }\ntest identity ada { }\ntrial "t" { as ada { may read a "x" } }`,
  ],
  E002: [trial('may update hives "x" (keeper = 3)'), '3', trial('may update hives "x" (keeper = me)')],
};

describe('every code of the table', () => {
  test.each(Object.entries(examples))(
    '%s is found, at its spot, and not without cause',
    (code, [bad, spot, good]) => {
      const found = check(bad).find((diagnostic) => diagnostic.code === code);
      expect(found, JSON.stringify(check(bad).slice(0, 3))).toBeDefined();
      expect(bad.slice(found!.span.start, found!.span.end)).toBe(spot);
      expect(check(good)).toEqual([]);
    },
  );

  test('stands in docs/language.md, and docs/language.md knows no other', () => {
    const documented = [
      ...readFileSync('docs/language.md', 'utf8').matchAll(/^\| `([A-Z]\d{3})` \| (.+) \|$/gm),
    ].map(([, code, text]) => [code, text]);
    expect(Object.fromEntries(documented)).toEqual(codes);
  });

  test('R008 keeps “me” out of filters', () => {
    const checked = checkRulebook([{ name: 'x.gate', text: hives }]);
    if (!checked.ok) throw new Error('unreachable');
    const filter = checkFilter('keeper = me', 'hives', checked.rulebook);
    expect(filter.ok ? [] : filter.diagnostics.map((diagnostic) => diagnostic.code)).toEqual(['R008']);
    expect(checkFilter('keeper is present', 'hives', checked.rulebook).ok).toBe(true);
  });
});

test('days are those of the time zone, from the end of a role to the moment of a trial', () => {
  const text = `time zone "EST5EDT"
role keeper
test identity ada { roles keeper until "2026-07-01" }
test identity ben { roles keeper until "2026-01-01T00:00:00Z" }
trial "t" { as ada at "2026-12-31" { reads no people } }`;
  const checked = checkRulebook([{ name: 'x.gate', text }]);
  if (!checked.ok) throw new Error('unreachable');
  const { identities, trials, timeZone } = checked.rulebook;
  const ends = [...identities.values()].map((each) => each.roles[0]!.until);
  expect([timeZone, ...ends, trials[0]!.parts[0]!.at]).toEqual([
    'EST5EDT',
    '2026-07-01T04:00:00Z',
    '2026-01-01T00:00:00Z',
    '2026-12-31T05:00:00Z',
  ]);
});

test('a message shows file, line, column, the marked line and what may have been meant', () => {
  const text = rule('\n  keeper may read\n    when keepr = me');
  const [diagnostic] = check(text);
  expect(render(diagnostic!, [{ name: 'x.gate', text }])).toBe(
    [
      'error N002: hives has no field “keepr”',
      '  x.gate:5:10',
      '5 |     when keepr = me }',
      '  |          ^^^^^ did you mean “keeper”?',
    ].join('\n'),
  );
});

test('a name declared twice says where both are', () => {
  const checked = checkRulebook([
    { name: 'a.gate', text: 'role keeper' },
    { name: 'b.gate', text: '\nrole keeper' },
  ]);
  if (checked.ok) throw new Error('expected an error');
  const text = render(checked.diagnostics[0]!, [
    { name: 'a.gate', text: 'role keeper' },
    { name: 'b.gate', text: '\nrole keeper' },
  ]);
  expect(text).toContain('b.gate:2:6');
  expect(text).toContain('a.gate:1:6');
});

test('a sentence for several collections, and “mine”, are what is written out for each', () => {
  const both = `collection hives { code text required label  keeper ref people  note text  owned by keeper }
    collection harvests { code text required label  hive ref hives  by_ ref people  owned by hive.keeper, by_ }
    role keeper\n`;
  const meant = (text: string) => {
    const checked = checkRulebook([{ name: 'x.gate', text: both + text }]);
    if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
    const { rules, fences } = checked.rulebook;
    return [...rules, ...fences].map(({ span: _, text: __, ...rest }) => rest);
  };
  const short = `rules hives, people, harvests { keeper may read (all), update (all) when mine and not (id is missing) }
    rules harvests, hives { nobody may delete unless mine  keeper may delete when no h in hives has (mine) }`;
  const long = `rules hives { keeper may read (all), update (all) when this.keeper = me and not (id is missing) }
    rules people { keeper may read (all), update (all) when this = me and not (id is missing) }
    rules harvests { keeper may read (all), update (all) when (this.hive.keeper = me or this.by_ = me) and not (id is missing) }
    rules harvests { nobody may delete unless this.hive.keeper = me or this.by_ = me
      keeper may delete when no h in hives has (this.hive.keeper = me or this.by_ = me) }
    rules hives { nobody may delete unless this.keeper = me  keeper may delete when no h in hives has (this.keeper = me) }`;
  const sorted = (all: readonly { readonly id: string }[]) => all.toSorted((a, b) => (a.id < b.id ? -1 : 1));
  expect(sorted(meant(short))).toEqual(sorted(meant(long)));
  // What is wrong for all is told once; what is wrong for one, for that one.
  const wrong = check(
    `${both}rules hives, harvests, hives { cook may read (code, note) when mine and old.x = 1 }`,
  );
  expect(wrong.map(({ code, message }) => [code, message])).toEqual([
    ['N005', '“hives” stands here twice'],
    ['N003', 'nobody declared a role “cook”'],
    ['N002', 'harvests has no field “note”'],
    ['R010', expect.stringContaining('old')],
  ]);
  expect(
    check(
      'collection a { mine boolean  by_ ref people  owned by by_ } rules a { people may read when mine }',
    )[0],
  ).toMatchObject({
    code: 'R017',
  });
  expect(
    check(
      'collection a { mine boolean  by_ ref people } attribute mine integer = 1 rules a { people may read when this.mine or me.mine = 1 }',
    ),
  ).toEqual([]);
  expect(check(`${both}let near() = mine\nrules hives { keeper may read when near() }`)[0]).toMatchObject({
    code: 'N002',
  });
});

test('what could not be read is not called unknown as well', () => {
  const text = `collection hives { code text required label }
    let sees(h: hives) = h.until is missing
    role until
    action give on hives (by text) sets code = by
    attribute level integer = when
    collection yards { until text }
    test identity ada { roles until }
    rules hives { people may read when sees(this) and me.level > 1 and seen(this)  people may give, take }
    trial "t" { as ada { reads hives only where code = "a" } }`;
  const checked = checkRulebook([{ name: 'a.gate', text }]);
  if (checked.ok) expect.fail('it has errors');
  const said = checked.diagnostics.filter(({ code }) => code.startsWith('N')).map(({ message }) => message);
  expect(said).toEqual(['there is no let “seen”', 'hives has no operation “take”']);
  // Whatever else is wrong with such a name is said.
  const twice = checkRulebook([
    { name: 'a.gate', text: 'people { level integer  level text }\nattribute level integer = when' },
  ]);
  expect(twice.ok ? [] : twice.diagnostics.map(({ code }) => code)).toContain('N005');
});

test('all errors of a text are found at once, also behind one that breaks a sentence', () => {
  const text = `${hives}rules hives {
  keeper may red when size = 1
  keeper may read when sise = 1
  people may read (cod)
  keeper may update (size) when size = "x"
}
collection crews { name txt  lead ref peeple }`;
  expect(check(text).map(({ code }) => code)).toEqual(['N011', 'N002', 'N002', 'T001', 'T009', 'N001']);
});

test('a field’s title stands behind its name, and whatever it is called, it is no mark of the field before', () => {
  const text = `collection hives {
    code "Number on the hive" text required label
    label "What it says" text
    was "What it was" ref people
    unique "One of few" one of ("a", "b")
    fill text = "x"
  }`;
  const checked = checkRulebook([{ name: 'x.gate', text }]);
  if (!checked.ok) expect.fail(checked.diagnostics[0]!.message);
  const { fields, label } = checked.rulebook.schema.get('hives')!;
  expect(label).toBe('code');
  expect(
    [...fields.values()].filter(({ system }) => !system).map(({ name, title }) => [name, title]),
  ).toEqual([
    ['code', 'Number on the hive'],
    ['label', 'What it says'],
    ['was', 'What it was'],
    ['unique', 'One of few'],
    ['fill', null],
  ]);
  const formatted = format({ name: 'x.gate', text });
  expect(formatted.ok && formatted.text).toContain('  code "Number on the hive" text required label\n');
  const [late] = check('collection hives { code text label "Number on the hive" }');
  expect(late?.message).toContain('code "…"');
});

test('the order of files and of declarations does not matter', () => {
  const shuffled = checkRulebook(demoRulebook.toReversed());
  const plain = checkRulebook(demoRulebook);
  if (!shuffled.ok || !plain.ok) throw new Error('the demo rulebook has errors');
  expect([...shuffled.rulebook.schema.keys()].toSorted()).toEqual(
    [...plain.rulebook.schema.keys()].toSorted(),
  );
  expect(shuffled.rulebook.rules).toHaveLength(plain.rulebook.rules.length);
});

describe('hostile texts', () => {
  test.each([
    ['100,000 brackets', rule(`keeper may read when ${'('.repeat(100_000)}`)],
    ['100,000 times not', rule(`keeper may read when ${'not '.repeat(100_000)}`)],
    ['a line of 10 MB', 'x'.repeat(10_000_000)],
    ['100,000 ands', rule(`keeper may read when ${'size = 1 and '.repeat(100_000)} size = 1`)],
    ['40,000 errors', 'role Role\n'.repeat(40_000)],
    ['unclosed braces', '{'.repeat(100_000)],
    ['U+0000', 'role keeper // \u0000'],
  ])('%s: refused, with a position', (_, text) => {
    const found = check(text);
    expect(found.length).toBeGreaterThan(0);
    expect(found.length).toBeLessThanOrEqual(2 * limits.diagnostics);
  });

  test('whatever is written, the checker answers and never throws', () => {
    const word = fc.constantFrom(
      'rules',
      'hives',
      '{',
      '}',
      '(',
      ')',
      'keeper',
      'may',
      'read',
      'when',
      '=',
      '"a"',
      'not',
      'and',
      ',',
      '.',
      'me',
      'trial',
      'as',
      'test',
      'identity',
      'collection',
      'text',
      '1',
      '-',
      'in',
      'is',
      'missing',
      'stamp',
      '\n',
      'owned',
      'by',
      'ref',
      'people',
      '`',
      '"',
    );
    fc.assert(
      fc.property(fc.array(word, { maxLength: 60 }), (words) => {
        const text = hives + words.join(' ');
        for (const diagnostic of check(text)) {
          expect(render(diagnostic, [{ name: 'x.gate', text }])).toContain('x.gate:');
        }
      }),
      { numRuns: 2_000, seed: 2026 },
    );
  });
});

test('suggestions are near or not made', () => {
  expect(nearest('keepr', ['keeper', 'code'])).toBe('keeper');
  expect(nearest('kepeer', ['keeper', 'code'])).toBe('keeper');
  expect(nearest('xyz', ['keeper', 'code'])).toBeNull();
});
