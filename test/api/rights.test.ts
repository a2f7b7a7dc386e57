import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openWorld, type World } from '../support/world.ts';

/** What front ends are told: rights on records, and what could be done at all. */
const rulebook = `
people { grade integer }
collection lots "Honey on offer" {
  code text required label
  seller ref people required
  status one of ("draft", "listed", "sold") = "draft"
  batch text
  price decimal
  reserve decimal sensitive
  note text
  place ref stores
  depot ref stores
  owned by seller
}
collection stores { name text required label  keeper ref people }
collection ledgers { code text required label  sum decimal }
collection seals { code text required label  sum decimal }
collection medals { code text required label }
collection prizes { code text required label  holder ref people }
role seller  role steward  role auditor

action list on lots sets status = "listed"
action sell on lots (price decimal required, note text) sets status = "sold", price = price, note = note
rules stores { seller may read when keeper = me }
rules ledgers { auditor may read (all), create (all) when me.grade >= 3 }
rules seals { auditor may read (all), create (all)
  nobody may create (sum) unless me.grade >= 4 }
rules medals { auditor may read (all), create (all)
  nobody may create unless me.grade >= 4 }
rules prizes { people may read (code) when holder = me and me.grade > 1 }
rules lots {
  seller may read (all but reserve), create (code, batch, price) when seller = me stamp seller = me
  seller may update (batch, price, note) when seller = me and old.status = "draft"
  seller may update (place) when seller = me
  seller may update (depot) when seller = me and new.depot.name starts with "open"
  seller may list when seller = me and old.status = "draft"
  seller may sell when seller = me and old.status = "listed" and new.price > 0
  seller may delete, share when seller = me and status = "draft"
  steward may read (all)
  steward may update (status) when old.status = "listed" and new.status in ("draft", "sold")
  steward may update (note) when length(new.note) = 7
  visitors may read (code, price) when status = "listed"
}
test identity sella  { email "sella@hollowoak.example"  roles seller  grade 1 }
test identity otto   { email "otto@hollowoak.example"   roles seller  grade 2 }
test identity stella { email "stella@hollowoak.example" roles steward grade 1 }
test identity audrey { email "audrey@hollowoak.example" roles auditor grade 3 }
test identity aurel  { email "aurel@hollowoak.example"  roles auditor grade 2 }
test identity noor   { email "noor@hollowoak.example" grade 0 }
`;

let world: World;
const ids: Record<string, string> = {};
const lots = '/v1/records/lots';

beforeAll(async () => {
  world = await openWorld(rulebook);
  const sella = await world.as('sella');
  for (const code of ['D-1', 'L-1', 'S-1']) ids[code] = (await sella.create('lots', { code, price: '4' })).id;
  await sella.act('lots', ids['L-1']!, 'list');
  await sella.act('lots', ids['S-1']!, 'list');
  await sella.act('lots', ids['S-1']!, 'sell', { price: '5' });
});
afterAll(() => world.close());

interface Told {
  readonly code: string;
  readonly _rights: { update: string[]; delete: boolean; share: boolean; actions: string[] };
  readonly _tag: string;
}

async function listed(as: string | null, more = ''): Promise<Map<string, Told>> {
  const path = `${lots}?rights=true${more}`;
  const { status, json, text } = await world.ask('GET', path, as === null ? {} : { as });
  expect(status, text).toBe(200);
  return new Map((json.records as Told[]).map((record) => [record.code, record]));
}

