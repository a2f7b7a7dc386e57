import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

/** The semantics of the record routes that the demo does not show: shapes, orders, tags, groups of create rules. */
const rulebook = `
people { crew ref crews }
collection crews { name text required label  lead ref people }
collection notes "Things written down" {
  title     text required label
  author    ref people
  editor    ref people
  crew      ref crews
  kind      one of ("plain", "urgent") = "plain"
  weight    decimal
  length    integer
  due       date
  written   timestamp = now
  above     ref notes
  hidden    text
  owned by author
}
role writer  role clerk  role mover  role maker  role blind
rules crews { people may read }
rules notes {
  writer may read (all but hidden), create (title, kind, weight, length, due, above, crew), update (title, kind, weight, length, due, above, written), delete
    when author = me stamp author = me
  clerk may read (all), update (hidden, editor) when kind = "urgent"
  clerk may create (title, kind) when kind = "urgent" stamp editor = me
  mover may read (all), update (crew) when crew.lead = me
  maker may create (title) stamp author = me
  maker may create (title) stamp editor = me
  blind may create (title)
}
test identity wanda  { email "wanda@hollowoak.example" roles writer }
test identity carl   { email "carl@hollowoak.example"  roles clerk }
test identity moira  { email "moira@hollowoak.example" roles mover, writer }
test identity max    { email "max@hollowoak.example"   roles maker }
test identity blanca { email "blanca@hollowoak.example" roles blind }
test identity wilma  { email "wilma@hollowoak.example" roles writer, clerk }
`;

let world: World;
beforeAll(async () => {
  world = await openWorld(rulebook);
});
afterAll(() => world.close());

const notes = '/v1/records/notes';
const make = async (as: string, body: object) => world.ask('POST', notes, { as, body });

describe('create', () => {
  test('fills in stamps, then defaults, and says where the record is', async () => {
    const { status, json, headers } = await make('wanda', {
      title: 'one',
      weight: '1.50',
      length: 3,
      due: '2026-02-28',
    });
    expect(status).toBe(201);
    expect(headers.get('location')).toBe(`${notes}/${json.id}`);
    expect(json).toMatchObject({
      kind: 'plain',
      weight: '1.50',
      length: 3,
      due: '2026-02-28',
      above: null,
      _withheld: ['hidden'],
    });
    expect(json.written).toBe(json.created_at);
    expect(json.id).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7/);
    expect(json).not.toHaveProperty('hidden');
  });

  test('of very many keys that are no fields the first twenty are told', async () => {
    const body = Object.fromEntries(Array.from({ length: 5_000 }, (_, index) => [`titel${index}`, 1]));
    const { status, json } = await make('wanda', body);
    expect([status, json.errors.length, json.errors[0].field]).toEqual([400, 20, 'titel0']);
  });

  test('a key with null is supplied: it needs a rule, and keeps the default away', async () => {
    expect((await make('wanda', { title: 'no kind', kind: null })).json.kind).toBeNull();
    expect((await make('wanda', { title: 'x', hidden: null })).json).toMatchObject({
      status: 403,
      fields: ['hidden'],
    });
    expect((await make('wanda', { title: null })).status, 'a required field cannot be null').toBe(400);
    expect((await make('wanda', {})).json).toMatchObject({ status: 422, fields: ['title'] });
  });

  test('rules with other stamps are tried apart; where two would make different records none is made', async () => {
    expect((await make('max', { title: 'whose' })).status).toBe(403);
    expect(
      (await make('wilma', { title: 'a plain one', weight: '1' })).json.editor,
      'only the writer’s group takes a weight',
    ).toBeNull();
    const urgent = await make('wilma', { title: 'which', kind: 'urgent' });
    expect(urgent.status, 'both groups would take it, with different stamps').toBe(403);
    expect((await make('carl', { title: 'plain', kind: 'plain' })).status).toBe(403);
    expect((await make('carl', { title: 'urgent one', kind: 'urgent' })).status).toBe(201);
  });

  test('who may create and not read gets the id and nothing else', async () => {
    const { status, json } = await make('blanca', { title: 'into the dark' });
    expect(status).toBe(201);
    expect(Object.keys(json)).toEqual(['id']);
    expect((await world.ask('GET', `${notes}/${json.id}`, { as: 'blanca' })).status).toBe(404);
  });

  test('a clash of unique values is told after everything else was allowed', async () => {
    expect((await make('wanda', { title: 'one' })).json).toMatchObject({ status: 409, fields: ['title'] });
    expect((await make('carl', { title: 'one', kind: 'plain' })).status).toBe(403);
  });
});

