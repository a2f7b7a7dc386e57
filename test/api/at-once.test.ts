import { afterAll, beforeAll, expect, test } from 'vitest';
import { inTurn } from '../../src/store/records/turns.ts';
import { openWorld, type World } from '../support/world.ts';

/** Writes at the same moment: none is right alone and wrong together with another, and nobody is turned away. */
const CLIENTS = 16;

let world: World;
beforeAll(async () => {
  world = await openWorld(`
    people { limit integer }
    collection hives { code text required label  keeper ref people  status one of ("active", "retired") = "active" }
    collection visits { code text required label  hive ref hives required on delete remove  inspector ref people  open boolean = true }
    collection tickets { code text required label  holder ref people }
    collection badges { code text required label  holder ref people }
    role keeper
    attribute held integer = count(t in tickets where t.holder = me)
    role newcomer when no b in badges has (b.holder = me)
    accept tickets feeds held because "the number is what this test is about"
    accept badges feeds newcomer because "the first badge is what this test is about"
    rules hives {
      keeper may read (all), create (code, status), update (status)
        when status = "active" or no v in visits has (v.hive = this and v.open)
      keeper may update (code) when keeper = me or keeper is missing
    }
    rules visits {
      keeper may read (all), create (code, hive), update (open) when not open or hive.status = "active"
    }
    rules tickets { people may read  people may create (code) when me.held < 2 stamp holder = me }
    rules badges { people may read  newcomer may create (code) stamp holder = me }
    test identity ada { email "ada@hollowoak.example"  roles keeper }
    test identity ben { email "ben@hollowoak.example" }
  `);
});
afterAll(() => world.close());

const many = <T>(count: number, work: (index: number) => Promise<T>) =>
  Promise.all(Array.from({ length: count }, (_, index) => work(index)));

test('what a rule counts is counted in the transaction: of many at once as many get through as may', async () => {
  const made = await many(CLIENTS, (index) =>
    world.ask('POST', '/v1/records/tickets', { as: 'ada', body: { code: `T-${index}` } }),
  );
  expect(made.filter(({ status }) => status === 201)).toHaveLength(2);
  expect(made.filter(({ status }) => status !== 201 && status !== 403)).toEqual([]);
  const badges = await many(CLIENTS, (index) =>
    world.ask('POST', '/v1/records/badges', { as: 'ben', body: { code: `B-${index}` } }),
  );
  expect(badges.filter(({ status }) => status === 201)).toHaveLength(1);
  expect(badges.filter(({ status }) => status !== 201 && status !== 403)).toEqual([]);
});

test('a hive is never retired while a visit to it is opened, and nobody is turned away', async () => {
  const statuses: number[] = [];
  const note = ({ status }: { status: number }) => statuses.push(status);
  for (let round = 0; round < 4; round++) {
    const hives = await many(CLIENTS / 2, async (index) => {
      const { json } = await world.ask('POST', '/v1/records/hives', {
        as: 'ada',
        body: { code: `H-${round}-${index}` },
      });
      return json.id as string;
    });
    await Promise.all(
      hives.flatMap((hive, index) => {
        const retire = () =>
          world.ask('PATCH', `/v1/records/hives/${hive}`, { as: 'ada', body: { status: 'retired' } });
        const open = () =>
          world.ask('POST', '/v1/records/visits', { as: 'ada', body: { code: `V-${round}-${index}`, hive } });
        // Whichever is sent first is likelier to come first: every other round it is the visit.
        const [first, second] = round % 2 === 0 ? [retire, open] : [open, retire];
        return [first().then(note), second().then(note)];
      }),
    );
  }
  expect(statuses.filter((status) => ![200, 201, 403].includes(status))).toEqual([]);
  const { rows } = await world.database.raw(
    `select count(*)::int as skewed from records.hives as h join records.visits as v on v.hive = h.id where h.status = 'retired' and v.open`,
  );
  expect(rows).toEqual([{ skewed: 0 }]);
  // Both orders came about, or nothing was shown.
  expect(statuses).toContain(403);
  expect(statuses).toContain(201);
});

test('many changes of one record by its own rule wait for each other, and each is made', async () => {
  const { json } = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-one' } });
  const changed = await many(CLIENTS * 2, (index) =>
    world.ask('PATCH', `/v1/records/hives/${json.id as string}`, {
      as: 'ada',
      body: { code: `H-one-${index}` },
    }),
  );
  expect(changed.map(({ status }) => status)).toEqual(Array.from({ length: CLIENTS * 2 }, () => 200));
});

test('whoever is let go or loses a role between two writes does not make the second', async () => {
  const ben = (await world.ask('GET', '/v1/me', { as: 'ben' })).json.id as string;
  await world.database.raw(`update records.people set _active = false where id = ?`, [ben]);
  const gone = await world.ask('POST', '/v1/records/badges', { as: 'ben', body: { code: 'B-gone' } });
  expect(gone.status).toBe(401);
  // Somebody who is nobody is told so before anything about what they sent.
  expect((await world.ask('POST', '/v1/records/badges', { as: 'ben', body: { nothing: 1 } })).status).toBe(
    401,
  );
  await world.database.raw(`update records.people set _active = true where id = ?`, [ben]);
});

test('a turn that loses its connection after its work stands, and the next one has its turn', async () => {
  const { database } = world;
  const take = async (work: (pid: number) => Promise<string>) =>
    inTurn(database, 'a group', async (connection) => {
      const { rows } = (await database.raw('select pg_backend_pid() as pid').connection(connection)) as {
        rows: { pid: number }[];
      };
      return work(rows[0]!.pid);
    });
  const broken = take(async (pid) => {
    await database.raw('select pg_terminate_backend(?)', [pid]);
    return 'done';
  });
  const next = many(CLIENTS, () => take(async () => 'done, too'));
  expect(await broken).toBe('done');
  expect(new Set(await next)).toEqual(new Set(['done, too']));
  const { rows } = (await database.raw(
    `select count(*)::integer as held from pg_locks where locktype = 'advisory' and database = (select oid from pg_database where datname = current_database())`,
  )) as { rows: { held: number }[] };
  expect(rows[0]!.held).toBe(0);
});