describe('rights on records', () => {
  test('of one’s own they follow the state of each, with the actions; of another’s there are none', async () => {
    const own = await listed('sella');
    expect(own.get('D-1')!._rights).toEqual({
      update: ['batch', 'price', 'note', 'place'],
      delete: true,
      share: true,
      actions: ['list'],
    });
    expect(own.get('L-1')!._rights).toEqual({
      update: ['place'],
      delete: false,
      share: false,
      actions: ['sell'],
    });
    expect(own.get('S-1')!._rights).toMatchObject({ update: ['place'], actions: [] });
    expect((await listed(null)).get('L-1')!._rights).toEqual({
      update: [],
      delete: false,
      share: false,
      actions: [],
    });
    expect((await listed('otto')).size).toBe(0);
  });

  test('a transition is told, and what could not be tried in every way is not decided', async () => {
    const seen = await listed('stella');
    expect(seen.get('L-1')!._rights.update).toContain('status');
    expect(seen.get('D-1')!._rights.update).not.toContain('status');
    expect(seen.get('D-1')!._rights).toMatchObject({
      undecided: { update: ['note'], delete: false, actions: [] },
    });
  });

  test('one record, a filtered list, chosen fields and what comes along tell the same', async () => {
    const { _rights, _tag } = (await listed('sella')).get('L-1')!;
    const one = await world.ask('GET', `${lots}/${ids['L-1']}?rights=true&fields=code`, { as: 'sella' });
    expect(one.json).toEqual({ id: ids['L-1'], code: 'L-1', _withheld: [], _rights, _tag });
    const where = `&where=${encodeURIComponent('code = "L-1" and price > 1')}`;
    for (const more of [where, `${where}&fields=code&order=price%20desc`, '&include=seller'])
      expect((await listed('sella', more)).get('L-1')).toMatchObject({ _rights, _tag });
  });

  test('the tag is what If-Match takes, from a list too, and no answer with rights is taken for unchanged', async () => {
    const { _tag } = (await listed('sella')).get('D-1')!;
    const path = `${lots}/${ids['D-1']}`;
    const change = (tag: string) =>
      world.ask('PATCH', path, { as: 'sella', body: { note: 'x' }, headers: { 'If-Match': tag } });
    const read = await world.ask('GET', `${path}?rights=true`, {
      as: 'sella',
      headers: { 'If-None-Match': _tag },
    });
    expect(read.status).toBe(200);
    expect(read.headers.get('etag')).toBeNull();
    expect((await change(_tag)).status).toBe(200);
    expect((await change(_tag)).status).toBe(412);
    expect((await world.ask('GET', `${path}?rights=true`, { as: 'sella' })).json._tag).not.toBe(_tag);
  });

  test('what is shared with somebody is theirs alone, though others hold the same roles', async () => {
    const shared = await world.ask('POST', `${lots}/${ids['D-1']}/shares`, {
      as: 'sella',
      body: { role: 'seller', for: ['read', 'update'] },
    });
    expect(shared.status, shared.text).toBe(201);
    expect((await listed('otto')).get('D-1')!._rights).toMatchObject({
      update: ['batch', 'price', 'note', 'place'],
      delete: false,
      share: false,
    });
    expect((await listed('noor')).size).toBe(0);
    const rights = await world.ask('GET', '/v1/rights/lots', { as: 'otto' });
    expect(rights.json.update).toContain('batch');
    await world.ask('DELETE', `${lots}/${ids['D-1']}/shares/${shared.json.id}`, { as: 'sella' });
    expect((await listed('otto')).size).toBe(0);
  });

  test('a reference is searched among what the caller reads, and where that is very much, it is left open', async () => {
    const { id } = await (await world.as('otto')).create('lots', { code: 'O-1' });
    const depot = async () => {
      const { _rights } = (await listed('otto')).get('O-1')! as Told & {
        _rights: { undecided?: { update: string[] } };
      };
      return [_rights.update.includes('depot'), _rights.undecided?.update ?? []];
    };
    const stores = (count: number, name: string) =>
      run(
        world.database,
        sql`insert into records.stores (id, name, keeper, created_at, updated_at)
          select gen_random_uuid(), ${value(name)}::text || gen_random_uuid(), p.id, now(), now()
          from generate_series(1, ${value(count)}::integer), records.people as p where p._identity = 'otto'`,
      );
    expect(await depot(), 'there is none').toEqual([false, []]);
    await stores(150, 'shut');
    expect(await depot(), 'all of them were looked at').toEqual([false, []]);
    await stores(1, 'open');
    expect(await depot()).toEqual([true, []]);
    await run(world.database, sql`delete from records.stores where name like 'open%'`);
    await stores(100, 'shut');
    expect(await depot(), 'not all of them were').toEqual([false, ['depot']]);
    await run(world.database, sql`delete from records.stores`);
    await run(world.database, sql`delete from records.lots where id = ${value(id)}::uuid`);
  });

  test('a word that is not understood is refused, not passed over', async () => {
    for (const path of [`${lots}?rights=yes`, `${lots}/${ids['D-1']}?rights=1`, '/v1/rights?lots=1'])
      expect((await world.ask('GET', path, { as: 'sella' })).status).toBe(400);
  });
});

