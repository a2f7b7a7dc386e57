import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openWorld, type World } from '../support/world.ts';

/** What changes more than the caller supplied: actions, stamps on update, and what a delete takes along. */
const rulebook = `
collection shelves { name text required label  keeper ref people  open boolean = true }
collection jars {
  code    text required label
  shelf   ref shelves on delete clear
  keeper  ref people required
  state   one of ("filled", "listed", "sold") = "filled"
  price   decimal
  buyer   ref people
  seller  text
  checked text
  seen_by ref people
  note    text
  tags    list of text
  extra   json
}
collection seals { code text required label  jar ref jars required on delete remove  wax text }
collection prints { code text required label  seal ref seals required on delete remove  pair ref prints on delete remove }
collection audits { code text required label  jar ref jars required }

action list on jars (price decimal required, text text) sets state = "listed", price = price, note = text
action sell on jars (to ref people) sets state = "sold", buyer = to, seen_by = me
action recall on jars sets state = "filled", buyer = missing

role keeper  role clerk  role checker  role reader includes clerk only read  role trader includes clerk without jars (sell)

rules people { clerk, trader may read when email != "hidden@hollowoak.example" }
rules shelves { keeper may read (all), create (name), delete when keeper = me stamp keeper = me  clerk may read, delete }
rules jars {
  keeper may read, create, delete when keeper = me stamp seen_by = me
  keeper may update (note) when keeper = me stamp checked = "by the keeper"
  keeper may update (note, price, tags, extra) when keeper = me and state = "filled"
  keeper may list when old.state = "filled" and new.price > 1 and keeper = me
  clerk may read when state != "filled"
  clerk may sell, recall when old.state != "filled"
  checker may read
  checker may update (note) when note is present stamp checked = "twice"
  checker may update (seller) stamp checked = "once"
  checker may update (seen_by) when seller = "x" stamp checked = "never"
  nobody but clerk may update (buyer) unless old.buyer is missing
  nobody may sell unless old.code != "JAR-LOCKED"
}
rules seals {
  keeper may read when jar.keeper = me
  nobody may delete unless wax != "red"
}
rules audits { clerk may read }

test identity ada   { email "ada@hollowoak.example"   roles keeper }
test identity ben   { email "ben@hollowoak.example"   roles keeper }
test identity carl  { email "carl@hollowoak.example"  roles clerk }
test identity cora  { email "cora@hollowoak.example"  roles checker }
test identity rita  { email "rita@hollowoak.example"  roles reader }
test identity tara  { email "tara@hollowoak.example"  roles trader }
test identity hidden { email "hidden@hollowoak.example" }
`;

let world: World;
const people = new Map<string, string>();

beforeAll(async () => {
  world = await openWorld(rulebook);
  for (const { name, id } of (await world.desk.overview()).identities) people.set(name, id!);
});
afterAll(() => world.close());

let made = 0;
async function insert(collection: string, values: Record<string, unknown>): Promise<string> {
  const all: Record<string, unknown> = { code: `X-${++made}`, ...values };
  const names = Object.keys(all).filter((name) => !(collection === 'shelves' && name === 'code'));
  const row = await world.database.raw(
    `insert into records.${collection} (id, created_at, updated_at, ${names.join(', ')}) values (gen_random_uuid(), now(), now(), ${names.map(() => '?').join(', ')}) returning id`,
    names.map((name) => all[name] as string),
  );
  return (row as { rows: { id: string }[] }).rows[0]!.id;
}
const jar = (values: Record<string, unknown> = {}) =>
  insert('jars', { keeper: people.get('ada'), state: 'filled', ...values });
const act = (as: string, id: string, action: string, body: object = {}, headers = {}) =>
  world.ask('POST', `/v1/records/jars/${id}/actions/${action}`, { as, body, headers });
const change = (as: string, id: string, body: object) =>
  world.ask('PATCH', `/v1/records/jars/${id}`, { as, body });
