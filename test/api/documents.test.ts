import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run, statements } from '../../src/store/connection.ts';
import { tallies } from '../../src/store/tallies.ts';
import { openWorld, type World } from '../support/world.ts';

/**
 * Lists and single records by whatever is asked, each held against what is worked out here from what there is: of one collection with
 * plain values, and of one with documents beside them.
 */
const fields = `code text required label  size integer  weight decimal  kept date  tags list of text  keeper ref people  note text  sold boolean`;
const sentences = `people may read (all but weight)  keeper may read (weight) when keeper = me
  nobody may read (note) unless keeper = me  nobody may read (size) unless sold  people may share when keeper = me`;
const rules = `
role keeper
people { }
collection hives { ${fields} }
collection crates { ${fields}  more json }
collection boxes { ${fields} }
collection logs { code text required label unique  up ref logs on delete remove  seen ref logs on delete clear  leaf ref leaves on delete remove  keeper ref people }
collection leaves { code text required label  log ref logs required on delete remove }
collection seals { code text required label  hive ref hives  crate ref crates }
collection tomes { code text required label  body text  next ref tomes }
collection scrolls { code text required label  body text  next ref scrolls  from text  to text  about text }
collection lids { code text label  open boolean }
collection caps { code text label  open boolean }
collection cups { code text label  keeper ref people }
collection jars { kind text  note text  first ref people  second ref people  third ref people }
action close on lids sets open = false
action rename on logs (to text required) sets code = to
rules people { people may read (id) }
rules hives { ${sentences} }
rules crates { ${sentences} }
rules logs { keeper may read (all), create (all), update (all), delete, share, rename when keeper = me }
rules leaves { keeper may read (all), create (all) }
rules seals { people may read (all), create (all) }
rules tomes { people may read (all), create (all) }
rules scrolls { people may read (all)  nobody may read (from, about) unless code != "tome 2" }
rules lids { people may read (all) when open  people may create (all), update (open), delete, close }
rules cups { people may read (all), create (all), delete when keeper.name is present }
rules jars {
  people may read (all), create (kind)
  people may update (note) when kind = "one" or kind = "both" stamp first = me
  people may update (note) when kind = "two" or kind = "both" stamp second = me
  keeper may update (note) when no t in tomes has (t.code = "no more jars") stamp third = me
}
rules caps { people may read (all) when open  people may create (all), update (open) when no t in tomes has (t.code = "no more caps") }
rules boxes { keeper may read (all), share when keeper = me }
test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper }
test identity ben { name "Ben"  email "ben@hollowoak.example"  roles keeper }
test identity cleo { name "Cleo"  email "cleo@hollowoak.example" }
`;

type Values = Record<string, unknown>;
const names = ['code', 'size', 'weight', 'kept', 'tags', 'keeper', 'note', 'sold'];
const collections = ['hives', 'crates', 'boxes'] as const;
const stored: Record<string, Values[]> = {};
const ids: Record<string, string> = {};
let world: World;
const idOf = (index: number) => `00000000-0000-4000-b000-${String(index + 1).padStart(12, '0')}`;

