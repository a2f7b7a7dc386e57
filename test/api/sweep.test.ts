import { pino } from 'pino';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import type { SweepDocument } from '../../src/client/desk.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { createApp } from '../../src/service/app.ts';
import { proofKey } from '../../src/service/identity/development.ts';
import { sweepService } from '../../src/service/sweep/asking.ts';
import { LoopbackDoor } from '../../src/service/sweep/door.ts';
import { Access } from '../../src/core/sql/access.ts';
import { arrive } from '../../src/store/callers.ts';
import { updateRecord } from '../../src/store/records/update.ts';
import { rolledBack } from '../../src/store/roll-back.ts';
import { sweepDatabase } from '../../src/store/sweep/index.ts';
import { openDoor } from '../support/proxy.ts';
import { demoRulebook, openDemo, openWorld, type World } from '../support/world.ts';

let world: World;
beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());

function checked(text: readonly { name: string; text: string }[]): Rulebook {
  const result = checkRulebook(text);
  if (!result.ok) throw new Error(JSON.stringify(result.diagnostics));
  return result.rulebook;
}

/** The demo rulebook with other words in place of some, each where it stands first. */
function changed(...changes: [string, string][]) {
  return changes.reduce(
    (files, [from, to]) => {
      const at = files.findIndex((file) => file.text.includes(from));
      expect(at, from).not.toBe(-1);
      return files.with(at, { name: files[at]!.name, text: files[at]!.text.replace(from, to) });
    },
    [...demoRulebook],
  );
}

const found = ({ findings }: SweepDocument) =>
  findings.map(({ kind, collection, operation, callers }) => [
    kind,
    collection,
    operation,
    callers.join(' '),
  ]);