describe('values', () => {
  test.each([
    ['length', 1.5],
    ['length', '3'],
    ['length', 9007199254740992],
    ['weight', 1.5],
    ['weight', '1e3'],
    ['weight', 'NaN'],
    ['weight', 'Infinity'],
    ['due', '2026-02-30'],
    ['due', '2026-2-3'],
    ['written', '2026-05-01T12:00:00'],
    ['written', '2026-05-01T24:00:00Z'],
    ['written', '2026-05-01T12:00:00.0000001Z'],
    ['kind', 'other'],
    ['above', 'one'],
    ['title', 7],
    ['title', 'a\u0000b'],
    ['title', '\uD800'],
    ['titel', 'x'],
    ['id', '00000000-0000-7000-8000-000000000000'],
    ['created_at', '2026-05-01T12:00:00Z'],
    ['__proto__', 'x'],
    ['constructor', 'x'],
    ['_active', false],
  ])('%s = %j is refused with its name, and nothing is made', async (field, value) => {
    const body = `{"title":"never",${JSON.stringify(field)}:${JSON.stringify(value)}}`.replace(
      '{"title":"never","title"',
      '{"title"',
    );
    const { status, json } = await world.ask('POST', notes, { as: 'wanda', body });
    expect(status).toBe(400);
    expect(json.errors[0].field).toBe(field);
    expect((await (await world.as('wanda')).list('notes', { where: 'title = "never"' })).records).toEqual([]);
  });

  test('every type comes back as it went in, at its edges', async () => {
    const edges = {
      length: -9007199254740991,
      weight: '-99999999999999999999.000000000000000000000000000001',
      due: '0001-01-01',
      kind: 'urgent',
      title: '😀 "quoted" \\ \n\u202E',
    };
    const { json } = await make('wanda', edges);
    expect(json).toMatchObject(edges);
    const changed = await world.ask('PATCH', `${notes}/${json.id}`, {
      as: 'wanda',
      body: { written: '9999-12-31T23:30:00.123456-00:29' },
    });
    expect(changed.json.written).toBe('9999-12-31T23:59:00.123456Z');
  });
});