beforeAll(async () => {
  world = await openWorld(rules);
  for (const { id, _identity } of await run<{ id: string; _identity: string }>(
    world.database,
    sql`select id, _identity from records.people`,
  ))
    ids[_identity] = id;
  for (const collection of collections) {
    const dice = new Dice(7);
    stored[collection] = Array.from({ length: 9 }, (_, index) => ({
      id: `00000000-0000-4000-8000-${String(index + 1).padStart(12, '0')}`.replace(
        '8000',
        `${8 + collections.indexOf(collection)}000`.replace('10000', 'a000'),
      ),
      code: `OAK-${index}`,
      size: dice.percent(30) ? null : dice.between(1, 3),
      weight: dice.percent(30) ? null : `${index}.50`,
      kept: dice.percent(30) ? null : `2026-05-0${index + 1}`,
      tags: dice.percent(30) ? null : ['a "b"', 'c\\d'].slice(0, dice.between(0, 2)),
      keeper: ids[dice.pick(['ada', 'ben'])],
      note: dice.percent(30) ? null : `said “${index}”\n`,
      sold: dice.percent(60),
      ...(collection === 'crates'
        ? { more: dice.percent(40) ? null : { [`k${index}`]: [1, null, 'x'] } }
        : {}),
    }));
    for (const each of stored[collection])
      await run(
        world.database,
        sql`insert into ${{ text: `records.${collection}`, values: [] }} select r.* from jsonb_populate_record(null::${{ text: `records.${collection}`, values: [] }},
          ${value(JSON.stringify({ ...each, created_at: '2026-05-01T00:00:00Z', updated_at: '2026-05-01T00:00:00Z' }))}::text::jsonb) as r`,
      );
  }
});
afterAll(() => world.close());

/** What somebody sees of a record. */
function seen(record: Values, who: string, only: readonly string[] | null = null): Values {
  // What is shared is seen as its keeper sees it.
  const isBox = String(record.id).includes('-a000-');
  const own = record.keeper === ids[who];
  const withheld = new Set(
    isBox
      ? []
      : [
          ...(own && who !== 'cleo' ? [] : ['weight']),
          ...(own ? [] : ['note']),
          ...(record.sold === true ? [] : ['size']),
        ],
  );
  const isWithheld = (name: string) => withheld.has(name);
  const all = ('more' in record ? [...names, 'more'] : names).filter((name) => only?.includes(name) ?? true);
  return {
    id: record.id,
    ...Object.fromEntries(
      all.filter((name) => !isWithheld(name)).map((name) => [name, record[name] ?? null]),
    ),
    _withheld: all.filter(isWithheld),
  };
}

interface Asked {
  readonly order?: string;
  readonly limit?: number;
  readonly fields?: readonly string[];
  readonly where?: readonly [text: string, isMet: (seen: Values) => boolean];
  readonly count?: boolean;
  readonly rights?: boolean;
}

const asked: readonly Asked[] = [
  {},
  { limit: 1 },
  { limit: 4 },
  { order: 'size' },
  { order: 'size desc' },
  { order: 'kept desc, code' },
  { order: 'size', limit: 2 },
  { order: 'note desc', limit: 3 },
  { fields: ['code'] },
  { fields: ['size', 'note'] },
  { fields: ['code'], order: 'size desc' },
  { fields: ['code', 'weight'], order: 'note', limit: 2 },
  { fields: ['code'], rights: true },
  { rights: true },
  { count: true },
  { count: true, limit: 2 },
  { where: ['size > 1', ({ size }) => Number(size ?? 0) > 1] },
  { where: ['size > 2', ({ size }) => Number(size ?? 0) > 2] },
  { where: ['note is missing', ({ note }) => note === undefined || note === null] },
  {
    where: ['code in ("OAK-1", "OAK-4")', ({ code }) => code === 'OAK-1' || code === 'OAK-4'],
    order: 'size',
    count: true,
  },
  { where: ['size > 1', ({ size }) => Number(size ?? 0) > 1], limit: 1 },
];

/** In the order asked for: what is missing, or withheld, comes last, and records alike by their id. */
function inOrder(all: readonly Values[], order: string | undefined): Values[] {
  const keys = (order ?? 'id').split(', ').map((each) => each.split(' ') as [string, string?]);
  return all.toSorted((one, other) => {
    for (const [name, direction] of [...keys, ['id'] as [string, string?]]) {
      const [a, b] = [one[name] ?? null, other[name] ?? null] as (string | number | null)[];
      if (a === b) continue;
      if (a === null || b === null) return a === null ? 1 : -1;
      return (a! < b! ? -1 : 1) * (direction === 'desc' ? -1 : 1);
    }
    return 0;
  });
}