const stored = async (collection: string, id: string): Promise<Record<string, unknown> | undefined> => {
  const found: unknown = await world.database.raw(`select * from records.${collection} where id = ?`, [id]);
  return (found as { rows: Record<string, unknown>[] }).rows[0];
};

describe('an action', () => {
  test('sets what it declares, from parameters, from the caller and to nothing', async () => {
    const id = await jar();
    const listed = await act('ada', id, 'list', { price: '4.50', text: 'Dark' });
    expect([listed.status, listed.json]).toMatchObject([
      200,
      { state: 'listed', price: '4.50', note: 'Dark' },
    ]);
    const sold = await act('carl', id, 'sell', { to: people.get('ben') });
    expect(sold.json).toMatchObject({ state: 'sold', buyer: people.get('ben'), seen_by: people.get('carl') });
    // It leaves the clerk's sight with that, so nothing is shown of it.
    expect((await act('carl', id, 'recall')).status).toBe(204);
    expect(await stored('jars', id)).toMatchObject({ state: 'filled', buyer: null });
  });

  test('needs a rule that is true on both sides', async () => {
    const id = await jar();
    expect((await act('ada', id, 'list', { price: '0.50' })).json.type).toBe('/problems/not-allowed');
    expect((await act('ada', id, 'list', { price: '2' })).status).toBe(200);
    expect((await act('ada', id, 'list', { price: '3' })).json.type).toBe('/problems/not-allowed');
    expect((await act('ada', id, 'sell')).json.type).toBe('/problems/not-allowed');
    expect((await stored('jars', id))!.state).toBe('listed');
  });

  test('obeys fences on itself, and on updating what it sets', async () => {
    const locked = await jar({ code: 'JAR-LOCKED', state: 'listed' });
    expect((await act('carl', locked, 'sell')).status).toBe(403);
    // The fence on buyer exempts clerks; for selling, a trader is none.
    const id = await jar({ state: 'sold', buyer: people.get('ben') });
    expect((await act('tara', id, 'sell')).status).toBe(403);
    expect((await act('tara', id, 'recall')).status).toBe(204);
  });

  test('is not there where the record, the collection or the action is not', async () => {
    const id = await jar();
    const unreadable = await act('ben', id, 'list', { price: '4' });
    const absent = await act('ben', people.get('ada')!, 'list', { price: '4' });
    expect({ ...unreadable.json, request: '' }).toEqual({ ...absent.json, request: '' });
    expect(absent.status).toBe(404);
    expect((await act('ada', id, 'burn')).status).toBe(404);
    expect((await act('ada', id, 'constructor')).status).toBe(404);
  });

  test('takes only what it declares, of the right shape, and references that the caller can read', async () => {
    const id = await jar({ state: 'listed' });
    const missing = await act('ada', id, 'list');
    expect(missing.json.errors).toMatchObject([
      { field: 'price', message: expect.stringContaining('required') },
    ]);
    expect((await act('ada', id, 'list', { price: 4.5, buyer: 'x' })).json.errors).toHaveLength(2);
    const to = people.get('hidden');
    expect((await act('carl', id, 'sell', { to })).json).toMatchObject({ status: 422, fields: ['to'] });
    expect((await act('carl', id, 'sell', [])).status).toBe(400);
  });

  test('keeps to If-Match', async () => {
    const id = await jar();
    const tag = (await world.ask('GET', `/v1/records/jars/${id}`, { as: 'ada' })).headers.get('etag')!;
    expect((await act('ada', id, 'list', { price: '4' }, { 'if-match': '"x"' })).status).toBe(412);
    expect((await act('ada', id, 'list', { price: '4' }, { 'if-match': tag })).status).toBe(200);
  });
});

describe('roles that include others', () => {
  test('bring them along for some operations alone', async () => {
    const id = await jar({ state: 'listed' });
    const read = (as: string) => world.ask('GET', `/v1/records/jars/${id}`, { as });
    expect([(await read('rita')).status, (await read('tara')).status]).toEqual([200, 200]);
    expect((await act('rita', id, 'recall')).status).toBe(403);
    expect((await act('tara', id, 'sell')).status).toBe(403);
    expect((await act('tara', id, 'recall')).status).toBe(204);
    expect((await world.ask('GET', '/v1/me', { as: 'rita' })).json.roles).toEqual(['reader']);
  });
});

