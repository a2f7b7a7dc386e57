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
        // The clock is asked first where a rule goes by it; so is what is shared, and what a filter makes.
        const isPlain = !/where|include|count|notices|nowhere|limit=0|-0000-/.test(path);
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