const pathOf = (collection: string, { where, fields: only, ...rest }: Asked, after: string | null) => {
  const query = new URLSearchParams(
    Object.entries(rest).map(([name, each]): [string, string] => [name, String(each)]),
  );
  if (where !== undefined) query.set('where', where[0]);
  if (only !== undefined) query.set('fields', only.join(','));
  if (after !== null) query.set('after', after);
  return `/v1/records/${collection}?${query.toString()}`;
};

/** Every page of an answer is what it must be; the last one says that there are no more. */
async function walk(
  collection: string,
  who: string,
  question: Asked,
  shared: (record: Values) => boolean,
): Promise<void> {
  const { where, order, limit = 50, fields: only = null, count } = question;
  const reading = stored[collection]!.filter(shared).map((record) => ({ record, all: seen(record, who) }));
  const met = reading.filter(({ all }) => where?.[1](all) ?? true);
  const sorted = inOrder(
    met.map(({ all }) => all),
    order,
  );
  const expected = sorted.map(({ id }) =>
    seen(met.find(({ record }) => record.id === id)!.record, who, only),
  );
  let after: string | null = null;
  for (let at = 0; at === 0 || at < expected.length; at += limit) {
    const path = pathOf(collection, question, after);
    const { json, status } = await world.ask('GET', path, { as: who });
    expect(status, path).toBe(200);
    const page = json.records.map(({ _rights, _tag, created_at: _, updated_at: __, ...rest }: Values) => {
      expect(_rights !== undefined && _tag !== undefined, path).toBe(question.rights === true);
      return rest;
    });
    expect(page, `${who}: ${path}`).toEqual(expected.slice(at, at + limit));
    expect(
      page.map((each: Values) => Object.keys(each)),
      'in the order of the fields',
    ).toEqual(expected.slice(at, at + limit).map((each) => Object.keys(each)));
    expect(json.count, path).toBe(count === true ? expected.length : undefined);
    expect(json.next === undefined || json.next === null, path).toBe(at + limit >= expected.length);
    after = json.next ?? null;
  }
}

describe.each(['hives', 'crates'])('%s', (collection) => {
  test('each list is what was asked for, page by page, whatever was asked before it and by whom', async () => {
    const dice = new Dice(3);
    for (let round = 0; round < 2; round++)
      for (const question of asked.toSorted(() => (dice.percent(50) ? 1 : -1)))
        for (const who of ['ada', 'ben', 'cleo']) await walk(collection, who, question, () => true);
  });

  test('a single record is the same as in a list, with its fields in the same order', async () => {
    for (const who of ['ada', 'cleo'])
      for (const record of stored[collection]!) {
        const path = `/v1/records/${collection}/${record.id as string}`;
        for (const only of [null, ['code', 'note']]) {
          const { json, text } = await world.ask(
            'GET',
            only === null ? path : `${path}?fields=${only.join(',')}`,
            { as: who },
          );
          expect(text.split('"id":').length, 'once').toBe(2);
          const { created_at: _, updated_at: __, ...rest } = json;
          expect(rest, path).toEqual(seen(record, who, only));
        }
      }
  });
});

test('what a reference brings along is what whoever asks sees of it by itself', async () => {
  for (const [index, hive] of stored.hives!.entries())
    await run(
      world.database,
      sql`insert into records.seals (id, code, hive, crate, created_at, updated_at)
        values (${value(idOf(index))}::uuid, ${value(`seal ${index}`)}::text, ${value(hive.id as string)}::uuid, ${value(stored.crates![index]!.id as string)}::uuid, now(), now())`,
    );
  for (const who of ['ada', 'cleo']) {
    const { json } = await world.ask('GET', '/v1/records/seals?include=hive,crate&order=code', { as: who });
    for (const [index, { _included }] of (json.records as { _included: Record<string, Values> }[]).entries())
      for (const collection of ['hive', 'crate']) {
        const { created_at: _, updated_at: __, ...rest } = _included[collection]!;
        expect(rest, `${who} ${collection} ${index}`).toEqual(seen(stored[`${collection}s`]![index]!, who));
      }
  }
});