describe('update', () => {
  test('a supplied field must be covered by one rule that is true on both sides, changed or not', async () => {
    const { json } = await make('wanda', { title: 'two', kind: 'urgent' });
    const asCarl = (body: object) => world.ask('PATCH', `${notes}/${json.id}`, { as: 'carl', body });
    expect((await asCarl({ hidden: 'seen by clerks' })).json.hidden).toBe('seen by clerks');
    expect((await asCarl({ title: 'two' })).json, 'supplied but unchanged counts as supplied').toMatchObject({
      status: 403,
      fields: ['title'],
    });
    const asWanda = await world.ask('PATCH', `${notes}/${json.id}`, {
      as: 'wanda',
      body: { title: 'two!', kind: 'plain' },
    });
    expect(asWanda.status).toBe(200);
    expect((await asCarl({ hidden: 'again' })).status, 'no longer urgent: gone from the clerk’s sight').toBe(
      404,
    );
  });

  test('one rule for all: what two rules give in part is not mixed', async () => {
    const { json } = await make('wilma', { title: 'three', weight: '2' });
    // The writer's rule covers the title, the clerk's the hidden field; together they cover both, each being true.
    expect(
      (await world.ask('PATCH', `${notes}/${json.id}`, { as: 'wilma', body: { hidden: 'x' } })).json,
    ).toMatchObject({ status: 403, fields: ['hidden'] });
    expect(
      (
        await world.ask('PATCH', `${notes}/${json.id}`, {
          as: 'wilma',
          body: { kind: 'urgent', hidden: 'x' },
        })
      ).status,
      'the clerk’s rule is not true before',
    ).toBe(403);
  });

  test('a path that comes back to the record sees it as it would be', async () => {
    const [crew] = await run<{ id: string }>(
      world.database,
      sql`insert into records.crews (id, name, lead, created_at, updated_at)
        select gen_random_uuid(), 'red', id, now(), now() from records.people where _identity = 'moira' returning id`,
    );
    const { json } = await make('moira', { title: 'four', crew: crew!.id });
    const gone = await world.ask('PATCH', `${notes}/${json.id}`, { as: 'moira', body: { crew: null } });
    expect(gone.status, 'moved out of one’s own reach: not true on the new side').toBe(403);
  });

  test('null takes a value away; an empty change needs a rule and changes nothing', async () => {
    const { json } = await make('wanda', { title: 'five', length: 5 });
    const path = `${notes}/${json.id}`;
    const cleared = await world.ask('PATCH', path, {
      as: 'wanda',
      body: '{"length":null}',
      headers: { 'content-type': 'application/merge-patch+json' },
    });
    expect(cleared.json.length).toBeNull();
    expect(cleared.json.updated_at > json.updated_at).toBe(true);
    expect((await world.ask('PATCH', path, { as: 'wanda', body: {} })).json.updated_at).toBe(
      cleared.json.updated_at,
    );
  });

  test('If-Match holds a change to the record that was seen', async () => {
    const { json, headers } = await make('wanda', { title: 'six' });
    const path = `${notes}/${json.id}`;
    const tag = headers.get('etag')!;
    const first = await world.ask('PATCH', path, {
      as: 'wanda',
      body: { length: 1 },
      headers: { 'if-match': `"other", ${tag}` },
    });
    expect(first.status).toBe(200);
    for (const method of ['PATCH', 'DELETE']) {
      const late = await world.ask(method, path, {
        as: 'wanda',
        ...(method === 'PATCH' ? { body: { length: 2 } } : {}),
        headers: { 'if-match': tag },
      });
      expect(late.status).toBe(412);
    }
    expect(
      (await world.ask('DELETE', path, { as: 'wanda', headers: { 'if-match': first.headers.get('etag')! } }))
        .status,
    ).toBe(204);
  });

  test('at the same moment only one of two changes to the same seen record is made', async () => {
    const { json, headers } = await make('wanda', { title: 'seven' });
    const attempts = Array.from({ length: 8 }, (_, index) =>
      world.ask('PATCH', `${notes}/${json.id}`, {
        as: 'wanda',
        body: { length: index },
        headers: { 'if-match': headers.get('etag')! },
      }),
    );
    const statuses = (await Promise.all(attempts)).map((answer) => answer.status);
    expect(statuses.filter((status) => status === 200)).toHaveLength(1);
    expect(new Set(statuses)).toEqual(new Set([200, 412]));
  });
});

describe('delete', () => {
  test('is refused while others point at the record, whoever may read them', async () => {
    const parent = (await make('wanda', { title: 'eight' })).json.id;
    const child = await make('wanda', { title: 'nine', above: parent });
    const refused = await world.ask('DELETE', `${notes}/${parent}`, { as: 'wanda' });
    expect(refused.status).toBe(409);
    expect(refused.text).not.toContain(child.json.id);
    expect((await world.ask('DELETE', `${notes}/${child.json.id}`, { as: 'wanda' })).status).toBe(204);
    expect((await world.ask('DELETE', `${notes}/${parent}`, { as: 'wanda' })).status).toBe(204);
  });
});