describe('a sweep of the demo', () => {
  test('agrees in all three answers, and finds what was planted', async () => {
    const collections = ['people', 'hives', 'visits', 'payouts', 'lots', 'notices'];
    const sweep = await world.desk.sweep({ as: ['ada', 'ivo', 'stella', 'tess', 'visitor'], collections });
    expect(sweep.differences).toEqual([]);
    expect(sweep.left).toEqual([]);
    expect(found(sweep)).toEqual([['without owner', 'hives', '', '']]);
    expect(sweep.passed).toBe(false);
    expect(sweep.covered.requests).toBeGreaterThan(500);
    expect(sweep.covered.asked).toBeGreaterThan(30);
    // Counted by hand, with the data’s own answers.
    const [row] = await count(`select count(*) as n from records.hives where visibility = 'open'`);
    const visitor = sweep.reach.filter((each) => each.caller === 'visitor' && each.collection === 'hives');
    expect(visitor.reduce((sum, each) => sum + (each.records.read ?? 0), 0)).toBe(row!.n);
    const own = sweep.reach.find(
      (each) => each.caller === 'ada' && each.owner === 'ada' && each.collection === 'hives',
    );
    expect(own).toMatchObject({
      relation: 'own',
      total: 4,
      records: { read: 4, update: 3, delete: 3 },
      fields: { read: { reserve_price: 4 }, update: { notes: 3 } },
      through: { read: ['hives/1'], update: ['hives/2'], delete: ['hives/2'] },
    });
    const stella = sweep.reach.filter((each) => each.caller === 'stella' && each.collection === 'hives');
    expect(stella.some((each) => 'reserve_price' in each.fields.read)).toBe(false);
  });

  test('leaves no trace', async () => {
    const sums = () =>
      count(`select (select count(*) from records.hives) as hives, (select max(updated_at) from records.hives) as last,
        (select count(*) from records.people) as people, (select string_agg(xmin::text, ' ' order by id) from records.hives) as rows`);
    const before = await sums();
    await world.desk.sweep({ as: ['ada', 'ben'], collections: ['hives'] });
    await world.desk.trials({});
    expect(await sums()).toEqual(before);
  });

  test('of a draft is made without asking the service', async () => {
    const files = changed(['nobody but treasurer may read (account) unless payee = me', '']);
    const sweep = await world.desk.sweep({ files, as: ['ada', 'tess'], collections: ['payouts'] });
    expect([sweep.covered.requests, sweep.differences, found(sweep)]).toEqual([0, [], []]);
    const everybody: [string, string] = ['treasurer may read (code, keeper', 'people may read (code, keeper'];
    const wide = changed(everybody);
    const seen = await world.desk.sweep({
      files: wide,
      as: ['nona', 'stella'],
      collections: ['people', 'hives'],
    });
    // The fence still stands.
    expect(found(seen)).toEqual([['without owner', 'hives', '', '']]);
    const fence = 'nobody but treasurer may read (reserve_price) unless keeper = me';
    const open = await world.desk.sweep({
      files: changed(everybody, [fence, fence.replace('keeper = me', 'code is present')]),
      as: ['nona', 'tess'],
      collections: ['hives'],
    });
    expect(open.findings[0]).toMatchObject({
      kind: 'sees another’s sensitive',
      fields: ['reserve_price'],
      callers: ['nona'],
      through: ['hives/8'],
      accept: 'accept people may read (reserve_price) on hives because "…"',
    });
  });

  test('finds whatever is unlike the rules: each way of asking is able to', async () => {
    const inForce = checked(demoRulebook);
    const key = await proofKey();
    const app = createApp({
      config: {
        databaseUrl: world.url,
        host: '127.0.0.1',
        proxies: [],
        origins: [],
        port: 0,
        issuers: [],
        leeway: 5,
        developmentKey: null,
        post: null,
        welcome: '',
        logLevel: 'silent',
        consoleFolder: null,
      },
      database: world.database,
      logger: pino({ level: 'silent' }),
      post: null,
      developmentKey: null,
      proofKey: key,
      isReady: () => true,
      isStopping: () => false,
      metrics: null,
    });
    // The service keeps to one rulebook, and is held against others.
    const cases: [string, string, string, (text: string) => boolean][] = [
      [
        'hives',
        'keeper may read (all), create',
        'keeper may read (code, keeper, apiary), create',
        (text) => /^GET \S+: visibility is shown/.test(text),
      ],
      [
        'hives',
        'visitors may read (code, apiary, queen_year) when',
        'visitors may read (code) when',
        (text) => text.includes('where=') && text.includes('answered 1'),
      ],
      [
        'hives',
        'steward may read (all but reserve_price), update',
        'inspector may read (all but reserve_price), update',
        (text) => text.includes('If-None') || text.includes('answered 200, where 404'),
      ],
      [
        'hives',
        'queen_year, notes), delete when',
        'queen_year), delete when',
        (text) => text.startsWith('PATCH'),
      ],
      [
        'hives',
        'queen_year, notes), delete when',
        'queen_year), delete when',
        (text) => /^GET \S+rights=true: “update notes” is told to be possible/.test(text),
      ],
      [
        'hives',
        'treasurer may read (code, keeper, reserve_price)',
        'treasurer may read (code, keeper, reserve_price, notes)',
        (text) => text.startsWith('GET /v1/rights/hives: “read notes” is ruled out'),
      ],
      [
        'hives',
        'queen_year, notes), delete when',
        'queen_year, notes) when',
        (text) => text.startsWith('DELETE'),
      ],
      [
        'hives',
        'create (code, apiary, visibility',
        'create (code, visibility, apiary, keeper',
        (text) => text.startsWith('POST'),
      ],
      [
        'payouts',
        'treasurer may pay when old.status = "due"',
        'treasurer may pay when old.status = "paid"',
        (text) => text.includes('/actions/pay'),
      ],
      [
        'hives',
        'people may read (all but landowner_phone, access_code)',
        'keeper may read (name)',
        (text) => text.includes('include='),
      ],
    ];
    const door = await LoopbackDoor.open(app, key);
    try {
      for (const [collection, from, to, isMeant] of cases) {
        const stamp: [string, string][] = to.includes('apiary, keeper') ? [['stamp keeper = me', '']] : [];
        const other = checked(changed([from, to], ...stamp));
        const options = {
          identities: to.includes('(name)') ? ['ivo'] : ['ada', 'stella', 'tess', 'visitor'],
          collections: [collection],
          everyRecord: 100,
          progress: () => undefined,
        };
        const sweep = await sweepDatabase(world.database, other, inForce, options);
        const { differences } = await sweepService(world.database, other, door, sweep, {
          ...options,
          perKind: collection === 'payouts' ? 20 : 1,
        });
        expect(
          differences.some((each) => isMeant(decodeURIComponent(each.text))),
          `${from}\n${JSON.stringify(differences, null, 1)}`,
        ).toBe(true);
      }
    } finally {
      await door.close();
    }
  });
});