test('what is shared with somebody is listed as it was asked for, too, until it is shared no more', async () => {
  const mine = stored.boxes!.filter(({ keeper }) => keeper === ids.ada);
  const body = { audience: 'people', for: ['read'] };
  const shares: string[] = [];
  for (const { id } of mine) {
    const made = await world.ask('POST', `/v1/records/boxes/${id as string}/shares`, { as: 'ada', body });
    expect(made.status).toBe(201);
    shares.push(`/v1/records/boxes/${id as string}/shares/${made.json.id}`);
  }
  for (const question of [...asked, ...asked.toReversed()])
    await walk('boxes', 'cleo', question, ({ keeper }) => keeper === ids.ada);
  for (const each of shares) await world.ask('DELETE', each, { as: 'ada' });
  for (const question of asked) await walk('boxes', 'cleo', question, () => false);
});

test.each(['tomes', 'scrolls'])(
  'a page of large %s ends sooner, and the next goes on there; what they bring along is bounded, too',
  async (name) => {
    const tomes = `/v1/records/${name}`;
    const sizes = [1, 1_500_000, 10, 2_000_000, 5_000_000, 1_900_000, 3];
    for (const [index, size] of sizes.entries())
      await run(
        world.database,
        sql`insert into ${{ text: `records.${name}`, values: [] }} (id, code, body, next, created_at, updated_at)
        values (${value(idOf(index))}::uuid, ${value(`tome ${index}`)}::text, repeat('x', ${value(size)}::integer), ${value(index === 0 ? null : idOf(index - 1))}::uuid, now(), now())`,
      );
    const pages: number[][] = [];
    for (let after = ''; pages.length < sizes.length;) {
      const { json } = await world.ask('GET', `${tomes}?limit=50&order=code${after}`, { as: 'cleo' });
      pages.push(json.records.map(({ body }: { body: string }) => body.length));
      if (json.next === null) break;
      after = `&after=${json.next}`;
    }
    // Four megabytes, and one record in any case, however large.
    expect(pages).toEqual([
      [1, 1_500_000, 10, 2_000_000, 5_000_000],
      [1_900_000, 3],
    ]);
    const along = async (limit: number, after: string) => {
      const { status, json } = await world.ask(
        'GET',
        `${tomes}?fields=code&include=next&order=code&limit=${limit}&where=${encodeURIComponent(`code >= "tome ${after}"`)}`,
        { as: 'cleo' },
      );
      return status === 200
        ? json.records.map(({ _included }: { _included: { next: { body: string } | null } }) =>
            _included.next === null ? null : _included.next.body.length,
          )
        : [status, json.errors[0].field];
    };
    expect(await along(4, '0')).toEqual([null, 1, 1_500_000, 10]);
    expect(await along(2, '5')).toEqual([400, 'include']);
    expect(await along(1, '6')).toEqual([1_900_000]);
  },
);

