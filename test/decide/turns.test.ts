import { expect, test } from 'vitest';
import { hasSameStanding } from '../../src/core/decide/caller.ts';
import { meetingOf, suffices, type Meeting } from '../../src/core/decide/turns.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import { randomQuestion } from '../agreement/worlds.ts';
import { NOW, inHand, parse } from './in-hand.ts';

test('whatever a decision looked at, the write was said to look at: at other records, or at how many there are', () => {
  const seen = { alone: 0, others: 0, group: 0 };
  for (let round = 0; round < 40; round++) {
    const { dice, text, rulebook, records, world: plain, callers } = inHand(31_000 + round, 3);
    const looked = new Set<string>();
    const ranged = new Set<string>();
    const world = {
      now: NOW,
      look(name: string, id: string) {
        looked.add(`${name} ${id}`);
        return plain.look(name, id);
      },
      all(name: string) {
        ranged.add(name);
        return plain.all(name);
      },
    };
    for (const caller of callers) {
      const decider = new Decider(rulebook, caller, world);
      for (let count = 0; count < 25; count++) {
        const question = randomQuestion(dice, rulebook, records, decider);
        const { operation, collection, record, values } = question;
        if (operation === 'read' || operation === 'share') continue;
        looked.clear();
        ranged.clear();
        const { refusedBy } = decider.decide(question);
        const follows = [null, 'still referenced', 'follows fenced'].includes(refusedBy);
        const refers = [...values.values()].some((value) => typeof value === 'string' && value.length === 36);
        const meeting = meetingOf(rulebook, caller, collection, [operation], refers);
        const told = `round ${round}: ${operation} ${collection} by ${[...caller.roles].join()} looked at ${[...looked].join()} and at all ${[...ranged].join()}, said ${JSON.stringify(meeting)}\n${text}`;
        // What points at a deleted record is looked for among all: that is what follows, and is said to be others.
        if (operation !== 'delete' || !follows)
          for (const name of ranged) {
            expect(meeting.kind, told).toBe('group');
            expect(meetingOf(rulebook, caller, name, ['update'], true), told).toMatchObject({
              group: (meeting as { group: string }).group,
            });
          }
        if ([...looked].some((each) => each !== `${collection} ${record?.id as string}`) || ranged.size > 0)
          expect(meeting.kind, told).not.toBe('alone');
        seen[meeting.kind]++;
      }
    }
  }
  expect(Math.min(...Object.values(seen)), JSON.stringify(seen)).toBeGreaterThan(10);
});

const schema = `
people { grade integer  team ref teams }
collection teams { name text label  chief ref people  parent ref teams  tree by parent }
collection hives { code text label  keeper ref people  status one of ("kept", "retired") }
collection visits { title text label  hive ref hives on delete remove  author ref people  open boolean }
collection notes { title text label  author ref people  hive ref hives  led integer }
role keeper
role lead
`;
const ada = { person: { id: 'ada', values: { id: 'ada', grade: 3 } }, roles: new Set(['keeper']) };
const meeting = (rules: string, collection: string, operation: string, refers = false): Meeting =>
  meetingOf(parse(`${schema}\n${rules}`), ada, collection, [operation], refers);