describe('list', () => {
  test('pages by key lead through everything once, in both directions, with missing values last', async () => {
    for (const length of [3, 1, null, 2, null, 1])
      await make('wanda', { title: `page ${Math.random()}`, length });
    for (const order of ['length', 'length desc', 'length desc, title', 'kind, length']) {
      const seen: { id: string; length: number | null }[] = [];
      let path: string | null = `${notes}?limit=2&order=${encodeURIComponent(order)}`;
      while (path !== null) {
        const { json, headers } = await world.ask('GET', path, { as: 'wanda' });
        seen.push(...json.records);
        const link: string | undefined = /^<(.+)>; rel="next"$/.exec(headers.get('link') ?? '')?.[1];
        expect(link === undefined).toBe(json.next === null);
        path = link ?? null;
      }
      const all = await (await world.as('wanda')).list('notes', { limit: 200, count: true, order });
      expect(seen.map((record) => record.id)).toEqual(all.records.map((record) => record.id));
      expect(all.count).toBe(seen.length);
      if (!order.startsWith('length')) continue;
      const lengths = seen.map((record) => record.length);
      const present = lengths.filter((each) => each !== null);
      expect(lengths.slice(present.length).every((each) => each === null)).toBe(true);
      expect(present).toEqual(present.toSorted((a, b) => (order === 'length' ? a - b : b - a)));
    }
  });

  test('fields narrows each record, and what is withheld stays told', async () => {
    const { json } = await world.ask('GET', `${notes}?limit=1&fields=title,hidden`, { as: 'wanda' });
    expect(Object.keys(json.records[0]).toSorted()).toEqual(['_withheld', 'id', 'title']);
    expect(json.records[0]._withheld).toEqual(['hidden']);
  });

  test.each([
    ['where=titel%20%3D%20%22x%22', 'malformed-filter', 'where'],
    ['where=author%20%3D%20me', 'malformed-filter', 'where'],
    ['where=', 'malformed-request', 'where'],
    [`where=${encodeURIComponent('('.repeat(200))}`, 'malformed-filter', 'where'],
    [`where=${encodeURIComponent(`${'not '.repeat(900)}kind is missing`)}`, 'malformed-filter', 'where'],
    [`where=${encodeURIComponent('title = "' + 'x'.repeat(5000) + '"')}`, 'malformed-request', 'where'],
    [
      `where=${encodeURIComponent(Array.from({ length: 17 }, () => 'author.name = "x"').join(' or '))}`,
      'malformed-filter',
      'where',
    ],
    ['where=a&where=b', 'malformed-request', 'where'],
    ['wher=kind', 'malformed-request', undefined],
    ['order=titel', 'malformed-filter', 'order'],
    ['order=title%20down', 'malformed-filter', 'order'],
    ['limit=0', 'malformed-request', 'limit'],
    ['limit=201', 'malformed-request', 'limit'],
    ['after=nonsense', 'malformed-request', 'after'],
    [
      `after=${Buffer.from('{"order":"id","values":[null]}').toString('base64url')}`,
      'malformed-request',
      'after',
    ],
    ['fields=secret', 'malformed-request', 'fields'],
    ['include=title', 'malformed-request', 'include'],
  ])('a query of case %# is refused, never passed over', async (query, type, field) => {
    const { status, json } = await world.ask('GET', `${notes}?${query}`, { as: 'wanda' });
    expect(status).toBe(400);
    expect(json.type).toBe(`/problems/${type}`);
    expect(json.errors[0].field).toBe(field);
  });
});

describe('people', () => {
  test('nobody promotes themself: what rules read through “me” stays as it is on one’s own record', async () => {
    const own = await openWorld(`
      people { district text  language text self set  phone text }
      collection sites { name text label  district text  language text }
      role steward
      rules sites { people may read when district = me.district or language = me.language }
      rules people { people may read (all), update (district, language, phone) }
      accept people feeds sites because "this test looks at one’s own entry alone"
      test identity ada { email "ada@hollowoak.example" }
      test identity ben { email "ben@hollowoak.example" }
    `);
    try {
      const { id } = (await own.ask('GET', '/v1/me', { as: 'ada' })).json;
      const path = `/v1/records/people/${id}`;
      const refused = await own.ask('PATCH', path, {
        as: 'ada',
        body: { phone: '555-0100', district: 'North' },
      });
      expect([refused.status, refused.json.fields]).toEqual([403, ['district']]);
      expect(
        (await own.ask('PATCH', path, { as: 'ada', body: { phone: '555-0100', language: 'en' } })).status,
      ).toBe(200);
      expect(
        (await own.ask('PATCH', path, { as: 'ben', body: { district: 'North' } })).status,
        'another may, where a rule says so',
      ).toBe(200);
    } finally {
      await own.close();
    }
  });
});