describe('changes', () => {
  const logs = '/v1/records/logs';
  const make = async (code: string, more: Values = {}): Promise<string> => {
    const body = { code, keeper: ids.ada, ...more };
    const { status, json } = await world.ask('POST', logs, { as: 'ada', body });
    expect(status, JSON.stringify(json)).toBe(201);
    return json.id;
  };
  const at = (id: string) => world.ask('GET', `${logs}/${id}`, { as: 'ada' });

  test('a precondition holds each time, whether whoever asks has been here before or not', async () => {
    for (let time = 0; time < 3; time++) {
      const id = await make(`if-${time}`);
      const path = `${logs}/${id}`;
      const stale = (await at(id)).headers.get('etag')!;
      expect((await world.ask('PATCH', path, { as: 'ada', body: { code: `was-${time}` } })).status).toBe(200);
      const asks = [
        ['PATCH', path, { code: 'never' }],
        ['POST', `${path}/actions/rename`, { to: 'never' }],
        ['DELETE', path, undefined],
      ] as const;
      for (const [method, on, body] of asks) {
        const asked = { as: 'ada', ...(body === undefined ? {} : { body }), headers: { 'if-match': stale } };
        expect((await world.ask(method, on, asked)).status, method).toBe(412);
      }
      const now = await at(id);
      expect(now.json.code).toBe(`was-${time}`);
      const headers = { 'if-match': now.headers.get('etag')! };
      expect((await world.ask('DELETE', path, { as: 'ada', headers })).status).toBe(204);
      expect((await at(id)).status).toBe(404);
    }
  });

  test('a precondition holds for a deletion that one trip would make, too', async () => {
    for (let time = 0; time < 3; time++) {
      const body = { code: `stale ${time}`, open: true };
      const { json } = await world.ask('POST', '/v1/records/lids', { as: 'cleo', body });
      const path = `/v1/records/lids/${json.id as string}`;
      const gone = async (tag: string) =>
        (await world.ask('DELETE', path, { as: 'cleo', headers: { 'if-match': tag } })).status;
      const { headers } = await world.ask('GET', path, { as: 'cleo' });
      expect([await gone('"another"'), await gone(headers.get('etag')!)]).toEqual([412, 204]);
    }
    const body = { code: 'last', open: true };
    const { json } = await world.ask('POST', '/v1/records/lids', { as: 'cleo', body });
    const made = tallies.writes.atOnce;
    await world.ask('DELETE', `/v1/records/lids/${json.id as string}`, { as: 'cleo' });
    expect(tallies.writes.atOnce - made, 'in one trip without').toBe(1);
  });

  test('whoever makes or changes what they do not see then is told no more than that it was done', async () => {
    const told = async (method: string, path: string, body: object) => {
      const { status, json } = await world.ask(method, path, { as: 'cleo', body });
      return [status, json === undefined || json === null ? null : Object.keys(json)];
    };
    // Whoever has been here before is answered in one trip, where rules look at no other records.
    for (const [kind, time] of [0, 1, 2].flatMap(
      (each) =>
        [
          ['lids', each],
          ['caps', each],
        ] as const,
    )) {
      const lids = `/v1/records/${kind}`;
      expect((await told('POST', lids, { code: `shut ${time}`, open: false }))[1]).toEqual(['id']);
      const made = async (code: string) =>
        (await world.ask('POST', lids, { as: 'cleo', body: { code, open: true } })).json.id as string;
      expect(await told('PATCH', `${lids}/${await made(`first ${time}`)}`, { open: false })).toEqual([
        204,
        null,
      ]);
      if (kind === 'lids')
        expect(await told('POST', `${lids}/${await made(`second ${time}`)}/actions/close`, {})).toEqual([
          204,
          null,
        ]);
    }
  });

  test('of several rules that fill something in, those alone do whose conditions are true', async () => {
    for (const [kind, ...fills] of [
      ['one', 'first'],
      ['two', 'second'],
      ['both', 'first', 'second'],
    ] as const)
      for (let time = 0; time < 2; time++) {
        const { json, status } = await world.ask('POST', '/v1/records/jars', { as: 'cleo', body: { kind } });
        expect(status, JSON.stringify(json)).toBe(201);
        const path = `/v1/records/jars/${json.id as string}`;
        const changed = await world.ask('PATCH', path, { as: 'cleo', body: { note: 'x' } });
        expect(changed.status, changed.text).toBe(200);
        const filled = ['first', 'second', 'third'].filter((name) => changed.json[name] !== null);
        expect(filled, kind).toEqual(fills);
        for (const name of filled) expect(changed.json[name]).toBe(ids.cleo);
      }
    const { json } = await world.ask('POST', '/v1/records/jars', { as: 'cleo', body: { kind: 'none' } });
    const path = `/v1/records/jars/${json.id as string}`;
    for (let time = 0; time < 2; time++) {
      expect((await world.ask('PATCH', path, { as: 'cleo', body: { note: 'x' } })).status).toBe(403);
      const { json: kept } = await world.ask('PATCH', path, { as: 'ben', body: { note: 'x' } });
      expect(kept).toMatchObject({ first: null, second: null, third: ids.ben });
    }
  });

  test('a reference whose record goes at any moment of a write is named, and no other', async () => {
    const hive = stored.hives![0]!.id;
    const table = { text: 'records.crates', values: [] };
    const copied = (id: string) =>
      sql`insert into ${table} (id, code, created_at, updated_at) values (${value(id)}::uuid, ${value(id)}::text, now(), now())`;
    const told: string[] = [];
    for (let at = 1; at <= 8; at++) {
      const crate = idOf(500 + at);
      await run(world.database, copied(crate));
      let trips = 0;
      statements.before = async () => {
        if (++trips !== at) return;
        statements.before = null;
        // Where the write holds it already, it stays.
        await world.database
          .transaction(async (on) => {
            await run(on, sql`set local lock_timeout = '50ms'`);
            await run(on, sql`delete from ${table} where id = ${value(crate)}::uuid`);
          })
          .catch(() => undefined);
      };
      const body = { code: `of ${at}`, hive, crate };
      const { status, json } = await world.ask('POST', '/v1/records/seals', { as: 'cleo', body });
      statements.before = null;
      if (status !== 201) expect([status, json.fields]).toEqual([422, ['crate']]);
      told.push(`${status}`);
    }
    expect(new Set(told)).toEqual(new Set(['201', '422']));
  });

  test('what goes along is gone with its shares, and what is cleared stays with its own', async () => {
    const a = await make('a');
    const b = await make('b', { up: a });
    const c = await make('c', { up: b, seen: a });
    const d = await make('d', { seen: c });
    const body = { audience: 'people', for: ['read'] };
    for (const id of [a, b, d])
      expect((await world.ask('POST', `${logs}/${id}/shares`, { as: 'ada', body })).status).toBe(201);
    expect((await world.ask('DELETE', `${logs}/${a}`, { as: 'ada' })).status).toBe(204);
    expect(await Promise.all([a, b, c].map(async (id) => (await at(id)).status))).toEqual([404, 404, 404]);
    expect((await at(d)).json.seen).toBeNull();
    const shared = await run<{ record: string }>(
      world.database,
      sql`select record from gate.shares where collection = 'logs'`,
    );
    expect(shared.map(({ record }) => record)).toEqual([d]);
  });

  test('what goes along may point back, in any order', async () => {
    const a = await make('round a');
    const leaf = await world.ask('POST', '/v1/records/leaves', { as: 'ada', body: { code: 'leaf', log: a } });
    const there = async () =>
      (await world.ask('GET', '/v1/records/leaves', { as: 'ada' })).json.records.length;
    await world.ask('PATCH', `${logs}/${a}`, { as: 'ada', body: { leaf: leaf.json.id } });
    expect([(await at(a)).json.leaf, await there()]).toEqual([leaf.json.id, 1]);
    expect((await world.ask('DELETE', `${logs}/${a}`, { as: 'ada' })).status).toBe(204);
    expect([(await at(a)).status, await there()]).toEqual([404, 0]);
  });

  test('a change of nothing is answered as a change, and changes nothing', async () => {
    const id = await make('still');
    const before = await at(id);
    for (let time = 0; time < 2; time++) {
      const { status, json } = await world.ask('PATCH', `${logs}/${id}`, { as: 'ada', body: {} });
      expect([status, json]).toEqual([200, before.json]);
      expect((await at(id)).headers.get('etag')).toBe(before.headers.get('etag'));
    }
  });

  test('a value that is too long for what makes it unique is named where it was sent as a field, and refused in any case', async () => {
    const long = Array.from({ length: 4_000 }, (_, n) =>
      String.fromCodePoint(0x4e00 + ((n * 7_919) % 20_000)),
    ).join('');
    const id = await make('short');
    const told = async (method: string, path: string, body: object) => {
      const { status, json } = await world.ask(method, path, { as: 'ada', body });
      return [status, json.fields];
    };
    for (let time = 0; time < 2; time++) {
      expect(await told('POST', logs, { code: long, keeper: ids.ada })).toEqual([422, ['code']]);
      expect(await told('PATCH', `${logs}/${id}`, { code: long })).toEqual([422, ['code']]);
      expect((await told('POST', `${logs}/${id}/actions/rename`, { to: long }))[0]).toBe(422);
    }
    expect((await at(id)).json.code).toBe('short');
  });
});

