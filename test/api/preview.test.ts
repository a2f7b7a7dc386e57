import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import type { EffectDocument, Preview } from '../../src/client/desk.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

/** What a draft would change, told before, is what has changed once it is in force. */
const rulebook = (rules: string, more = '') => `
people { district text }
collection hives {
  code text required label
  keeper ref people
  state one of ("open", "closed") = "open"
  notes text
  price decimal sensitive
  owned by keeper
}
collection crews { name text required label  lead ref people }
role keeper
role clerk
role office
action close on hives sets state = "closed"
action note on hives (text text required) sets notes = text
rules people { people may read (name, district), update (name) when mine }
rules crews { people may read (all)  office may update (all) }
rules hives {
  keeper may read (all), create (code), update (notes, state), delete when mine stamp keeper = me
  ${rules}
}
test identity ada { name "Ada" email "ada@hollowoak.example" district "north" roles keeper }
test identity ben { name "Ben" email "ben@hollowoak.example" district "south" roles keeper }
test identity cleo { name "Cleo" email "cleo@hollowoak.example" district "north" roles clerk }
test identity olga { name "Olga" roles office }
${more}`;
const before = rulebook(`
  clerk may read (code, notes), update (state) when state = "open"
  everybody may read (code) when keeper is missing
  nobody but office may read (price) unless keeper = me
  keeper may close when mine and old.state = "open"`);
const file = (text: string) => ({ files: [{ name: 'main.gate', text }] });
const everybody = ['ada', 'ben', 'cleo', 'olga', 'visitor'];

let world: World;
beforeAll(async () => {
  world = await openWorld(before);
  await run(
    world.database,
    sql`insert into records.hives (id, code, keeper, state, notes, price, created_at, updated_at)
      select gen_random_uuid(), 'H-' || lpad(n::text, 2, '0'),
        case n % 4 when 0 then null else (select id from records.people where _identity = (array['ada', 'ben', 'cleo'])[n % 4]) end,
        case when n % 3 = 0 then 'closed' else 'open' end, case when n % 5 > 0 then 'n' end, n, now(), now()
      from generate_series(1, 40) as n`,
  );
});
afterAll(() => world.close());
beforeEach(() => world.desk.publish({ ...file(before), despite: 'each begins with the same' }));

/** What everybody sees and may do, as the service serves it: `WHO read hives.code` → labels. */
async function served(): Promise<Map<string, Set<string>>> {
  const found = new Map<string, Set<string>>();
  const add = (key: string, label: string) => found.set(key, (found.get(key) ?? new Set()).add(label));
  for (const name of everybody) {
    const looked = await world.desk.look('hives', name === 'visitor' ? null : name, {
      limit: 100,
      rights: true,
    });
    for (const record of looked.records) {
      const label = (record.code ?? record.id) as string;
      add(`${name} read hives`, label);
      for (const field of Object.keys(record))
        if (!(field === 'id' || field.startsWith('_'))) add(`${name} read hives.${field}`, label);
      const rights = record._rights!;
      for (const field of rights.update) add(`${name} update hives.${field}`, label);
      if (rights.update.length > 0) add(`${name} update hives`, label);
      if (rights.delete) add(`${name} delete hives`, label);
      for (const action of rights.actions) add(`${name} ${action} hives`, label);
    }
  }
  return found;
}

/** Differences of two such maps, as the preview tells them. */
function changed(
  was: Map<string, Set<string>>,
  is: Map<string, Set<string>>,
): Record<string, [number, number]> {
  const told: Record<string, [number, number]> = {};
  for (const key of new Set([...was.keys(), ...is.keys()])) {
    const [a, b] = [was.get(key) ?? new Set(), is.get(key) ?? new Set()];
    const [gained, lost] = [
      [...b].filter((each) => !a.has(each)).length,
      [...a].filter((each) => !b.has(each)).length,
    ];
    if (gained + lost > 0) told[key] = [gained, lost];
  }
  return told;
}

const foretold = ({ effects }: Preview): Record<string, [number, number]> =>
  Object.fromEntries(
    effects!.flatMap(({ collection, operation, field, who }: EffectDocument) =>
      who
        .filter(() => collection === 'hives' && operation !== 'share')
        .map(({ name, gained, lost }): [string, [number, number]] => [
          `${name} ${operation} ${collection}${field === null ? '' : `.${field}`}`,
          [gained, lost],
        ]),
    ),
  );