describe('fences', () => {
  test('stop what every rule allows, for those whom they do not exempt, in each operation', async () => {
    const own = await openWorld(`
      role editor  role chief
      collection posts { title text required label  author ref people  state text = "draft"  price integer  secret text }
      rules posts {
        people may read, create, update, delete
        nobody but chief may read (secret)
        nobody but chief may read, update, delete unless old_or_open(this)
        nobody may create (price) unless author = me
        nobody may create unless title starts with "A"
        nobody but editor may update (state) unless old.state != new.state
      }
      rules people { people may read (id) }
      let old_or_open(post: posts) = post.state != "locked"
      test identity ada { email "ada@hollowoak.example" roles editor }
      test identity ben { email "ben@hollowoak.example" }
      test identity cleo { email "cleo@hollowoak.example" roles chief }
    `);
    try {
      const posts = '/v1/records/posts';
      const ben = (await own.ask('GET', '/v1/me', { as: 'ben' })).json.id;
      const make = (body: object) => own.ask('POST', posts, { as: 'ben', body });
      expect((await make({ title: 'B' })).status, 'a fence on the record judges what would be made').toBe(
        403,
      );
      expect((await make({ title: 'A1', price: 3 })).json).toMatchObject({ status: 403 });
      const { json } = await make({ title: 'A2', price: 3, author: ben, secret: 's', state: 'draft' });
      expect(json._withheld, 'what one has written oneself is withheld all the same').toEqual(['secret']);
      const path = `${posts}/${json.id}`;
      const patch = (as: string, body: object) => own.ask('PATCH', path, { as, body });
      expect((await patch('ben', { state: 'draft' })).json).toMatchObject({ status: 403, fields: ['state'] });
      expect((await patch('ada', { state: 'draft' })).status, 'editors are exempt').toBe(200);
      expect((await patch('cleo', { state: 'locked' })).status).toBe(200);
      for (const method of ['GET', 'DELETE'] as const) {
        expect(
          (await own.ask(method, path, { as: 'ada' })).status,
          'hidden from reading is hidden from all else',
        ).toBe(404);
      }
      expect((await own.ask('GET', path, { as: 'cleo' })).json.secret).toBe('s');
      expect((await own.ask('GET', `${posts}?count=true`, { as: 'ben' })).json).toMatchObject({
        records: [],
        count: 0,
      });
      const where = encodeURIComponent('secret = "s"');
      await patch('cleo', { state: 'open' });
      expect((await own.ask('GET', `${posts}?where=${where}`, { as: 'ben' })).json.records).toEqual([]);
    } finally {
      await own.close();
    }
  });
});

describe('trees', () => {
  test('here and all below, and no record below itself', async () => {
    const own = await openWorld(`
      people { district ref districts }
      collection districts { name text required label  parent ref districts  tree by parent }
      collection sites { name text required label  district ref districts }
      role planner
      rules districts { people may read  planner may create, update }
      rules sites { planner may create  people may read when district within me.district }
      accept districts feeds sites because "planners draw the map"
      test identity ada { email "ada@hollowoak.example" roles planner }
      test identity ben { email "ben@hollowoak.example" }
    `);
    try {
      const ada = await own.as('ada');
      const top = await ada.create('districts', { name: 'Country' });
      const north = await ada.create('districts', { name: 'North', parent: top.id });
      const high = await ada.create('districts', { name: 'High North', parent: north.id });
      for (const [name, district] of [
        ['a', top.id],
        ['b', north.id],
        ['c', high.id],
        ['d', null],
      ]) {
        await own.ask('POST', '/v1/records/sites', { as: 'ada', body: { name, district } });
      }
      await run(
        own.database,
        sql`update records.people set district = (select id from records.districts where name = 'North') where _identity = 'ben'`,
      );
      const seen = (await (await own.as('ben')).list('sites', { order: 'name' })).records;
      expect(seen.map((record) => (record as { name?: string }).name)).toEqual(['b', 'c']);
      const below = await own.ask(
        'GET',
        `/v1/records/districts?where=${encodeURIComponent('this within parent')}`,
        { as: 'ben' },
      );
      expect(below.json.records).toHaveLength(2);
      for (const parent of [top.id, north.id, high.id]) {
        const answer = await own.ask('PATCH', `/v1/records/districts/${top.id}`, {
          as: 'ada',
          body: { parent },
        });
        expect([answer.status, answer.json.fields]).toEqual([409, ['parent']]);
      }
      expect(
        (await own.ask('PATCH', `/v1/records/districts/${high.id}`, { as: 'ada', body: { parent: top.id } }))
          .status,
      ).toBe(200);
    } finally {
      await own.close();
    }
  });
});