describe('what could be done at all', () => {
  const rights = async (as?: string) =>
    (await world.ask('GET', '/v1/rights', as === undefined ? {} : { as })).json.collections;

  test('a form can be drawn from it: titles, types, choices, what is required and what is filled in', async () => {
    const { lots: told } = await rights('sella');
    expect(told).toMatchObject({
      title: 'Honey on offer',
      label: 'code',
      create: {
        fields: ['code', 'batch', 'price'],
        required: ['code'],
        filled: ['seller', 'status'],
      },
      update: ['batch', 'price', 'note', 'place', 'depot'],
      delete: true,
      share: true,
      fields: {
        code: { title: 'Code', type: 'text', required: true, most: 100_000 },
        status: { type: 'one of', choices: ['draft', 'listed', 'sold'], required: false },
        place: { type: 'ref', collection: 'stores' },
      },
      actions: {
        list: { title: 'List', parameters: {} },
        sell: {
          parameters: {
            price: { title: 'Price', type: 'decimal', required: true },
            note: { type: 'text', required: false },
          },
        },
      },
    });
    expect(told.read).not.toContain('reserve');
  });

  test('nothing is named that no sentence opens to this caller, by roles, attributes and the caller themself', async () => {
    const seller = await world.ask('GET', '/v1/rights', { as: 'sella' });
    expect(Object.keys(seller.json.collections)).toEqual(['lots', 'stores']);
    for (const hidden of ['reserve', 'ledgers', 'prizes', 'keeper may', 'people'])
      expect(seller.text).not.toContain(hidden);
    expect(Object.keys(await rights('otto'))).toContain('prizes');
    expect((await rights('audrey')).ledgers.create).toMatchObject({ required: ['code'] });
    expect((await rights('aurel')).ledgers).toBeUndefined();
    const { seals, medals } = await rights('audrey');
    expect([seals.create.fields, medals.create], 'fences rule out what rules open').toEqual([['code'], null]);
    expect(await rights('noor')).toEqual({});
    const visitor = await rights();
    expect(visitor.lots).toMatchObject({
      read: ['id', 'code', 'price'],
      create: null,
      update: [],
      actions: {},
    });
    expect(Object.keys(visitor.lots.fields)).toEqual(['id', 'code', 'price']);
  });

  test('a collection of which nothing is open is not there, as one that does not exist', async () => {
    const told = async (name: string, as: string) => {
      const { status, json } = await world.ask('GET', `/v1/rights/${name}`, { as });
      return { status, type: json.type, title: json.title, detail: json.detail };
    };
    expect(await told('ledgers', 'aurel')).toEqual(await told('nowhere', 'aurel'));
    expect(await told('ledgers', 'aurel')).toMatchObject({ status: 404 });
    expect(await told('ledgers', 'audrey')).toMatchObject({ status: 200 });
    for (const name of ['constructor', '__proto__', 'toString'])
      expect(await told(name, 'audrey')).toMatchObject({ status: 404 });
  });

  test('records make no difference to it', async () => {
    const before = await world.ask('GET', '/v1/rights', { as: 'sella' });
    const made = await world.ask('POST', lots, { as: 'sella', body: { code: 'X-1' } });
    expect((await world.ask('GET', '/v1/rights', { as: 'sella' })).text).toBe(before.text);
    await world.ask('DELETE', `${lots}/${made.json.id}`, { as: 'sella' });
  });

  test('who calls is asked as ever: no token that is not accepted gets an answer', async () => {
    expect((await world.ask('GET', '/v1/rights', { token: 'x.y.z' })).status).toBe(401);
    const answer = await world.ask('GET', '/v1/rights', { as: 'sella' });
    expect(answer.headers.get('cache-control')).toContain('no-store');
    expect(answer.headers.get('firmgate-rulebook')).toBe('1');
  });
});