test.each([
  [
    'a rule is wider',
    'clerk may read (code, notes, price), update (state)\n  everybody may read (code) when keeper is missing',
  ],
  [
    'one condition for another',
    `clerk may read (code, notes), update (state) when keeper.district = me.district
    everybody may read (code) when keeper is missing or state = "open"
    nobody but office may read (price) unless keeper = me`,
  ],
  [
    'a fence comes',
    `clerk may read (code, notes), update (state) when state = "open"
    everybody may read (code) when keeper is missing
    nobody but office may read (price, notes)
    nobody may delete unless state = "closed"
    nobody but clerk may update unless notes is present
    keeper may close when mine and old.state = "open"
    nobody may close unless old.notes is present`,
  ],
  [
    'actions are for others',
    `clerk may read (code, notes), update (state) when state = "open"
    everybody may read (code) when keeper is missing
    nobody but office may read (price) unless keeper = me
    clerk may close when old.state = "open" and keeper.district = me.district
    keeper may note when mine and new.notes != old.notes
    people may note when keeper is missing and notes is missing`,
  ],
  ['nothing is left', ''],
  ['identities hold other roles', 'clerk may read (all)', 'role guest'],
])('%s: what is foretold is what comes', async (_, rules, more = '') => {
  const after = rulebook(rules, more).replace(more === '' ? '\u0000' : 'roles clerk', 'roles keeper');
  const was = await served();
  const foreseen = await world.desk.preview(file(after));
  expect(await served(), 'nothing is saved').toEqual(was);
  await world.desk.publish({ ...file(after), despite: 'to compare' });
  const is = await served();
  expect(foretold(foreseen)).toEqual(changed(was, is));
  expect(Object.keys(foretold(foreseen)).length).toBeGreaterThan(2);
  const acts = Object.keys(foretold(foreseen)).filter((each) => / (close|note) /.test(each));
  expect(acts.length, 'actions among them').toBeGreaterThan(0);
});

test('an action that does something else, or points at what others may read, is counted for all whom that concerns', async () => {
  const counted = async (text: string) => foretold(await world.desk.preview(file(text)));
  const crew = '$&  action lead on crews (to ref people required) sets lead = to';
  const leading = before
    .replace(/action note.*/, crew)
    .replace('office may update (all) }', 'office may update (all)  people may lead }');
  await world.desk.publish({ ...file(leading), despite: 'to compare' });
  await run(
    world.database,
    sql`insert into records.crews (id, name, created_at, updated_at) values (gen_random_uuid(), 'Led', now(), now())`,
  );
  // It does what its own rule no longer lets it do.
  const other = leading.replace(
    'action close on hives sets state = "closed"',
    'action close on hives sets keeper = missing',
  );
  expect(Object.keys(await counted(other))).toEqual(['ada close hives', 'ben close hives']);
  const { effects } = await world.desk.preview(
    file(
      leading.replace('people may read (name, district), update (name) when mine', 'office may read (name)'),
    ),
  );
  const lost = effects!.filter(({ operation }) => operation === 'lead');
  expect(lost.map(({ collection, danger }) => [collection, danger])).toEqual([['crews', 'less']]);
  expect(lost[0]!.who.map(({ name }) => name)).toEqual(['ada', 'ben', 'cleo']);
});

test('an action that is not decided, and somebody for whom none was counted, is said', async () => {
  const said = async (text: string) => (await world.desk.preview(file(text))).notCovered.join('; ');
  const open = 'keeper may note when mine and lower(new.notes) = "yes" and new.notes != "yes"';
  expect(await said(`${before}`)).not.toContain('action');
  expect(await said(before.replace('keeper may close', `${open}\n  keeper may close`))).toContain(
    'of some records it is not decided who may carry out an action: note hives',
  );
  // Of records that they cannot read there is nothing to decide.
  const unread = before
    .replace('everybody may read (code) when keeper is missing', '')
    .replace(
      'keeper may close',
      `${open.replace('keeper', 'office').replace('mine and ', '')}\n  keeper may close`,
    );
  expect(await said(unread)).not.toContain('not decided who may carry out');
  const sharing = before.replace('keeper may close', 'people may share when mine\n  keeper may close');
  await world.desk.publish({ ...file(sharing), despite: 'to share' });
  const { records } = await world.desk.look('hives', 'ada', { limit: 100 });
  // Of others that she sees she sees no keeper.
  const { id } = records.find(({ keeper }) => typeof keeper === 'string')!;
  const share = { audience: 'everybody' };
  const shared = await world.ask('POST', `/v1/records/hives/${id}/shares`, { as: 'ada', body: share });
  expect(shared.status, shared.text).toBe(201);
  expect(await said(sharing.replace('and old.state = "open"', ''))).toContain(
    'actions are not counted for everybody, such as those to whom something is shared: hives',
  );
});

