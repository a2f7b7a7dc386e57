import { expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { fixed } from '../../src/core/diagnostics/fixes.ts';

/** Mistakes that people bring along from other languages: each is named, with the right form, and a fix that makes it. */
const schema = `people { level integer }
role keeper
collection yards { name text required label }
collection hives { code text required label  note text  size integer  due date  open boolean  seen timestamp  keeper ref people  yard ref yards  status one of ("new", "old") = "new" }
`;
const rules = (sentence: string) => `${schema}rules hives { ${sentence} }`;
const when = (condition: string) => rules(`people may read (all) when ${condition}`);
const fields = (text: string) => `${schema}collection frames { ${text} }`;

const mistakes: readonly [name: string, text: string, said: RegExp, becomes: string][] = [
  ['a forgotten when', rules('people may read (all) keeper = me'), /“when”/, 'read (all) when keeper = me'],
  [
    'a forgotten when before not',
    rules('people may read (all) not open'),
    /“when”/,
    'read (all) when not open',
  ],
  ['if', rules('people may read (all) if keeper = me'), /“when”/, 'read (all) when keeper = me'],
  ['where', rules('people may read (all) where keeper = me'), /“when”/, 'read (all) when keeper = me'],
  ['unless in a rule', rules('people may read (all) unless open'), /“when not/, 'read (all) when not (open)'],
  ['fields without brackets', rules('people may update note'), /brackets/, 'update (note)'],
  [
    'several fields without brackets',
    rules('people may update code, note when keeper = me'),
    /brackets/,
    'update (code, note) when',
  ],
  [
    'a comma before when',
    rules('people may read (all), when keeper = me'),
    /comma/,
    'read (all) when keeper = me',
  ],
  [
    'a comma before stamp',
    rules('people may create (code) when keeper = me, stamp keeper = me'),
    /comma/,
    'keeper = me stamp keeper = me',
  ],
  [
    'a comma before because',
    rules('people may read (all), because "all do"'),
    /comma/,
    'read (all) because "all do"',
  ],
  ['can', rules('people can read (all)'), /“may”/, 'people may read (all)'],
  ['should', rules('people should read (all)'), /“may”/, 'people may read (all)'],
  ['a semicolon', rules('people may read (all);'), /semicolon/, 'people may read (all) }'],
  ['==', when('keeper == me'), /“=”/, 'keeper = me'],
  ['===', when('size === 1'), /“=”/, 'size = 1'],
  ['!==', when('size !== 1'), /“!=”/, 'size != 1'],
  ['<>', when('note <> "x"'), /“!=”/, 'note != "x"'],
  ['&&', when('open && size = 1'), /“and”/, 'open and size = 1'],
  ['||', when('open || size = 1'), /“or”/, 'open or size = 1'],
  ['!', when('!open'), /“not”/, 'when not open'],
  ['AND', when('open AND size = 1'), /small letters/, 'open and size = 1'],
  ['WHEN', rules('people may read (all) WHEN open'), /small letters/, '(all) when open'],
  ['= null', when('note = null'), /“is missing”/, 'note is missing'],
  ['= NULL', when('note = NULL'), /“is missing”/, 'note is missing'],
  ['!= null', when('note != null'), /“is present”/, 'note is present'],
  ['= undefined', when('note = undefined'), /“is missing”/, 'note is missing'],
  ['= None', when('note = None'), /“is missing”/, 'note is missing'],
  ['= missing', when('note = missing'), /“is missing”/, 'note is missing'],
  ['!= missing', when('note != missing'), /“is present”/, 'note is present'],
  ['is null', when('note is null'), /“is missing”/, 'note is missing'],
  ['is not null', when('note is not null'), /“is present”/, 'note is present'],
  ['is not missing', when('note is not missing'), /“is present”/, 'note is present'],
  ['is true', when('open is true'), /by itself/, 'when open }'],
  ['is false', when('open is false'), /“not”/, 'when not open }'],
  ['is with a value', when('note is "x"'), /“=”/, 'note = "x"'],
  ['is not with a value', when('note is not "x"'), /“!=”/, 'note != "x"'],
  ['like with both signs', when('note like "%x%"'), /contains/, 'note contains "x"'],
  ['like with one behind', when('note like "x%"'), /starts with/, 'note starts with "x"'],
  ['ilike with one before', when('note ilike "%x"'), /ends with/, 'note ends with "x"'],
  ['an unquoted date', when('due < 2026-05-01'), /quotes/, 'due < "2026-05-01"'],
  ['an unquoted time', when('seen < 2026-05-01T12:00:00Z'), /quotes/, 'seen < "2026-05-01T12:00:00Z"'],
  ['now()', when('seen < now()'), /without brackets/, 'seen < now }'],
  ['today()', when('due = today()'), /without brackets/, 'due = today }'],
  ['straight single quotes', when("note = 'x'"), /double quotes/, 'note = "x"'],
  ['typographic quotes', when('note = “x”'), /double quotes/, 'note = "x"'],
  ['between', when('size between 1 and 5'), /“>=”/, 'size >= 1 and size <= 5'],
  ['a list without brackets', when('status in "new", "old"'), /brackets/, 'status in ("new", "old")'],
  [
    'a list in square brackets',
    when('status in ["new", "old"]'),
    /round brackets/,
    'status in ("new", "old")',
  ],
  ['a # comment', `${schema}# all of it\n`, /“\/\/”/, '// all of it'],
  ['a -- comment', `${schema}-- all of it\n`, /“\/\/”/, '// all of it'],
  ['a /* */ comment', `${schema}/* all of it */\nrole steward`, /“\/\/”/, '// all of it'],
  ['a colon before a type', fields('code: text'), /colon/, 'code text'],
  ['commas between fields', fields('code text,\n note text'), /comma/, 'code text\n note text'],
  ['a semicolon between fields', fields('code text;\n note text'), /semicolon/, 'code text\n note text'],
  ['string', fields('code string'), /“text”/, 'code text'],
  ['varchar', fields('code varchar(20)'), /“text”/, 'code text'],
  ['int', fields('size int'), /“integer”/, 'size integer'],
  ['float', fields('size float'), /“decimal”/, 'size decimal'],
  ['bool', fields('done bool'), /“boolean”/, 'done boolean'],
  ['datetime', fields('at datetime'), /“timestamp”/, 'at timestamp'],
  ['enum', fields('kind enum("a", "b")'), /“one of/, 'kind one of ("a", "b")'],
  ['references', fields('keeper references people'), /ref COLLECTION/, 'keeper ref people'],
  ['ref in brackets', fields('keeper ref(people)'), /without brackets/, 'keeper ref people'],
  ['not null', fields('code text not null'), /“required”/, 'code text required'],
  ['default', fields('size integer default 1'), /“=”/, 'size integer = 1'],
  ['primary key', fields('code text primary key'), /“label”/, 'code text label'],
  ['owner by', fields('code text  keeper ref people  owner by keeper'), /owned by/, 'owned by keeper'],
  ['colection', `${schema}colection frames { code text }`, /“collection”/, 'collection frames'],
  ['table', `${schema}table frames { code text }`, /“collection”/, 'collection frames'],
  ['rule', `${schema}rule hives { people may read (all) }`, /“rules”/, 'rules hives'],
  ['roles', `${schema}roles steward`, /“role”/, 'role steward'],
  ['several roles at once', `${schema}role steward, warden`, /of its own/, 'role steward\nrole warden'],
  ['a title of nothing', fields('code "" text'), /empty title/, 'code  text'],
  ['a role’s title of nothing', `${schema}role steward " "`, /empty title/, 'role steward '],
  [
    'a collection left open',
    `${schema}collection frames { code text\nrules hives { people may read (all) }`,
    /“frames” is still open/,
    '}\nrules hives',
  ],
  [
    'rules left open',
    `${rules('people may read (all)').replace(/ \}$/, '')}\nrules yards { people may read (all) }`,
    /rules of “hives” are still open/,
    '}\nrules yards',
  ],
];

test.each(mistakes)('%s is named, and a fix makes a rulebook of it', (_, text, said, becomes) => {
  const source = { name: 'mistake.gate', text };
  const checked = checkRulebook([source]);
  expect(checked.ok).toBe(false);
  const diagnostics = checked.ok ? [] : checked.diagnostics;
  expect(diagnostics.map(({ message, hint }) => `${message} ${hint ?? ''}`).join('\n')).toMatch(said);
  const { sources, made } = fixed([source], diagnostics);
  expect(made.length).toBeGreaterThan(0);
  expect(sources[0]!.text).toContain(becomes);
  const again = checkRulebook(sources);
  expect(again.ok ? [] : again.diagnostics.map(({ message }) => message)).toEqual([]);
});

test.each<[string, string, RegExp]>([
  ['view', rules('people may view (all)'), /did you mean read/],
  ['edit', rules('people may edit (note)'), /did you mean update/],
  ['insert', rules('people may insert (note)'), /did you mean create/],
  ['remove', rules('people may remove'), /did you mean delete/],
  ['everyone', rules('everyone may read (all)'), /everybody/],
  ['anyone', rules('anyone may read (all)'), /everybody/],
  ['users', rules('users may read (all)'), /people/],
  ['guests', rules('guests may read (all)'), /visitors/],
  ['current_user', when('keeper = current_user'), /me/],
  ['user.level', when('user.level > 1'), /me/],
  ['share for', rules('people may share for read when keeper = me'), /^a rule says who may share/],
  ['share with', rules('people may read, share with everybody'), /^a rule says who may share/],
  ['exists', when('exists (yards)'), /some y in yards has/],
])('%s is told what it is called here', (_, text, said) => {
  const checked = checkRulebook([{ name: 'mistake.gate', text }]);
  const told = checked.ok
    ? ''
    : checked.diagnostics.map(({ message, hint }) => `${message} ${hint ?? ''}`).join('\n');
  expect(told).toMatch(said);
});
