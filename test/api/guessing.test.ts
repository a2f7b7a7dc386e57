import { afterAll, afterEach, beforeAll, describe, expect, test } from 'vitest';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { run, statements } from '../../src/store/connection.ts';
import type { RunningService } from '../../src/service/start.ts';
import { demoRulebook, openDemo, openWorld, type Answer, type World } from '../support/world.ts';

/** Who asks a second time is asked for as whom they were, in one trip with whether they are so still. Nothing is served by the guess. */
let world: World;
let cold: RunningService;

beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());
afterEach(() => {
  statements.before = null;
});

/** How often the database is asked for one request. */
async function trips(
  ask: () => Promise<Answer>,
): Promise<{ readonly trips: number; readonly answer: Answer }> {
  let count = 0;
  statements.before = () => {
    count++;
  };
  const answer = await ask();
  statements.before = null;
  return { trips: count, answer };
}

const told = ({ status, headers, text }: Answer) => ({
  status,
  text: text.replace(/"request":"[^"]*"/, ''),
  headers: [...headers].filter(([name]) => name !== 'date' && name !== 'x-request-id'),
});

/** What a keeper writes here is decided by the hive alone, but for its apiary. */
const written = `
role keeper
test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper }
collection apiaries { name text required label }
collection hives {
  code text required label
  keeper ref people
  apiary ref apiaries
  status one of ("active", "resting", "retired") = "active"
  queen_year integer
  kept_since date
  notes text up to 40
  tags list of text
  about json
  retired_on timestamp
  retired_for text
  owned by keeper
}
action retire on hives (reason text required) sets status = "retired", retired_for = reason, retired_on = now
rules apiaries { people may read }
rules hives {
  keeper may read (all), create (code, apiary, notes) when keeper = me stamp keeper = me
  keeper may update (code, queen_year, kept_since, notes, tags, about), delete
    when keeper = me and status != "retired"
  keeper may retire when keeper = me
}
`;