test('the worst comes first, who is locked out is named, and what nobody could change any more', async () => {
  const after = before
    .replace('everybody may read (code) when', 'everybody may read (code, price) when')
    .replace(
      'clerk may read (code, notes), update (state) when state = "open"',
      'clerk may read (code) when state = "open" and keeper = me and code = "none"',
    )
    .replace('nobody but office may read (price) unless keeper = me', '')
    .replace('office may update (all)', '');
  await run(
    world.database,
    sql`insert into records.crews (id, name, created_at, updated_at) values (gen_random_uuid(), 'North', now(), now())`,
  );
  const report = await world.desk.preview(file(after));
  expect(report.effects![0]).toMatchObject({
    danger: 'visitors',
    field: 'price',
    operation: 'read',
    sensitive: true,
  });
  expect(report.effects!.at(-1)).toMatchObject({ danger: 'less' });
  expect(report.frozen).toEqual(['crews']);
  expect(report.beside.find(({ operation }) => operation === 'delete')!.sentences).toEqual([
    expect.stringContaining('keeper may read (all), create (code)'),
  ]);
  // Cleo still reads what has no keeper.
  expect(report.lockedOut).toEqual([]);
  // What one can no longer change others still can, for whom nothing changes.
  const narrower = before.replace(
    'clerk may read (code, notes), update (state)',
    'clerk may read (code, notes)',
  );
  const some = await world.desk.preview(file(narrower));
  expect(some.effects!.map(({ operation, lost }) => [operation, lost > 0])).toContainEqual(['update', true]);
  expect(some.frozen).toEqual([]);
  const none = await world.desk.preview(file(rulebook('')));
  expect(none.lockedOut).toEqual(
    ['visitor', 'cleo', 'olga'].map((name) => expect.objectContaining({ name, collection: 'hives' })),
  );
});