describe('can', () => {
  const can = (as: string, operation: string, collection: string, record?: string, fields?: string) =>
    world.desk.can({
      as,
      operation,
      collection,
      ...(record === undefined ? {} : { record }),
      ...(fields === undefined ? {} : { fields }),
    });

  test('answers staff as front ends are answered, field by field, and the least of several', async () => {
    const order = ['status', 'batch', 'price', 'note', 'place', 'depot'];
    for (const as of ['sella', 'otto', 'stella', 'visitor'])
      for (const code of ['D-1', 'L-1', 'S-1']) {
        const rights = (await listed(as === 'visitor' ? null : as)).get(code)?._rights;
        const { fields } = await can(as, 'update', 'lots', code);
        expect(fields.filter(({ answer }) => answer === 'yes').map(({ field }) => field)).toEqual(
          (rights?.update ?? []).toSorted((a, b) => order.indexOf(a) - order.indexOf(b)),
        );
        for (const action of ['list', 'sell'])
          expect((await can(as, action, 'lots', code)).answer).toBe(
            rights?.actions.includes(action) === true ? 'yes' : 'no',
          );
        expect((await can(as, 'delete', 'lots', code)).answer).toBe(rights?.delete === true ? 'yes' : 'no');
        expect((await can(as, 'share', 'lots', code)).answer).toBe(rights?.share === true ? 'yes' : 'no');
        expect((await can(as, 'read', 'lots', code)).answer).toBe(rights === undefined ? 'no' : 'yes');
      }
    expect(await can('stella', 'update', 'lots', 'D-1', 'note,status')).toEqual({
      answer: 'no',
      fields: [
        { field: 'note', answer: 'not decided' },
        { field: 'status', answer: 'no' },
      ],
    });
    expect(await can('stella', 'update', 'lots', 'D-1')).toMatchObject({ answer: 'not decided' });
    expect(await can('sella', 'read', 'lots', 'D-1', 'code,reserve')).toMatchObject({ answer: 'no' });
  });

  test('thinks through a record that is to be made', async () => {
    expect(await can('sella', 'create', 'lots')).toMatchObject({ answer: 'yes' });
    expect(await can('sella', 'create', 'lots', undefined, 'code,price')).toMatchObject({ answer: 'yes' });
    expect(await can('sella', 'create', 'lots', undefined, 'code,note')).toMatchObject({ answer: 'no' });
    expect(await can('aurel', 'create', 'ledgers')).toEqual({ answer: 'no', fields: [] });
    expect(await can('audrey', 'create', 'ledgers')).toMatchObject({ answer: 'yes' });
  });

  test('says what is wrong with the question, and of a person only after an unlock', async () => {
    const wrong = async (...asked: Parameters<typeof can>) =>
      (await can(...asked).catch((error: unknown) => error)) as { fields: readonly string[]; status: number };
    expect((await wrong('sela', 'read', 'lots', 'D-1')).fields).toEqual(['as']);
    expect((await wrong('sella', 'reed', 'lots', 'D-1')).fields).toEqual(['operation']);
    expect((await wrong('sella', 'read', 'lot', 'D-1')).fields).toEqual(['collection']);
    expect((await wrong('sella', 'read', 'lots', 'NOPE')).fields).toEqual(['record']);
    expect((await wrong('sella', 'read', 'lots')).fields).toEqual(['record']);
    expect((await wrong('sella', 'create', 'lots', 'D-1')).fields).toEqual(['record']);
    expect((await wrong('sella', 'delete', 'lots', 'D-1', 'code')).fields).toEqual(['fields']);
    expect((await wrong('sella', 'update', 'lots', 'D-1', 'created_at')).fields).toEqual(['fields']);
    expect(await can('sella@hollowoak.example', 'read', 'lots', 'D-1')).toMatchObject({ answer: 'yes' });
    await world.desk.lock();
    expect((await wrong('sella@hollowoak.example', 'read', 'lots', 'D-1')).status).toBe(403);
  });
});