test.each<[string, string, string, string, Meeting['kind']]>([
  [
    'its own row and who calls',
    'rules notes { keeper may read (all), update (all) when author = me }',
    'notes',
    'update',
    'alone',
  ],
  [
    'a field of the caller’s',
    'rules notes { keeper may read (all), update (all) when me.grade > 2 }',
    'notes',
    'update',
    'others',
  ],
  [
    'the end of a path',
    'rules hives { keeper may read (all), update (all) when keeper.grade > 2 }',
    'hives',
    'update',
    'others',
  ],
  [
    'a tree',
    'accept teams feeds teams because "a test"\nrules teams { keeper may read (all), update (all) when this within me.team }',
    'teams',
    'update',
    'others',
  ],
  [
    'what the caller may do elsewhere',
    'rules hives { keeper may read (all) }\nrules visits { keeper may read (all), update (all) when me may read hive }',
    'visits',
    'update',
    'others',
  ],
  [
    'how many there are',
    'rules hives { keeper may read (all), update (all) when no v in visits has (v.hive = this and v.open) }',
    'hives',
    'update',
    'group',
  ],
  [
    'a collection that others count',
    'rules hives { keeper may read (all), update (all) when no v in visits has (v.hive = this and v.open) }\nrules visits { keeper may read (all), update (all) }',
    'visits',
    'update',
    'group',
  ],
  [
    'nothing that counts, though others are counted',
    'rules hives { keeper may read (all), update (all) when no v in visits has (v.hive = this and v.open) }\nrules notes { keeper may read (all), update (all) }',
    'notes',
    'update',
    'alone',
  ],
  [
    'an attribute that counts',
    'attribute held integer = count(h in hives where h.keeper = me)\naccept hives feeds held because "a test"\nrules notes { keeper may read (all), create (all) when me.held < 2 }',
    'notes',
    'create',
    'group',
  ],
  [
    'what an attribute counts',
    'attribute held integer = count(h in hives where h.keeper = me)\naccept hives feeds held because "a test"\nrules hives { keeper may read (all), create (all) }',
    'hives',
    'create',
    'group',
  ],
  [
    'a role by a condition',
    'role senior includes lead when me.grade > 2\nrules notes { lead may read (all), update (all)  keeper may read (all), update (all) }',
    'notes',
    'update',
    'others',
  ],
  [
    'a role by a condition, in what it asks',
    'role senior includes lead when me.grade > 2\nrules notes { keeper may read (all), update (all) when me has role lead }',
    'notes',
    'update',
    'others',
  ],
  [
    'a role by a condition, in whom a fence lets by',
    'role senior includes lead when me.grade > 2\nrules notes { keeper may read (all), update (all)  nobody but lead may update unless author = me }',
    'notes',
    'update',
    'others',
  ],
  [
    'a role that counts',
    'role senior includes lead when some h in hives has (h.keeper = me)\naccept hives feeds senior because "a test"\nrules notes { lead may read (all), update (all)  keeper may read (all), update (all) }',
    'notes',
    'update',
    'group',
  ],
  [
    'a role that nobody holds by a condition',
    'role senior includes lead when me.grade > 2\nrules notes { keeper may read (all), update (all) }',
    'notes',
    'update',
    'alone',
  ],
  ['what goes along', 'rules hives { keeper may read (all), delete }', 'hives', 'delete', 'others'],
  ['nothing that goes along', 'rules notes { keeper may read (all), delete }', 'notes', 'delete', 'alone'],
  [
    'a fence that counts, on what goes along',
    'rules hives { keeper may read (all), delete }\nrules visits { nobody may delete unless no n in notes has (n.author = me) }',
    'hives',
    'delete',
    'group',
  ],
  [
    'a stamp from beyond',
    'rules visits { keeper may read (all)  keeper may update (title) stamp author = me.team.chief }',
    'visits',
    'update',
    'others',
  ],
  [
    'a tree, of the row itself',
    'rules teams { keeper may read (all)  keeper may delete when this within parent }',
    'teams',
    'delete',
    'others',
  ],
  [
    'what an action takes from the caller',
    'action rank on notes sets led = me.grade\nrules notes { keeper may read (all), rank }',
    'notes',
    'rank',
    'others',
  ],
  [
    'what an action takes from nowhere',
    'action rank on notes sets led = 3, author = me\nrules notes { keeper may read (all), rank }',
    'notes',
    'rank',
    'alone',
  ],
  [
    'nothing, where no rule lets them',
    'rules notes { keeper may read (all)  nobody may update unless no t in teams has (t.chief = me) }',
    'notes',
    'update',
    'alone',
  ],
  [
    'a tree that it hangs in',
    'rules teams { keeper may read (all), update (all) }',
    'teams',
    'update',
    'others',
  ],
])('a write that looks at %s', (_, rules, collection, operation, kind) => {
  expect(meeting(rules, collection, operation).kind).toBe(kind);
});

const open = 'may read (all), update (all), create (all)';
const counts = 'no t in teams has (t.chief = me)';
/** Which collections take turns with each other, beside hives and visits, of which the one goes along with the other. */
function groups(rules: string): string {
  const rulebook = parse(`${schema}\n${rules}`);
  const members = new Map<string, string[]>();
  for (const name of rulebook.schema.keys()) {
    const { group } = meetingOf(rulebook, ada, name, ['update'], true) as { group: string };
    members.set(group, [...(members.get(group) ?? []), name]);
  }
  return [...members.values()]
    .filter((all) => all.length > 1 && all.toSorted().join(' ') !== 'hives visits')
    .map((all) => all.toSorted().join(' '))
    .toSorted()
    .join(', ');
}