describe('a request that is asked again', () => {
  test('takes one trip, and answers byte for byte what it answers somebody new', async () => {
    const { records } = (await world.ask('GET', '/v1/records/hives?limit=3', { as: 'ada' })).json;
    const paths = [
      '/v1/records/hives',
      '/v1/records/hives?limit=3&order=code%20desc',
      '/v1/records/hives?limit=2&rights=true',
      '/v1/records/hives?limit=2&count=true',
      '/v1/records/hives?where=queen_year%20%3E%202023&limit=4',
      '/v1/records/hives?include=apiary,keeper&limit=2&fields=code,apiary,keeper',
      '/v1/records/notices?limit=2',
      '/v1/records/nowhere',
      '/v1/records/hives?limit=0',
      ...records.map(({ id }: { id: string }) => `/v1/records/hives/${id}`),
      `/v1/records/hives/${records[0].id}?rights=true&include=apiary`,
      '/v1/records/hives/00000000-0000-4000-8000-000000000000',
    ];
    for (const as of ['ada', 'ivo', 'dora', undefined]) {
      for (const path of paths) {
        const asked = as === undefined ? {} : { as };
        // Somebody new to this process.
        cold = await world.another();
        const first = await world.ask('GET', path, { ...asked, url: cold.url });
        await cold.stop();
        await world.ask('GET', path, asked);
        const again = await trips(() => world.ask('GET', path, asked));
        expect(told(again.answer), `${as ?? 'visitor'} ${path}`).toEqual(told(first));
        // What comes along and what is counted is asked after the page; what is refused, once more of who asks.
        const isPlain = !/include|count|nowhere|limit=0|-0000-/.test(path);
        if (isPlain && as === 'ada') expect(again.trips, path).toBe(1);
      }
    }
  });

  test('is answered by what is so now: activity, roles, attributes, records, rules', async () => {
    const own = await openWorld(demoRulebook);
    try {
      const person = async (identity: string, set: string) =>
        run(
          own.database,
          sql`update records.people set ${{ text: set, values: [] }} where _identity = ${value(identity)}`,
        );
      const list = (as: string) => own.ask('GET', '/v1/records/apiaries?limit=1', { as });
      const hives = async (as: string) =>
        (await own.ask('GET', '/v1/records/hives', { as })).json.records.length;
      await run(
        own.database,
        sql`with d as (insert into records.districts (id, name, created_at, updated_at) values (gen_random_uuid(), 'North', now(), now()) returning id)
          insert into records.apiaries (id, name, district, created_at, updated_at) select gen_random_uuid(), 'Orchard', id, now(), now() from d`,
      );
      const [{ id: apiary }] = (await run<{ id: string }>(
        own.database,
        sql`select id from records.apiaries`,
      )) as [{ id: string }];
      const ada = await own.as('ada');
      await ada.create('hives', { code: 'OAK-1', apiary });
      for (let time = 0; time < 2; time++) expect(await hives('ada')).toBe(1);
      await run(own.database, sql`update records.hives set notes = 'seen'`);
      expect((await own.ask('GET', '/v1/records/hives', { as: 'ada' })).json.records[0].notes).toBe('seen');
      await run(own.database, sql`delete from gate.role_assignments where role = 'keeper'`);
      expect(await hives('ada'), 'a role that was taken').toBe(0);
      await run(
        own.database,
        sql`insert into gate.role_assignments (person, role) select id, 'keeper' from records.people where _identity = 'ada'`,
      );
      expect(await hives('ada'), 'and given again').toBe(1);
      await run(
        own.database,
        sql`update gate.role_assignments set ends = clock_timestamp() + interval '300 milliseconds' where role = 'keeper'`,
      );
      expect(await hives('ada')).toBe(1);
      await new Promise((resolve) => setTimeout(resolve, 400));
      expect(await hives('ada'), 'a role that has ended').toBe(0);
      expect((await list('ada')).status).toBe(200);
      for (const path of [
        '/v1/records/nowhere',
        '/v1/records/hives?limit=0',
        '/v1/records/apiaries?limit=1',
      ]) {
        // Ben was nobody else so far: each time it is guessed that they are who they were, and the first thing told is that they are nobody.
        await person('ben', '_active = true');
        expect((await list('ben')).status).toBe(200);
        await person('ben', '_active = false');
        expect((await own.ask('GET', path, { as: 'ben' })).status, path).toBe(401);
      }
      await person('ben', '_active = true');
      expect((await list('ben')).status).toBe(200);
      const before = (await list('ada')).headers.get('firmgate-rulebook');
      await own.desk.publish({
        despite: 'what is tried here is another thing',
        files: demoRulebook.map(({ name, text }) => ({
          name,
          text: text.replace(
            'people may read (all but landowner_phone, access_code)',
            'keeper may read (name)',
          ),
        })),
      });
      const after = await list('ada');
      expect(after.headers.get('firmgate-rulebook')).toBe(String(Number(before) + 1));
      // A publication gives test identities the roles that it says.
      expect(after.json.records[0]._withheld).toContain('district');
    } finally {
      await own.close();
    }
  });

  test('takes one trip where it writes, too, and does what it does for somebody new', async () => {
    const own = await openWorld(written);
    try {
      const [{ id: apiary }] = (await run<{ id: string }>(
        own.database,
        sql`insert into records.apiaries (id, name, created_at, updated_at) values (gen_random_uuid(), 'Orchard', now(), now()) returning id`,
      )) as [{ id: string }];
      const hive = async (notes: string | null) =>
        (
          await own.ask('POST', '/v1/records/hives', {
            as: 'ada',
            body: { code: `N-${Math.random()}`, notes },
          })
        ).json;
      const others = ['id', 'code', 'created_at', 'updated_at', 'retired_on', 'request'];
      const without = (document: object) =>
        Object.fromEntries(Object.entries(document).filter(([name]) => !others.includes(name)));
      const nowhere = '00000000-0000-4000-8000-000000000000';
      // Method, at a hive or not, further path, body, answer, in one trip or not.
      const writes: [string, string, string, object | undefined, number, boolean][] = [
        ['POST', '', '', { code: 'C', notes: '“quoted”, "twice" \\ \u2028\u0001\t\u007f' }, 201, true],
        ['POST', '', '', { code: 'C', apiary }, 201, true],
        ['POST', '', '', { code: 'C', apiary: nowhere }, 422, false],
        ['POST', '', '', { code: 'C', keeper: nowhere }, 403, false],
        ['PATCH', 'x', '', { notes: 'seen', queen_year: 2024, kept_since: '2024-05-01' }, 200, true],
        ['PATCH', 'x', '', { notes: null, tags: ['calm', 'old "queen"'], about: { weight: 3.5 } }, 200, true],
        ['PATCH', 'x', '', { about: { weight: null } }, 200, true],
        ['PATCH', 'x', '', { notes: 'x'.repeat(41) }, 400, false],
        ['PATCH', 'x', '', {}, 200, false],
        ['PATCH', 'x', '', { status: 'retired' }, 403, false],
        ['POST', 'x', '/actions/retire', { reason: 'old' }, 200, true],
        ['DELETE', 'x', '', undefined, 204, true],
      ];
      for (const [method, id, rest, body, expected, isOne] of writes) {
        const ask = async (on: { url?: string }) => {
          const of = id === '' ? null : await hive('a note');
          const path = `/v1/records/hives${of === null ? '' : `/${of.id}`}${rest}`;
          const given = body !== undefined && 'code' in body ? { ...body, code: `W-${Math.random()}` } : body;
          const asked = { as: 'ada', ...on, ...(given === undefined ? {} : { body: given }) };
          const answered = await trips(() => own.ask(method as 'POST', path, asked));
          const there =
            of === null ? null : await own.ask('GET', `/v1/records/hives/${of.id}`, { as: 'ada' });
          return { ...answered, there: there === null ? null : [there.status, without(there.json)] };
        };
        const fresh = await own.another();
        const cold = await ask({ url: fresh.url });
        await fresh.stop();
        await ask({});
        const warm = await ask({});
        const told = `${method} ${rest} ${JSON.stringify(body)}`;
        expect([cold.answer.status, warm.answer.status], told).toEqual([expected, expected]);
        expect(warm.there, told).toEqual(cold.there);
        if (expected !== 204) expect(without(warm.answer.json), told).toEqual(without(cold.answer.json));
        if (isOne) expect(warm.trips, told).toBe(1);
        if (isOne) expect(cold.trips, told).toBeGreaterThan(1);
      }
    } finally {
      await own.close();
    }
  });

  test('writes nothing for somebody who was let go, has lost their role, or by rules that have gone', async () => {
    const own = await openWorld(written);
    try {
      const ask = (method: string, path: string, body?: object) =>
        own.ask(method as 'POST', `/v1/records/hives${path}`, {
          as: 'ada',
          ...(body === undefined ? {} : { body }),
        });
      const { id } = (await ask('POST', '', { code: 'OAK-1' })).json;
      const write = (notes: string) => ask('PATCH', `/${id}`, { notes });
      const notes = async () =>
        (
          await run<{ notes: string }>(
            own.database,
            sql`select notes from records.hives where id = ${value(id)}::uuid`,
          )
        )[0]!.notes;
      const set = (text: string) => run(own.database, { text, values: [] });
      for (const [what, takes, gives, refused] of [
        [
          'let go',
          `update records.people set _active = false where _identity = 'ada'`,
          `update records.people set _active = true where _identity = 'ada'`,
          401,
        ],
        [
          'no keeper',
          `delete from gate.role_assignments where role = 'keeper'`,
          `insert into gate.role_assignments (person, role) select id, 'keeper' from records.people where _identity = 'ada'`,
          404,
        ],
        [
          'another’s',
          `update records.hives set keeper = null`,
          `update records.hives set keeper = (select id from records.people where _identity = 'ada')`,
          404,
        ],
        [
          'retired',
          `update records.hives set status = 'retired'`,
          `update records.hives set status = 'active'`,
          403,
        ],
      ] as const) {
        expect((await write('before')).status).toBe(200);
        expect((await trips(() => write('before'))).trips).toBe(1);
        await set(takes);
        expect((await write(what)).status, what).toBe(refused);
        expect((await ask('DELETE', `/${id}`)).status, what).toBe(refused);
        expect(await notes()).toBe('before');
        await set(gives);
      }
      expect((await write('before')).status).toBe(200);
      await own.desk.publish({
        despite: 'what is tried here is another thing',
        files: [{ name: 'test.gate', text: `${written}\nrules hives { nobody may update (notes) }` }],
      });
      expect((await write('by the old rules')).status).toBe(403);
      expect(await notes()).toBe('before');
    } finally {
      await own.close();
    }
  });

  test('is decided by the record as it is when the write has got it, however long it waits for it', async () => {
    const own = await openWorld(written);
    try {
      const ask = (method: string, path: string, body: object) =>
        own.ask(method as 'POST', `/v1/records/hives${path}`, { as: 'ada', body });
      const { id } = (await ask('POST', '', { code: 'OAK-1' })).json;
      for (const [set, status] of [
        [`status = 'retired'`, 403],
        [`keeper = null`, 404],
        [`queen_year = 2021`, 200],
      ] as const) {
        await run(
          own.database,
          sql`update records.hives set status = 'active', keeper = (select id from records.people where _identity = 'ada'), notes = null, queen_year = null`,
        );
        expect((await ask('PATCH', `/${id}`, { notes: 'before' })).status).toBe(200);
        let answer: Promise<Answer>;
        let isWaiting = true;
        await own.database.transaction(async (transaction) => {
          await run(transaction, { text: `update records.hives set ${set}`, values: [] });
          answer = ask('PATCH', `/${id}`, { notes: 'after' });
          void answer.then(() => (isWaiting = false));
          await new Promise((resolve) => setTimeout(resolve, 150));
          expect(isWaiting, 'it waits for the record').toBe(true);
        });
        expect((await answer!).status, set).toBe(status);
        const [row] = await run<{ notes: string; queen_year: number }>(
          own.database,
          sql`select notes, queen_year from records.hives`,
        );
        expect(row!.notes).toBe(status === 200 ? 'after' : 'before');
        if (status === 200) expect((await answer!).json.queen_year).toBe(2021);
      }
    } finally {
      await own.close();
    }
  });

  test('takes one trip where others share something, and each caller is answered by what is shared with them now', async () => {
    const own = await openWorld(
      `role keeper  role guest
      people { trusted boolean }
      collection hives { code text required label  keeper ref people  locked boolean }
      rules hives {
        keeper may read (all), create (code, keeper), update (code) when keeper = me
        keeper may share when keeper = me and locked is missing
        nobody may share unless me.trusted = true
      }
      rules people { people may read (name) }
      test identity ada { name "Ada" roles keeper trusted true }
      test identity ben { name "Ben" roles guest }
      test identity cleo { name "Cleo" roles guest }`,
    );
    try {
      const set = (text: string) => run(own.database, { text, values: [] });
      await set(
        `insert into records.hives (id, code, keeper, created_at, updated_at)
          select gen_random_uuid(), 'OAK-' || n, (select id from records.people where _identity = 'ada'), now(), now() from generate_series(1, 6) as n`,
      );
      const share = (codes: string, to: string, ends = 'null') =>
        set(
          `insert into gate.shares (id, collection, record, operations, sharer, person, role, audience, ends)
            select gen_random_uuid(), 'hives', id, array['read'], keeper, ${to}, ${ends} from records.hives where code in (${codes})`,
        );
      const person = (name: string) =>
        `(select id from records.people where _identity = '${name}'), null, null`;
      await share(`'OAK-1', 'OAK-2'`, person('ben'));
      await share(`'OAK-3'`, person('cleo'));
      await share(`'OAK-4'`, `null, 'guest', null`);
      await share(`'OAK-5'`, `null, null, 'everybody'`);
      let { url } = own.service;
      const list = async (as?: string, query = '') =>
        trips(() =>
          own.ask('GET', `/v1/records/hives${query}`, { url, ...(as === undefined ? {} : { as }) }),
        );
      const codes = async (as?: string, query = '') =>
        (await list(as, query)).answer.json.records.map(({ code }: { code: string }) =>
          Number(code.slice(4)),
        );
      const all = async (query = '') =>
        Promise.all([codes('ben', query), codes('cleo', query), codes(undefined, query)]);
      const orders = ['?order=code', '?order=code%20desc', ''];
      const agree = async (expected: number[][]) => {
        for (const query of orders)
          for (let time = 0; time < 2; time++)
            expect(
              (await all(query)).map((each) => each.toSorted()),
              query,
            ).toEqual(expected);
      };
      await agree([[1, 2, 4, 5], [3, 4, 5], [5]]);
      for (const as of ['ben', 'cleo', undefined])
        for (const query of orders) expect((await list(as, query)).trips, `${as} ${query}`).toBe(1);
      // From one question to the next another is theirs: whatever it comes of, and whichever process it was changed by.
      for (const [takes, gives, expected] of [
        [`delete from gate.shares where person is not null`, null, [[4, 5], [4, 5], [5]]],
        [
          `update gate.shares set ends = now() - interval '1 second' where role is not null`,
          `update gate.shares set ends = null`,
          [[5], [5], [5]],
        ],
        [
          `update records.people set trusted = false where _identity = 'ada'`,
          `update records.people set trusted = true where _identity = 'ada'`,
          [[], [], []],
        ],
        [
          `update records.people set _active = false where _identity = 'ada'`,
          `update records.people set _active = true where _identity = 'ada'`,
          [[], [], []],
        ],
        [
          `delete from gate.role_assignments where person = (select id from records.people where _identity = 'ada')`,
          `insert into gate.role_assignments (person, role) select id, 'keeper' from records.people where _identity = 'ada'`,
          [[], [], []],
        ],
        [
          `delete from gate.role_assignments where person = (select id from records.people where _identity = 'ben')`,
          `insert into gate.role_assignments (person, role) select id, 'guest' from records.people where _identity = 'ben'`,
          [[5], [4, 5], [5]],
        ],
        [
          `update records.hives set locked = true where code = 'OAK-5'`,
          `update records.hives set locked = null`,
          [[4], [4], []],
        ],
      ] as const) {
        // A process of its own: of whoever was taken for another three times nothing is guessed for a while.
        const fresh = await own.another();
        ({ url } = fresh);
        for (let time = 0; time < 2; time++) await all();
        expect((await list('ben')).trips, takes).toBe(1);
        await set(takes);
        expect(
          (await all()).map((each) => each.toSorted()),
          takes,
        ).toEqual(expected);
        await fresh.stop();
        if (gives !== null) await set(gives);
      }
      // So many that none is named: they are asked for in the database, by the same guess.
      ({ url } = own.service);
      await set(
        `insert into gate.shares (id, collection, record, operations, sharer, audience)
          select gen_random_uuid(), 'hives', gen_random_uuid(), array['read'], id, 'everybody' from records.people, generate_series(1, 250) where _identity = 'ada'`,
      );
      await agree([[4, 5], [4, 5], [5]]);
      await set(
        `delete from gate.shares where audience is not null and record in (select id from records.hives)`,
      );
      await agree([[4], [4], []]);
      // A share of an update is asked step by step, and ends with the share.
      await set(`update gate.shares set operations = array['read', 'update'] where role is not null`);
      const [{ id }] = (await own.ask('GET', '/v1/records/hives', { as: 'ben' })).json.records;
      const rename = (code: string) =>
        own.ask('PATCH', `/v1/records/hives/${id}`, { as: 'ben', body: { code } });
      for (const code of ['OAK-7', 'OAK-8', 'OAK-4']) expect((await rename(code)).status).toBe(200);
      await set(`update gate.shares set operations = array['read'] where role is not null`);
      expect((await rename('OAK-9')).status).toBe(403);
      // What one may write by a share, another of the same roles may not; in a process that guesses both.
      const fresh = await own.another();
      ({ url } = fresh);
      await set(`delete from gate.shares`);
      await share(`'OAK-1'`, person('ben'));
      await share(`'OAK-3'`, person('cleo'));
      await set(`update gate.shares set operations = array['read', 'update']`);
      const [{ id: first }] = (await own.ask('GET', '/v1/records/hives', { as: 'ben' })).json.records;
      const asks = async (as: string, code: string) =>
        (await own.ask('PATCH', `/v1/records/hives/${first}`, { as, body: { code }, url })).status;
      for (let time = 0; time < 3; time++) {
        await codes('cleo');
        await codes('ben');
        expect([await asks('ben', `OAK-1${time}`), await asks('cleo', 'OAK-0')]).toEqual([200, 404]);
      }
    } finally {
      await own.close();
    }
  });

  test('is not guessed any more for somebody who is another each time', async () => {
    const asked: number[] = [];
    for (let time = 0; time < 5; time++) {
      await world.ask('GET', '/v1/records/hives?limit=1', { as: 'ben' });
      await run(
        world.database,
        sql`update records.people set phone = ${value(`+44 1632 96000${time}`)} where _identity = 'ben'`,
      );
      asked.push((await trips(() => world.ask('GET', '/v1/records/hives?limit=1', { as: 'ben' }))).trips);
    }
    expect(asked).toEqual([3, 3, 3, 2, 2]);
  });

  test('at the same moment by many, while one is let go and comes back, is never answered for the wrong one', async () => {
    const ids = new Map<string, Set<string>>();
    for (const as of ['ada', 'ben', 'cleo']) {
      const { records } = (await world.ask('GET', '/v1/records/hives?limit=200', { as })).json;
      ids.set(as, new Set(records.map(({ id }: { id: string }) => id)));
    }
    let isOver = false;
    const turning = (async () => {
      while (!isOver)
        for (const active of [false, true]) {
          await new Promise((resolve) => setTimeout(resolve, 15));
          await run(
            world.database,
            sql`update records.people set _active = ${value(active)} where _identity = 'ben'`,
          );
        }
    })();
    const counts = { answered: 0, refused: 0 };
    await Promise.all(
      Array.from({ length: 24 }, async (_, index) => {
        const as = ['ada', 'ben', 'cleo'][index % 3]!;
        for (let time = 0; time < 25; time++) {
          const { status, json } = await world.ask('GET', '/v1/records/hives?limit=200', { as });
          if (status === 401) {
            expect(as).toBe('ben');
            counts.refused++;
            continue;
          }
          expect(status).toBe(200);
          expect(new Set(json.records.map(({ id }: { id: string }) => id))).toEqual(ids.get(as));
          counts.answered++;
        }
      }),
    );
    isOver = true;
    await turning;
    expect(counts.answered).toBeGreaterThan(300);
    expect(counts.refused).toBeGreaterThan(10);
  });
});