async function count(text: string) {
  const { rows } = (await world.database.raw(text)) as { rows: Record<string, unknown>[] };
  return rows;
}

describe('findings', () => {
  const base = (rules: string, rest = '') => `
    collection hives { code text required label  keeper ref people  price decimal sensitive  note text  owned by keeper }
    collection tools { name text label }
    role keeper
    rules people { people may read }
    rules hives { keeper may read (all), create (all), update (note, price), delete when keeper = me  ${rules} }
    test identity ada { roles keeper }  test identity ben { roles keeper }  test identity cleo { }
    test identity gus { roles keeper deactivated }
    ${rest}`;

  test('each kind, and the sentence that accepts it', async () => {
    const own = await openWorld(base('people may update (keeper) when keeper = me'));
    try {
      for (const identity of ['ada', 'ben']) {
        const client = await own.as(identity);
        const me = await client.me();
        await client.create('hives', {
          code: `of ${identity}`,
          keeper: me.id,
          price: '3',
        });
      }
      await own.database.raw(
        `insert into records.hives (id, created_at, updated_at, code) values (gen_random_uuid(), now(), now(), 'lost')`,
      );
      const wide = `people may read (all), update (note), delete  visitors may read (code)`;
      const draft = (rest: string) => ({
        files: [
          {
            name: 'test.gate',
            text: base(
              `${wide} people may create (all) people may update (keeper) when keeper = me or new.keeper is present`,
              rest,
            ),
          },
        ],
      });
      const sweep = await own.desk.sweep(draft(''));
      expect(found(sweep)).toEqual([
        ['changes another’s', 'hives', 'update', 'ada ben cleo'],
        ['changes another’s', 'hives', 'delete', 'ada ben cleo'],
        ['hands over', 'hives', 'update', 'ada ben cleo'],
        ['makes another’s', 'hives', 'create', 'ada ben cleo'],
        ['sees another’s sensitive', 'hives', 'read', 'ada ben cleo'],
        ['open to visitors', 'hives', 'read', 'visitor'],
        ['without owner', 'hives', '', ''],
      ]);
      expect(sweep.signedOut).toEqual(['gus']);
      expect(sweep.left, 'nothing could be asked of it').toEqual([
        'tools has no records: nothing was asked of any',
      ]);
      const accepted = sweep.findings.map((each) => each.accept.replaceAll('…', 'it is meant')).join('\n');
      const again = await own.desk.sweep(
        draft(`${accepted.replaceAll('accept keeper may', 'accept people may')}\n`),
      );
      expect(found(again)).toEqual([]);
      expect(again.passed, 'a collection without records was not covered').toBe(false);
    } finally {
      await own.close();
    }
  });

  test('names that do not exist are named, and staff alone may ask', async () => {
    await expect(world.desk.sweep({ as: ['adda'] })).rejects.toMatchObject({
      problem: { status: 400, errors: [{ field: 'as', hint: expect.stringContaining('ada') }] },
    });
    await expect(world.desk.sweep({ collections: ['hivez'] })).rejects.toMatchObject({
      problem: { status: 400 },
    });
    expect((await world.ask('POST', '/v1/desk/sweep', { body: {}, as: 'ada' })).status).toBe(401);
  });
});

