import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { openDemo, type World } from '../support/world.ts';

/** The named cast of the cooperative tries to cross every line, by plain HTTP; afterwards nothing has changed. */
let world: World;
let ids: Map<string, string>;

beforeAll(async () => {
  world = await openDemo();
  const rows = await run<{ code: string; id: string }>(
    world.database,
    sql`select code, id from records.hives union all select code, id from records.inspections union all select name, id from records.apiaries union all select email, id from records.people`,
  );
  ids = new Map(rows.map((row) => [row.code, row.id]));
});
afterAll(() => world.close());

const hive = (code: string) => `/v1/records/hives/${ids.get(code)}`;
const nothing = '00000000-0000-7000-8000-000000000000';

async function fingerprint(): Promise<string> {
  const [row] = await run<{ all: string }>(
    world.database,
    sql`select md5(string_agg(h::text, '' order by id)) as all from records.hives as h`,
  );
  return row!.all;
}

describe('Ada and Ben', () => {
  test('each lists their own hives only', async () => {
    for (const [name, codes] of [
      ['ada', ['OAK-001', 'OAK-002', 'OAK-003', 'OAK-004']],
      ['ben', ['OAK-101', 'OAK-102', 'OAK-103']],
    ] as const) {
      const { json } = await world.ask('GET', '/v1/records/hives?count=true', { as: name });
      expect(json.records.map((record: { code: string }) => record.code)).toEqual(codes);
      expect(json.count).toBe(codes.length);
    }
  });

  test('what is not readable answers exactly like what is not there, by every route', async () => {
    const before = await fingerprint();
    for (const [method, body] of [
      ['GET', undefined],
      ['PATCH', { notes: 'x' }],
      ['PATCH', {}],
      ['DELETE', undefined],
    ] as const) {
      const options = {
        as: 'ada',
        ...(body === undefined ? {} : { body }),
        headers: { 'x-request-id': 'same' },
      };
      const other = await world.ask(method, hive('OAK-101'), options);
      const absent = await world.ask(method, `/v1/records/hives/${nothing}`, options);
      expect([other.status, other.text], method).toEqual([404, absent.text]);
      const names = (answer: typeof other) =>
        [...answer.headers.keys()].filter((name) => !['date', 'keep-alive'].includes(name)).toSorted();
      expect(names(other)).toEqual(names(absent));
    }
    for (const header of ['if-match', 'if-none-match']) {
      expect(
        (await world.ask('GET', hive('OAK-101'), { as: 'ada', headers: { [header]: '*' } })).status,
      ).toBe(404);
    }
    expect(await fingerprint()).toBe(before);
  });

  test('naming another as keeper, or handing a hive over, is refused', async () => {
    const before = await fingerprint();
    const ben = ids.get('ben@hollowoak.example');
    const apiary = ids.get('Orchard');
    const made = await world.ask('POST', '/v1/records/hives', {
      as: 'ada',
      body: { code: 'OAK-900', apiary, keeper: ben },
    });
    expect([made.status, made.json.fields]).toEqual([403, ['keeper']]);
    const own = await world.ask('POST', '/v1/records/hives', {
      as: 'ada',
      body: { code: 'OAK-900', apiary, keeper: ids.get('ada@hollowoak.example') },
    });
    expect(
      [own.status, own.json.fields],
      'a stamped field is refused even with the value it would get',
    ).toEqual([403, ['keeper']]);
    const handed = await world.ask('PATCH', hive('OAK-001'), {
      as: 'ada',
      body: { keeper: ben, notes: 'yours' },
    });
    expect([handed.status, handed.json.fields]).toEqual([403, ['keeper']]);
    expect(await fingerprint()).toBe(before);
  });

  test('an own hive can be made, changed and removed', async () => {
    const ada = await world.as('ada');
    const made = await ada.create('hives', { code: 'OAK-901', apiary: ids.get('Orchard') });
    expect(made).toMatchObject({
      keeper: ids.get('ada@hollowoak.example'),
      visibility: 'private',
      status: 'active',
      notes: null,
      _withheld: [],
    });
    expect(await ada.update('hives', made.id, { notes: 'new', queen_year: 2026 })).toMatchObject({
      notes: 'new',
      queen_year: 2026,
    });
    await ada.delete('hives', made.id);
    expect((await world.ask('GET', `/v1/records/hives/${made.id}`, { as: 'ada' })).status).toBe(404);
  });

  test('a fence stops what every rule would allow, by the record as it was', async () => {
    const revived = await world.ask('PATCH', hive('OAK-003'), { as: 'ada', body: { status: 'active' } });
    expect(revived.status).toBe(403);
    expect((await world.ask('DELETE', hive('OAK-003'), { as: 'ada' })).status).toBe(403);
    const byStella = await world.ask('PATCH', hive('OAK-003'), { as: 'stella', body: { status: 'resting' } });
    expect(byStella.status, 'the fence does not concern stewards').toBe(200);
    await world.ask('PATCH', hive('OAK-003'), { as: 'stella', body: { status: 'retired' } });
  });
});