const whole = ['people', 'teams', 'hives', 'visits', 'notes'];
const anyFeeds = (...names: string[]) =>
  whole.flatMap((one) => names.map((name) => `accept ${one} feeds ${name} because "a test"`)).join('\n');

test.each<[string, string, string]>([
  ['nothing that counts', `rules notes { keeper ${open} when author = me }`, ''],
  ['a rule', `rules notes { keeper ${open} when ${counts} }`, 'notes teams'],
  ['a fence', `rules notes { keeper ${open}  nobody may delete unless ${counts} }`, 'notes teams'],
  [
    'an action',
    `action sign on notes sets author = me\nrules notes { keeper may read (all)  keeper may sign when ${counts} }`,
    'notes teams',
  ],
  [
    'an action of another collection',
    `action sign on notes sets author = me\nrules hives { keeper ${open} }\nrules notes { keeper may read (all)  keeper may sign when ${counts} }`,
    'notes teams',
  ],
  ['sharing', `rules notes { keeper ${open}  people may share when ${counts} }`, 'notes teams'],
  [
    'a role, of whom it speaks',
    `role senior includes lead when some t in teams has (t.chief = me)\n${anyFeeds('senior', 'teams')}\nrules notes { lead ${open} }\nrules hives { people ${open} }`,
    'notes teams',
  ],
  [
    'a role, whom it lets by',
    `role senior includes lead when some t in teams has (t.chief = me)\n${anyFeeds('senior', 'teams')}\nrules notes { people ${open}  nobody but lead may update }\nrules hives { people ${open}  nobody may update unless keeper = me }`,
    'notes teams',
  ],
  [
    'a role, for which it asks',
    `role senior includes lead when some t in teams has (t.chief = me)\n${anyFeeds('senior', 'teams')}\nrules notes { people ${open} when me has role lead }\nrules hives { people ${open} }`,
    'notes teams',
  ],
  [
    'an attribute',
    `attribute led integer = count(t in teams where t.chief = me)\n${anyFeeds('led')}\nrules notes { people ${open} when me.led > 1 }\nrules hives { people ${open} when keeper = me }`,
    'notes teams',
  ],
  [
    'an attribute that is a list of those for which others are counted',
    `attribute led list of ref teams = every t for t in teams where no n in notes has (n.author = t.chief)\n${anyFeeds('led')}\nrules hives { people ${open} when keeper.team in me.led }`,
    'hives notes teams visits',
  ],
  [
    'a claim, which counts nothing',
    `claim led text from "led"\nrules notes { people ${open} when title = me.led }`,
    '',
  ],
  [
    'what else the caller may do',
    `rules hives { keeper may read (all), update (all) when ${counts} }\nrules notes { keeper ${open} when me may update hive (code) }`,
    'hives notes teams visits',
  ],
  [
    'what may be read, before what may be done',
    `rules hives { keeper may read (all) when ${counts}  keeper may update (all) }\nrules notes { keeper ${open} when me may update hive (code) }`,
    'hives notes teams visits',
  ],
  [
    'no attribute, where a field of the record has the same name',
    `attribute led integer = count(t in teams where t.chief = me)\n${anyFeeds('led')}\nrules notes { people ${open} when led > 1 }`,
    '',
  ],
])('those take turns whose writes are decided by counting each other: by %s', (_, rules, expected) => {
  expect(groups(rules)).toBe(expected);
});

test('what goes along is joined over any number of steps, and what loses a reference ends them', () => {
  const text = (onDelete: string) => `collection a { x text label }
    collection b { x text label  up ref a on delete ${onDelete} }
    collection c { x text label  up ref b on delete remove }
    collection d { x text label }
    rules a { people may read (all), delete when x = "x" }
    rules d { people may read (all), update (all) }`;
  const of = (onDelete: string) => {
    const rulebook = parse(text(onDelete));
    const group = (name: string) =>
      (meetingOf(rulebook, ada, name, ['delete'], true) as { group: string }).group;
    return ['b', 'c', 'd'].map((name) => group(name) === group('a'));
  };
  expect(of('remove')).toEqual([true, true, false]);
  const rulebook = parse(text('clear').replace('up ref b on delete remove', 'up ref b'));
  const group = (name: string) =>
    (meetingOf(rulebook, ada, name, ['delete'], true) as { group: string }).group;
  expect([group('b') === group('a'), group('c') === group('b')]).toEqual([true, false]);
});