describe('a stamp on update', () => {
  test('is set where its rule covers what is supplied, and is true', async () => {
    const id = await jar();
    expect((await change('ada', id, { note: 'x' })).json.checked).toBe('by the keeper');
    await world.database.raw(`update records.jars set checked = null where id = ?`, [id]);
    expect((await change('ada', id, { price: '3.00' })).json.checked).toBeNull();
    expect((await change('cora', id, { seller: 'y' })).json.checked).toBe('once');
    // The rule that stamps “never” covers seen_by, and is not true: so nothing is stamped, nor allowed.
    expect((await change('cora', id, { seen_by: null })).status).toBe(403);
  });

  test('refuses the update where two that differ would be set', async () => {
    const id = await jar({ note: 'x', checked: 'as it was' });
    expect((await change('cora', id, { seller: 'z', note: 'y' })).status).toBe(403);
    // Without a note the first of the two is not true, before or after, and so covers nothing.
    expect((await change('cora', id, { seller: 'z', note: null })).status).toBe(403);
    expect(await stored('jars', id)).toMatchObject({ checked: 'as it was', seller: null });
    expect((await change('cora', id, { note: 'y' })).json.checked).toBe('twice');
  });
});

describe('on delete', () => {
  const remove = (as: string, collection: string, id: string) =>
    world.ask('DELETE', `/v1/records/${collection}/${id}`, { as });
  const rehearsed = (as: string, shelf: string) =>
    world.ask('DELETE', `/v1/records/shelves/${shelf}`, { as, headers: { 'firmgate-rehearsal': 'true' } });

  test('takes along and clears, over several steps, without asking for grants', async () => {
    const shelf = await insert('shelves', { name: 'A', keeper: people.get('ada') });
    const kept = await jar({ shelf });
    expect((await remove('ada', 'shelves', shelf)).status).toBe(204);
    expect((await stored('jars', kept))!.shelf).toBeNull();
    const seal = await insert('seals', { jar: kept, wax: 'blue' });
    const first = await insert('prints', { seal });
    const second = await insert('prints', { seal, pair: first });
    await world.database.raw('update records.prints set pair = ? where id = ?', [second, first]);
    expect((await remove('ada', 'jars', kept)).status).toBe(204);
    for (const [collection, id] of [
      ['jars', kept],
      ['seals', seal],
      ['prints', first],
      ['prints', second],
    ] as const)
      expect(await stored(collection, id)).toBeUndefined();
  });

  test('stops at a fence of a record that would go along, and undoes everything', async () => {
    const id = await jar();
    const blue = await insert('seals', { jar: id, wax: 'blue' });
    await insert('seals', { jar: id, wax: 'red' });
    const { status, text } = await remove('ada', 'jars', id);
    expect([status, text]).toEqual([409, expect.not.stringContaining('seal')]);
    expect(await stored('seals', blue)).toBeDefined();
  });

  test('refuses where a record that must not go points at one that would', async () => {
    const id = await jar();
    const seal = await insert('seals', { jar: id, wax: 'blue' });
    await insert('audits', { jar: id });
    expect((await remove('ada', 'jars', id)).status).toBe(409);
    expect(await stored('seals', seal)).toBeDefined();
  });

  test('clears nothing that a fence on the field keeps', async () => {
    await world.desk.publish({
      files: [
        {
          name: 'test.gate',
          text: `${rulebook}\nrules jars { nobody may update (shelf) unless state = "filled" }`,
        },
      ],
    });
    const shelf = await insert('shelves', { name: 'B', keeper: people.get('ada') });
    const sold = await jar({ shelf, state: 'sold' });
    expect((await remove('carl', 'shelves', shelf)).status).toBe(409);
    expect((await stored('jars', sold))!.shelf).toBe(shelf);
  });

  test('asks a fence of everything that the deletion would leave, and not of one reference at a time', async () => {
    const text = rulebook.replace(
      '  keeper  ref people required\n',
      (all) => `${all}  spare ref shelves on delete clear\n`,
    );
    const fence = (condition: string) => `${text}\nrules jars { nobody may update unless ${condition} }`;
    const publish = (condition: string) =>
      world.desk.publish({ files: [{ name: 'test.gate', text: fence(condition) }] });
    await publish('new.shelf is present or new.spare is present');
    const [one, other] = [
      await insert('shelves', { name: 'C', keeper: people.get('ada') }),
      await insert('shelves', { name: 'D', keeper: people.get('ada') }),
    ];
    const id = await jar({ shelf: one, spare: one });
    const apart = await jar({ shelf: other, spare: null });
    const spared = await jar({ shelf: other, spare: one });
    for (const shelf of [one, other]) {
      expect((await remove('carl', 'shelves', shelf)).status).toBe(409);
      expect((await rehearsed('carl', shelf)).status).toBe(409);
    }
    await world.database.raw('delete from records.jars where id = ?', [apart]);
    expect((await remove('carl', 'shelves', other)).status).toBe(204);
    expect(await stored('jars', spared)).toMatchObject({ shelf: null, spare: one });
    // What another record loses by it counts, too: of two jars on the shelf neither has one afterwards.
    await world.database.raw('update records.jars set shelf = null, spare = null where id <> ?', [id]);
    const second = await jar({ shelf: one });
    await publish('some j in jars has (j.shelf is present)');
    expect((await remove('carl', 'shelves', one)).status).toBe(409);
    expect([(await stored('jars', id))!.spare, (await stored('jars', second))!.shelf]).toEqual([one, one]);
    await jar({ shelf: await insert('shelves', { name: 'E', keeper: people.get('ada') }) });
    expect((await remove('carl', 'shelves', one)).status).toBe(204);
    expect(await stored('jars', id)).toMatchObject({ shelf: null, spare: null });
  });
});

