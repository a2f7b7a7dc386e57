import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openDemo, openWorld, type World } from '../support/world.ts';

let world: World;
beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());

describe('reach', () => {
  test('is what the identity really gets, operation by operation', async () => {
    const { reach, collections, roles } = await world.desk.reach({ as: 'cleo' });
    expect(roles).toEqual(['inspector', 'keeper']);
    const cleo = await world.as('cleo');
    for (const { name } of collections) {
      const { count } = await cleo.list(name, { count: true, limit: 1 });
      const found = reach.find((each) => each.collection === name && each.operation === 'read');
      expect(found?.records ?? 0, name).toBe(count);
    }
    const hives = reach.find((each) => each.collection === 'hives' && each.operation === 'read')!;
    const first = await cleo.list('hives', { limit: 200 });
    const second = await cleo.list('hives', { limit: 200, after: first.next! });
    const records = [...first.records, ...second.records];
    for (const [field, count] of Object.entries(hives.fields))
      expect(count, field).toBe(records.filter((record) => field in record).length);
    expect(hives.through.map(({ rule, audience }) => `${rule} ${audience}`)).toEqual([
      'hives/3 inspector',
      'hives/1 keeper',
    ]);
  });

  test('tells what each of several roles adds, and where one gives back what another leaves out', async () => {
    const { adds, givesBack } = await world.desk.reach({ as: 'cleo' });
    expect(adds).toContainEqual(
      expect.objectContaining({ role: 'inspector', collection: 'hives', operation: 'read', records: 215 }),
    );
    // OAK-201 is cleo’s own, and open: both rules are true for it.
    expect(adds).toContainEqual({
      role: 'keeper',
      collection: 'hives',
      operation: 'read',
      records: 0,
      fields: { notes: 1, reserve_price: 1 },
    });
    expect(givesBack).toContainEqual({
      collection: 'hives',
      field: 'reserve_price',
      withheldBy: { rule: 'hives/3', audience: 'inspector' },
      givenBy: { rule: 'hives/1', audience: 'keeper' },
      records: 1,
    });
    expect((await world.desk.reach({ as: 'ada' })).adds).toEqual([]);
  });

  test('of a role is that of somebody who holds nothing else', async () => {
    const { reach } = await world.desk.reach({ role: 'treasurer' });
    const ops = reach.filter((each) => each.collection === 'payouts').map((each) => each.operation);
    expect(ops.toSorted()).toEqual(['pay', 'read']);
    // What is owned by nobody in particular is not reached by a keeper in general, who can make one of their own.
    const keeper = await world.desk.reach({ role: 'keeper' });
    expect(keeper.reach.filter((each) => each.collection === 'hives').map((each) => each.operation)).toEqual([
      'create',
    ]);
    expect((await world.desk.reach({ as: 'gus' })).reach).toEqual([]);
  });

  test('the other way round: who reaches a record, and through what', async () => {
    const { reachers, asked, left } = await world.desk.reachers('hives', 'OAK-101');
    expect([asked, left]).toEqual([12, 0]);
    expect(reachers.map((each) => each.name)).toEqual([
      'ben',
      'cleo',
      'dora',
      'ivo',
      'tess',
      'audra',
      'visitor',
    ]);
    const ben = reachers[0]!;
    expect(ben.operations).toEqual(['read', 'update', 'delete']);
    expect(ben.through).toMatchObject({ delete: [{ rule: 'hives/2', audience: 'keeper' }] });
    expect(reachers.filter((each) => each.shown.includes('reserve_price')).map((each) => each.name)).toEqual([
      'ben',
      'tess',
      'audra',
    ]);
    const notes = await world.desk.reachers('hives', 'OAK-101', { field: 'notes' });
    expect(notes.reachers.map(({ name, operations, through }) => [name, operations, through.read])).toEqual([
      ['ben', ['read', 'update'], [{ rule: 'hives/1', audience: 'keeper' }]],
    ]);
    const price = await world.desk.reachers('hives', 'OAK-101', { field: 'reserve_price' });
    expect(price.reachers.map(({ name, operations }) => [name, operations])).toEqual([
      ['ben', ['read']],
      ['tess', ['read']],
      ['audra', ['read']],
    ]);
    const people = await world.desk.reachers('hives', 'OAK-101', { people: true });
    expect(people.asked).toBeGreaterThan(30);
    expect(people.reachers.length).toBeGreaterThan(reachers.length);
  });

  test('bad questions are told what to ask', async () => {
    for (const path of [
      '/v1/desk/reach',
      '/v1/desk/reach?as=ada&role=keeper',
      '/v1/desk/reach?role=kepper',
    ]) {
      expect((await world.ask('GET', path, { token: world.deskToken })).status, path).toBe(400);
      expect((await world.ask('GET', path, { as: 'ada' })).status, path).toBe(401);
    }
    await expect(world.desk.reach({ role: 'kepper' })).rejects.toMatchObject({
      problem: { errors: [{ hint: expect.stringContaining('keeper') }] },
    });
    await expect(world.desk.reachers('hives', 'OAK-101', { field: 'note' })).rejects.toMatchObject({
      problem: { errors: [{ hint: expect.stringContaining('notes') }] },
    });
    await expect(world.desk.reachers('hives', 'OAK-999')).rejects.toMatchObject({ problem: { status: 400 } });
    await expect(world.desk.reachers('hivez', 'OAK-101')).rejects.toMatchObject({ problem: { status: 404 } });
  });
});

test('rules that look into lists, and whether there is a document, are counted where these are to be changed', async () => {
  const other = await openWorld(`
    people { level integer }
    collection jars { code text label  tags list of text  sizes list of integer  extra json }
    rules people { people may read (all) }
    rules jars {
      people may read (all), update (tags, sizes, extra), create (all)
      people may update (code) when some j in jars has (j.code in tags and 3 in sizes and extra is present)
      people may update (code) when code in tags or 3 in sizes or extra is missing or me.level in sizes
    }
    test identity ada { email "ada@hollowoak.example" level 3 }`);
  try {
    await other.ask('POST', '/v1/records/jars', { as: 'ada', body: { code: 'a', tags: ['a'], sizes: [4] } });
    const { reach } = (await other.ask('GET', '/v1/desk/reach?as=ada', { token: other.deskToken })).json;
    const updates = reach.find(
      (each: { collection: string; operation: string }) =>
        each.collection === 'jars' && each.operation === 'update',
    );
    expect(updates.fields).toMatchObject({ tags: 1, sizes: 1, extra: 1 });
    const { json } = await other.ask('GET', '/v1/records/jars?rights=true', { as: 'ada' });
    expect(json.records[0]._rights.update).toEqual(['code', 'tags', 'sizes', 'extra']);
  } finally {
    await other.close();
  }
});