test('a reference to what everybody may read is left to the foreign key', () => {
  const rules = (read: string) => `rules hives { keeper may read (all)${read} }
    rules notes { keeper may read (all), create (all) when author = me }`;
  const kinds = (read: string, more = '') =>
    meeting(`rules people { keeper may read (all) }\n${rules(read)}\n${more}`, 'notes', 'create', true).kind;
  expect(kinds('')).toBe('alone');
  expect(kinds(' when code = "x"')).toBe('others');
  expect(kinds('', 'rules hives { nobody may read unless code = "x" }')).toBe('others');
});

test('what goes along by steps is asked its fences, and what loses a reference ends them', () => {
  const kind = (onDelete: string) =>
    meetingOf(
      parse(`collection a { x text label }
        collection b { x text label  up ref a on delete ${onDelete} }
        collection c { x text label  up ref b on delete remove }
        rules a { people may read (all), delete }
        rules c { nobody may delete unless no b in b has (b.x = "x") }`),
      ada,
      'a',
      ['delete'],
      false,
    ).kind;
  // That fences on c look at how many b there are makes every write of b take turns, also of one that goes along.
  expect(kind('remove')).toBe('group');
  const further = (onDelete: string) =>
    meetingOf(
      parse(`collection a { x text label }
        collection b { x text label  up ref a on delete ${onDelete} }
        collection c { x text label  up ref b on delete remove }
        collection d { x text label }
        rules a { people may read (all), delete }
        rules c { nobody may delete unless no d in d has (d.x = "x") }`),
      ada,
      'a',
      ['delete'],
      false,
    ).kind;
  expect([further('remove'), further('clear')]).toEqual(['group', 'others']);
});

test('a reference that is given is looked up, and so is what is shared', () => {
  const rules = 'rules notes { keeper may read (all), update (all)  people may share }';
  expect(meeting(rules, 'notes', 'update', true).kind).toBe('others');
  const shared = [{ collection: 'notes', operation: 'update', sharer: ada, records: ['n'] }] as const;
  const kind = (collection: string) =>
    meetingOf(
      parse(`${schema}\n${rules}\nrules hives { keeper may read (all), update (all) }`),
      { ...ada, shared },
      collection,
      ['update'],
      false,
    ).kind;
  expect([kind('notes'), kind('hives')]).toEqual(['others', 'alone']);
});

test('what was got ready is enough only where it is as strong as what turns out to be needed', () => {
  const kinds: Meeting[] = [{ kind: 'alone' }, { kind: 'others', group: 'g' }, { kind: 'group', group: 'g' }];
  expect(kinds.map((one) => kinds.map((other) => suffices(one, other)))).toEqual([
    [true, false, false],
    [true, true, false],
    [true, true, true],
  ]);
});

test('callers are alike where they are both people, or both none, and hold the same roles; with shares, never', () => {
  const visitor = { person: null, roles: new Set<string>() };
  const ben = { person: { id: 'ben', values: { id: 'ben' } }, roles: new Set(['keeper']) };
  const chief = { ...ben, roles: new Set(['lead']) };
  const both = { ...ben, roles: new Set(['keeper', 'lead']) };
  expect([hasSameStanding(ada, ben), hasSameStanding(visitor, visitor)]).toEqual([true, true]);
  const shared = [{ collection: 'notes', operation: 'read', sharer: ben, records: [] }] as const;
  for (const [one, other] of [
    [ada, visitor],
    [{ ...ada, roles: new Set<string>() }, visitor],
    [ada, chief],
    [ada, both],
    [both, ada],
    [ada, { ...ben, shared }],
    [{ ...ada, shared }, ben],
  ] as const)
    expect(hasSameStanding(one, other)).toBe(false);
});

test('a write that points at records looks at what makes those readable, and is of one group with it', () => {
  const rules = `rules hives { keeper may read (all) when no v in visits has (v.hive = this and v.open) }
    rules notes { keeper may read (all), create (all) }
    rules visits { keeper may read (all), update (open) }`;
  const pointing = meeting(rules, 'notes', 'create', true);
  expect(pointing.kind).toBe('group');
  expect(meeting(rules, 'visits', 'update')).toEqual(pointing);
  expect(meeting(rules, 'notes', 'create', false).kind).toBe('alone');
});