describe('a report that does not come to its end', () => {
  test('a database that goes away half-way is a problem, and no report', async () => {
    let door: Awaited<ReturnType<typeof openDoor>> | undefined;
    const away = await openDemo({ databaseUrl: async (url) => (door = await openDoor(url)).url });
    const whenShut = (report: (onProgress: () => void) => Promise<unknown>) =>
      report(() => door!.shut()).finally(() => door!.open());
    try {
      const gone = { problem: { status: 503, type: '/problems/unavailable' } };
      await expect(whenShut((shut) => away.desk.sweep({}, shut))).rejects.toMatchObject(gone);
      await expect(whenShut((shut) => away.desk.trials({}, shut))).rejects.toMatchObject(gone);
      await expect(whenShut((shut) => away.desk.mutate({}, shut))).rejects.toMatchObject(gone);
      expect((await away.desk.trials({})).failed).toBe(0);
    } finally {
      await away.close();
      door!.close();
    }
  });

  test('the work ends where nobody waits for it any more', async () => {
    const stop = new AbortController();
    const response = await fetch(`${world.service.url}/v1/desk/sweep`, {
      method: 'POST',
      signal: stop.signal,
      headers: {
        authorization: `Bearer ${world.deskToken}`,
        'content-type': 'application/json',
        accept: 'application/x-ndjson',
      },
      body: '{}',
    });
    await response.body!.getReader().read();
    const busy = `select count(*) as n from pg_stat_activity
      where datname = current_database() and state <> 'idle' and pid <> pg_backend_pid()`;
    expect((await count(busy))[0]!.n, 'a snapshot is held').not.toBe(0);
    stop.abort();
    // A whole sweep of the demo takes far longer.
    await expect.poll(async () => (await count(busy))[0]!.n, { timeout: 8_000 }).toBe(0);
  });
});

describe('a rehearsal', () => {
  const rehearse = { 'Firmgate-Rehearsal': 'true' };

  test('answers like the write, and nothing stays', async () => {
    const body = { code: 'OAK-990', apiary: await orchard() };
    const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body, headers: rehearse });
    expect([made.status, made.json.code, made.headers.get('Firmgate-Rehearsal')]).toEqual([
      201,
      'OAK-990',
      'true',
    ]);
    expect((await world.ask('GET', made.headers.get('Location')!, { as: 'ada' })).status).toBe(404);
    const path = `/v1/records/hives/${await hive('OAK-004')}`;
    const removed = await world.ask('DELETE', path, { as: 'ada', headers: rehearse });
    expect([removed.status, removed.headers.get('Firmgate-Rehearsal')]).toEqual([204, 'true']);
    const patched = await world.ask('PATCH', path, {
      as: 'ada',
      body: { notes: 'rehearsed' },
      headers: rehearse,
    });
    expect([patched.status, patched.json.notes]).toEqual([200, 'rehearsed']);
    expect((await world.ask('GET', path, { as: 'ada' })).json.notes).not.toBe('rehearsed');
    const refused = await world.ask('PATCH', path, { as: 'ben', body: { notes: 'x' }, headers: rehearse });
    expect(refused.status).toBe(404);
  });

  test('lets go of its locks when it is taken back, not when all trials have ended', async () => {
    const id = await hive('OAK-004');
    const rulebook = checked(demoRulebook);
    const arrival = await arrive(world.database, rulebook, { kind: 'test identity', name: 'ada' });
    const access = new Access(rulebook, arrival!.caller, arrival!.now);
    await rolledBack(world.database, async (trials) => {
      // A user comes while the rehearsal holds the record, and has to wait for it.
      const user = await rolledBack(trials, async (savepoint) => {
        const outcome = await updateRecord(savepoint, access, 'hives', id, new Map([['notes', 'tried']]));
        expect(outcome.ok).toBe(true);
        const answer = world.ask('PATCH', `/v1/records/hives/${id}`, { as: 'ada', body: { notes: 'real' } });
        await expect
          .poll(
            async () =>
              (
                await count(`select count(*) as n from pg_stat_activity where wait_event = 'transactionid'`)
              )[0]!.n,
          )
          .toBe(1);
        return { answer };
      });
      // The transaction of the trials is still open.
      expect((await user.answer).status).toBe(200);
    });
    expect((await world.ask('GET', `/v1/records/hives/${id}`, { as: 'ada' })).json.notes).toBe('real');
  });

  test('a word that is not understood never becomes a write', async () => {
    const path = `/v1/records/hives/${await hive('OAK-004')}`;
    for (const word of ['yes', 'True', '1', ''])
      expect(
        (await world.ask('DELETE', path, { as: 'ada', headers: { 'Firmgate-Rehearsal': word } })).status,
      ).toBe(400);
    expect((await world.ask('GET', path, { as: 'ada' })).status).toBe(200);
  });

  async function hive(code: string): Promise<string> {
    const { records } = await (await world.as('ada')).list('hives', { where: `code = "${code}"` });
    return records[0]!.id;
  }
  async function orchard(): Promise<string> {
    const { records } = await (await world.as('ada')).list('apiaries', { where: 'name = "Orchard"' });
    return records[0]!.id;
  }
});