describe('Nothing leaks sideways', () => {
  test('filter, sort and count take a withheld value for a missing one', async () => {
    const notes = encodeURIComponent('notes = "By the footpath"');
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${notes}`, { as: 'ben' })).json.records,
    ).toHaveLength(1);
    // Ivo reads the hive and not its notes: asking for their text must find nothing.
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${notes}&count=true`, { as: 'ivo' })).json,
    ).toMatchObject({ records: [], count: 0 });
    const missing = encodeURIComponent('code = "OAK-101" and notes is missing and not (notes != "x")');
    expect(
      (
        await world.ask(
          'GET',
          `/v1/records/hives?where=${encodeURIComponent('code = "OAK-101" and notes is missing')}`,
          { as: 'ivo' },
        )
      ).json.records,
    ).toHaveLength(1);
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${missing}`, { as: 'ivo' })).json.records,
    ).toHaveLength(0);
    const sorted = async (order: string) =>
      (await world.ask('GET', `/v1/records/hives?limit=200&order=${order}`, { as: 'ivo' })).json.records.map(
        (record: { id: string }) => record.id,
      );
    expect(await sorted('reserve_price'), 'an order by what is withheld is the order without it').toEqual(
      await sorted('id'),
    );
  });

  test('a path in a filter goes only through readable records and shown fields', async () => {
    const phone = encodeURIComponent('apiary.landowner_phone is present');
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${phone}`, { as: 'ada' })).json.records,
    ).toHaveLength(0);
    const gate = encodeURIComponent('apiary.access_code is present');
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${gate}`, { as: 'ada' })).json.records,
      'Ada hosts these sites',
    ).toHaveLength(4);
    const keeper = encodeURIComponent('keeper.email = "ben@hollowoak.example"');
    expect(
      (await world.ask('GET', `/v1/records/hives?where=${keeper}`, { as: 'ivo' })).json.records,
      'Ivo reads no other people',
    ).toHaveLength(0);
  });

  test('what is brought along obeys its own rules', async () => {
    const { json } = await world.ask('GET', `${hive('OAK-101')}?include=apiary,keeper`, { as: 'ivo' });
    expect(json._included.keeper).toBeNull();
    expect(json._included.apiary).toMatchObject({
      name: 'Mill Field',
      _withheld: ['landowner_phone', 'access_code'],
    });
    expect(json._included.apiary).not.toHaveProperty('access_code');
  });

  test('a reference to what one cannot read is one to what is not there', async () => {
    const body = (target: string) => ({ code: 'INS-X', hive: target, inspected_on: '2026-05-01' });
    const hidden = await world.ask('POST', '/v1/records/inspections', {
      as: 'ivo',
      body: body(ids.get('OAK-002')!),
      headers: { 'x-request-id': 'same' },
    });
    const absent = await world.ask('POST', '/v1/records/inspections', {
      as: 'ivo',
      body: body(nothing),
      headers: { 'x-request-id': 'same' },
    });
    expect(hidden.status).toBe(422);
    expect(hidden.json.fields).toEqual(['hive']);
    expect(hidden.text).toBe(absent.text);
  });

  test('the tag of a record tells only of what is shown of it', async () => {
    const tag = async () => (await world.ask('GET', hive('OAK-103'), { as: 'ivo' })).headers.get('etag')!;
    const before = await tag();
    await run(
      world.database,
      sql`update records.hives set notes = 'changed in secret' where code = 'OAK-103'`,
    );
    expect(await tag()).toBe(before);
    expect(
      (await world.ask('GET', hive('OAK-103'), { as: 'ivo', headers: { 'if-none-match': before } })).status,
    ).toBe(304);
  });

  test('a unique value of an unreadable record is told as taken: known, and the same as for a readable one', async () => {
    const clash = async (code: string) =>
      world.ask('POST', '/v1/records/hives', {
        as: 'ada',
        body: { code, apiary: ids.get('Orchard') },
        headers: { 'x-request-id': 'same' },
      });
    const hidden = await clash('OAK-102');
    expect([hidden.status, hidden.json.fields]).toEqual([409, ['code']]);
    expect(hidden.text).toBe((await clash('OAK-001')).text);
    // A clash is told only to those who could otherwise have made the record.
    const nona = await world.ask('POST', '/v1/records/hives', {
      as: 'nona',
      body: { code: 'OAK-102', apiary: ids.get('Orchard') },
    });
    expect(nona.status).toBe(403);
  });
});

describe('Roles', () => {
  test('two roles add up record by record, never across', async () => {
    const list = (await world.ask('GET', '/v1/records/hives?limit=200&order=code%20desc', { as: 'cleo' }))
      .json.records as Record<string, unknown>[];
    const own = list.filter((record) => record.keeper === ids.get('cleo@hollowoak.example'));
    expect(own.map((record) => record._withheld)).toEqual([[]]);
    for (const record of list)
      if (!own.includes(record)) expect(record._withheld).toEqual(['notes', 'reserve_price']);
  });

  test('without a token only what visitors may read comes back', async () => {
    const { json } = await world.ask('GET', '/v1/records/hives?limit=200&count=true');
    const [open] = await run<{ count: number }>(
      world.database,
      sql`select count(*) as count from records.hives where visibility = 'open'`,
    );
    expect(json.count).toBe(open!.count);
    for (const record of json.records)
      expect(Object.keys(record).toSorted()).toEqual(['_withheld', 'apiary', 'code', 'id', 'queen_year']);
    expect((await world.ask('GET', '/v1/records/inspections')).json.records).toEqual([]);
    expect((await world.ask('POST', '/v1/records/hives', { body: { code: 'OAK-902' } })).status).toBe(403);
  });

  test('a role that has run out, and no role at all, read nothing', async () => {
    for (const name of ['finn', 'nona'])
      expect((await world.ask('GET', '/v1/records/hives', { as: name })).json.records).toEqual([]);
    expect((await world.ask('GET', '/v1/me', { as: 'finn' })).json).toMatchObject({
      kind: 'person',
      roles: [],
    });
  });

  test('a deactivated person is nobody, not a visitor', async () => {
    expect((await world.ask('GET', '/v1/records/districts', { as: 'gus' })).status).toBe(401);
    await run(world.database, sql`update records.people set _active = false where _identity = 'tess'`);
    expect(
      (await world.ask('GET', '/v1/records/hives', { as: 'tess' })).status,
      'from the very next request',
    ).toBe(401);
  });
});