describe('roles', () => {
  test('bring those along that they include, for rules, fences and “has role” alike', async () => {
    const own = await openWorld(`
      role chief includes editor  role editor includes reader  role reader
      collection posts { title text required label  secret text  draft boolean = true }
      rules posts {
        reader may read (title)
        chief may create
        people may read (draft) when me has role reader
        editor may read (secret)
        nobody but reader may read
      }
      test identity cleo { email "cleo@hollowoak.example" roles chief }
      test identity rosa { email "rosa@hollowoak.example" roles reader }
      test identity ben { email "ben@hollowoak.example" }
      trial "Inclusion" {
        as cleo { shows posts "a" (title, secret, draft) }
        as rosa { withheld posts "a" (secret) }
        as ben { reads no posts }
      }
    `);
    try {
      await (await own.as('cleo')).create('posts', { title: 'a', secret: 's' });
      expect((await own.ask('GET', '/v1/me', { as: 'cleo' })).json.roles).toEqual([
        'chief',
        'editor',
        'reader',
      ]);
      const seen = async (as: string) =>
        (await own.ask('GET', '/v1/records/posts?fields=title,secret,draft', { as })).json.records;
      expect(await seen('cleo')).toMatchObject([{ title: 'a', secret: 's', draft: true, _withheld: [] }]);
      expect(await seen('rosa')).toMatchObject([{ title: 'a', draft: true, _withheld: ['secret'] }]);
      expect(await seen('ben')).toEqual([]);
      expect(await own.desk.trials(null)).toMatchObject({ passed: 3, failed: 0 });
    } finally {
      await own.close();
    }
  });
});

describe('what goes along', () => {
  test('may point at each other in any order, and takes its shares with it; a record that nothing points at goes alone', async () => {
    const own = await openWorld(`
      role keeper
      collection hives { code text required label  swarm ref swarms on delete remove }
      collection swarms { code text required label  hive ref hives on delete remove  first ref swarms on delete clear }
      rules hives { keeper may read (all), create (all), update (all), delete, share }
      rules swarms { keeper may read (all), create (all), update (all), delete, share }
      test identity ada { email "ada@hollowoak.example" roles keeper }
    `);
    try {
      const ada = await own.as('ada');
      const shares = async () =>
        (await run<{ id: string }>(own.database, sql`select id from gate.shares`)).length;
      const hive = await ada.create('hives', { code: 'OAK-1' });
      const swarm = await ada.create('swarms', { code: 'S-1', hive: hive.id });
      const later = await ada.create('swarms', { code: 'S-2', first: swarm.id });
      await ada.update('hives', hive.id as string, { swarm: swarm.id });
      for (const [collection, { id }] of [
        ['hives', hive],
        ['swarms', swarm],
        ['swarms', later],
      ] as const)
        await ada.share(collection, id as string, { audience: 'people' });
      expect(await shares()).toBe(3);
      await ada.delete('hives', hive.id as string);
      expect((await ada.list('hives')).records).toEqual([]);
      expect((await ada.list('swarms')).records).toMatchObject([{ code: 'S-2', first: null, hive: null }]);
      expect(await shares(), 'of what is left').toBe(1);
      await ada.delete('swarms', later.id as string);
      expect(await shares()).toBe(0);
    } finally {
      await own.close();
    }
  });
});