describe('no request takes more trips to the database, or statements, than it must:', () => {
  beforeAll(async () => {
    const mine = stored.boxes!.find(({ keeper }) => keeper === ids.ada)!;
    const body = { audience: 'people', for: ['read'] };
    await world.ask('POST', `/v1/records/boxes/${mine.id as string}/shares`, { as: 'ada', body });
    await world.ask('POST', '/v1/records/tomes', { as: 'cleo', body: { code: 'alone' } });
  });

  let made = 0;
  const making = async (collection: string, as: string, body: object) => {
    const { json } = await world.ask('POST', `/v1/records/${collection}`, { as, body });
    return `${collection}/${json.id as string}`;
  };
  const missing = encodeURIComponent('next is missing');

  test.each<
    [string, [number, number], string, string, string | (() => string | Promise<string>), (() => object)?]
  >([
    ['a list', [1, 2], 'GET', 'ada', 'hives'],
    ['a list with a filter', [1, 2], 'GET', 'ada', 'hives?where=size+%3E+1'],
    ['a count beside it', [2, 3], 'GET', 'ada', 'hives?count=true'],
    ['a list of what is shared', [1, 2], 'GET', 'cleo', 'boxes'],
    ['one record', [1, 2], 'GET', 'ada', () => `hives/${stored.hives![0]!.id as string}`],
    ['references that lead nowhere', [1, 2], 'GET', 'cleo', `tomes?include=next&where=${missing}`],
    ['a create', [1, 3], 'POST', 'cleo', 'lids', () => ({ code: `lid ${made++}`, open: true })],
    ['a delete', [1, 3], 'DELETE', 'cleo', () => making('lids', 'cleo', { open: true })],
    [
      'a delete by what stands elsewhere',
      [1, 5],
      'DELETE',
      'cleo',
      () => making('cups', 'cleo', { keeper: ids.ada }),
    ],
    ['a create step by step', [5, 7], 'POST', 'cleo', 'tomes', () => ({ code: `made ${made++}` })],
    [
      'what is filled in step by step',
      [9, 11],
      'PATCH',
      'ben',
      () => making('jars', 'ben', { kind: 'none' }),
      () => ({ note: 'x' }),
    ],
  ])('%s', async (_, expected, method, as, path, body) => {
    // The first time the planner is asked, and who calls is not known yet.
    const asked: number[] = [];
    for (let time = 0; time < 3; time++) {
      const to = typeof path === 'string' ? path : await path();
      asked.length = 0;
      statements.before = (together) => void asked.push(together);
      try {
        const { status } = await world.ask(method, `/v1/records/${to}`, {
          as,
          ...(body && { body: body() }),
        });
        expect(status).toBeLessThan(300);
      } finally {
        statements.before = null;
      }
    }
    expect([asked.length, asked.reduce((sum, each) => sum + each, 0)]).toEqual(expected);
  });
});