describe('lists and JSON', () => {
  test('go in and come out as they are, and are found by what is in them', async () => {
    const tags = ['dark', 'a, "b"', 'null', '{}', '\\', ''];
    const extra = { depth: [1, { a: null }], text: '😀' };
    const id = await jar();
    const changed = await change('ada', id, { tags, extra });
    expect([changed.json.tags, changed.json.extra]).toEqual([tags, extra]);
    const found = async (where: string) =>
      (
        await world.ask('GET', `/v1/records/jars?where=${encodeURIComponent(where)}`, { as: 'ada' })
      ).json.records.map((record: { id: string }) => record.id);
    expect(await found('tags contains "a, \\"b\\""')).toEqual([id]);
    expect(await found('"dark" in tags and extra is present')).toEqual([id]);
    expect(await found('"pale" in tags')).toEqual([]);
    expect((await change('ada', id, { tags: [], extra: null })).json).toMatchObject({
      tags: [],
      extra: null,
    });
    expect(await found('tags is missing')).not.toContain(id);
  });

  test('are refused where they are malformed, and have no order', async () => {
    const id = await jar();
    for (const body of [
      { tags: ['a', null] },
      { tags: 'a' },
      { tags: [1] },
      { tags: Array(1001).fill('a') },
      { extra: 'a\u0000' },
    ])
      expect((await change('ada', id, body)).status).toBe(400);
    let deep: unknown = 1;
    for (let depth = 0; depth < 40; depth++) deep = [deep];
    expect((await change('ada', id, { extra: deep })).status).toBe(400);
    const ordered = await world.ask('GET', '/v1/records/jars?order=tags', { as: 'ada' });
    expect([ordered.status, ordered.text]).toEqual([400, expect.stringContaining('has no order')]);
    const long = await world.ask(
      'GET',
      `/v1/records/jars?where=${encodeURIComponent(`note in (${'"",'.repeat(1300)}"")`)}`,
      { as: 'ada' },
    );
    expect([long.status, long.json.errors[0].code]).toEqual([400, 'P003']);
  });
});