test('without an unlock nobody is named and no record that is gained; and what was not looked at is said', async () => {
  await run(
    world.database,
    sql`insert into records.people (id, name, email, created_at, updated_at)
      select gen_random_uuid(), 'P ' || n, 'p' || n || '@hollowoak.example', now(), now() from generate_series(1, 7) n`,
  );
  const { secret } = await world.desk.makeKey({ name: 'reviewer', level: 'author', areas: ['proof'] });
  const after = file(
    before.replace('everybody may read (code) when keeper is missing', 'people may read (code)'),
  );
  const asked = async (token: string) =>
    (await world.ask('POST', '/v1/desk/preview', { token, body: after })).json as Preview;
  const locked = JSON.stringify(await asked(secret));
  expect(locked).not.toMatch(/p\d@hollowoak|P \d|"more":\["/);
  expect(locked).toContain('after an unlock');
  // Of three people not even a number is told: that would tell of each.
  const rule = 'everybody may read (code) when keeper is missing';
  const few = file(before.replace(rule, `${rule}\n  people may read (code) when me.name = "P 1"`));
  const told = await world.ask('POST', '/v1/desk/preview', { token: secret, body: few });
  const ofFew = (told.json as Preview).effects!.filter(
    ({ collection, field, gained }) => collection === 'hives' && field === 'code' && gained > 0,
  );
  expect(ofFew).toEqual([]);
  expect((told.json as Preview).withheld, 'and nobody takes that for nothing').toBe(true);
  expect(told.text).toContain('what fewer than 5 people gain or lose');
  const seen = (await world.desk.preview(few)).effects!.find(
    ({ field, gained }) => field === 'code' && gained > 0,
  );
  expect(seen!.who.map(({ name }) => name)).toContain('p1@hollowoak.example');
  expect((await world.desk.preview(few)).withheld).toBe(false);
  const open = await asked(world.deskToken);
  const code = open.effects!.find(({ operation, field }) => operation === 'read' && field === 'code')!;
  expect(code.who.filter(({ kind }) => kind === 'person')).toHaveLength(7);
  expect(code.who.find(({ kind }) => kind === 'person')).toMatchObject({
    gained: 30,
    lost: 0,
    more: [expect.stringMatching(/^H-/), expect.stringMatching(/^H-/)],
  });
  // Whoever may delete a crew now takes something from hives, too: that is not counted, and said.
  const crews = before.replace(
    'notes text',
    'notes text  crew ref crews on delete clear  next ref hives on delete remove',
  );
  const deletes = file(crews.replace('office may update (all) }', 'office may update (all), delete }'));
  expect((await world.desk.preview(file(crews))).notCovered.join()).not.toContain('goes along');
  await run(
    world.database,
    sql`insert into records.crews (id, name, created_at, updated_at) values (gen_random_uuid(), 'C', now(), now())`,
  );
  expect((await world.desk.preview(deletes)).notCovered).toContain(
    'what goes along with a deletion, or loses a reference by it, is not counted: hives',
  );
  const other = await world.desk.preview(file(before.replace('notes text', 'notes text\n  size integer')));
  expect(other.effects!.map(({ operation, field }) => [operation, field])).toEqual(
    expect.arrayContaining([['read', 'size']]),
  );
  expect(other).toMatchObject({
    // What “(all)” says is more than it was.
    differences: [
      { what: 'field hives.size', how: 'new' },
      { what: 'rule of hives', words: 'keeper may read, create, update, delete hives: read also size' },
    ],
    kept: { changes: [], problems: [] },
  });
});

test('a publication that names a preview is of what was looked at, and what that counted is kept, in numbers alone', async () => {
  const after = before.replace('everybody may read (code) when keeper is missing', 'people may read (code)');
  const published = async (body: object) => {
    const { status, json } = await world.ask('POST', '/v1/desk/publications', {
      token: world.deskToken,
      body,
    });
    return status === 200 ? json.version : json.type.split('/').at(-1);
  };
  const shown = await world.desk.preview(file(after));
  const { digest } = shown;
  const named = { ...file(after), preview: digest };
  expect(await published({ ...file(`${after}\n`), preview: digest }), 'of another text').toBe(
    'other-preview',
  );
  expect(await published({ ...named, takeBack: ['hives'] }), 'that takes something back').toBe(
    'other-preview',
  );
  expect(await published({ ...named, preview: 'A'.repeat(43) }), 'that nobody saw').toBe('other-preview');
  expect(await published({ ...named, preview: 'made' })).toBe('malformed-request');
  const age = (hours: string) =>
    run(world.database, sql`update gate.previews set made_at = now() - ${value(hours)}::interval`);
  await age('24 hours 1 second');
  expect(await published(named), 'that is too old').toBe('other-preview');
  await age('23 hours 59 minutes');
  const version = await published(named);
  expect(version).toBe(shown.base! + 1);
  const { preview } = await world.desk.version(version);
  const read = preview!.effects!.find(
    ({ operation, fields }) => operation === 'read' && fields.includes('code'),
  )!;
  expect(read).toEqual({
    collection: 'hives',
    operation: 'read',
    fields: expect.arrayContaining(['code']),
    danger: 'more',
    gained: expect.any(Number),
    lost: expect.any(Number),
    callers: expect.any(Number),
  });
  const seen = shown.effects!.find(({ operation, field }) => operation === 'read' && field === 'code')!;
  expect([read.gained, read.lost, read.callers]).toEqual([
    seen.gained,
    seen.lost,
    seen.who.length + seen.others,
  ]);
  expect(JSON.stringify(preview)).not.toMatch(/p\d@hollowoak|H-\d|cleo/);
  expect(await published(named), 'against another version').toBe('other-preview');
  // Nobody looked: one is made, or none is kept.
  const made = await published({ ...file(before), preview: 'make' });
  expect((await world.desk.version(made)).preview).toMatchObject({
    frozen: [],
    made_by: 'development: test',
  });
  const without = await published(file(after));
  expect((await world.desk.version(without)).preview).toBe(null);
  // One who may publish, and do nothing else, has one made as well.
  const { secret } = await world.desk.makeKey({ name: 'deploy', level: 'publisher', areas: ['rulebook'] });
  await world.ask('POST', '/v1/desk/unlock', { token: secret, body: { reason: 'the nightly publication' } });
  const nightly = await world.ask('POST', '/v1/desk/publications', {
    token: secret,
    body: { ...file(before), preview: 'make' },
  });
  expect(nightly.status, nightly.text).toBe(200);
});
