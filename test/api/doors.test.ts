import { existsSync, mkdtempSync, readFileSync, readdirSync, statSync, writeFileSync } from 'node:fs';
import { createServer, request as plainRequest } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import express from 'express';
import { decodeJwt, decodeProtectedHeader, exportJWK, generateKeyPair, type JWK } from 'jose';
import { afterAll, afterEach, beforeAll, describe, expect, test, vi } from 'vitest';
import { DeskClient } from '../../src/client/desk.ts';
import type { Area, Level } from '../../src/client/schemas/staff.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { ConfigError, issuerConfig } from '../../src/service/config.ts';
import {
  DESK_AUDIENCE,
  developmentKey,
  developmentToken,
  proofKey,
  publicPart,
} from '../../src/service/identity/development.ts';
import { KeysUnavailable, isTokenFault, keySource } from '../../src/service/identity/keys.ts';
import { TokenVerifier } from '../../src/service/identity/tokens.ts';
import { Problem } from '../../src/service/problems/problem.ts';
import { RulebookKeeper } from '../../src/service/rulebooks.ts';
import { CallerFinder } from '../../src/service/identity/caller.ts';
import { refuseOtherSites } from '../../src/service/identity/staff.ts';
import { problemHandler } from '../../src/service/problems/handler.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run, statements } from '../../src/store/connection.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { ownIssuer, type OwnIssuer } from '../support/issuer.ts';
import { openWorld, type Answer, type World } from '../support/world.ts';

/** Who is let in where: what each door of the service asks, quickly enough to be asked after every change of them. */
const rules = `
role keeper
claim section text from "department"
attribute phone_number text = me.phone
people { phone text }
collection hives { code text required label  keeper ref people  notes text }
collection visits { note text label }
collection desks { place text label }
rules people { people may read (id) }
rules hives { keeper may read, create, update, delete when keeper = me  visitors may read (code) when code = "OPEN"  people may share when keeper = me }
rules visits { keeper may read }
rules desks { people may read when place = me.section }
test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper }
test identity ben { name "Ben"  email "ben@hollowoak.example" }
test identity cleo { name "Cleo"  email "cleo@hollowoak.example"  roles keeper }
`;

let world: World;
let issuer: OwnIssuer;
/** One whose people do not come by themselves. */
let closed: OwnIssuer;
let outbox: string;

beforeAll(async () => {
  [issuer, closed] = [await ownIssuer(), await ownIssuer('https://closed.hollowoak.example/')];
  outbox = mkdtempSync(join(tmpdir(), 'outbox-'));
  world = await openWorld(rules, {
    issuers: [{ ...issuer.settings, newcomers: 'admit' }, closed.settings],
    post: { kind: 'outbox', folder: outbox, from: 'Hollow Oak <gate@hollowoak.example>' },
  });
  await run(
    world.database,
    sql`insert into records.hives (id, code, keeper, created_at, updated_at) select gen_random_uuid(), 'OAK-1', id, now(), now() from records.people where _identity = 'ada'`,
  );
  await set(
    `insert into records.visits (id, note, created_at, updated_at) values (gen_random_uuid(), 'seen', now(), now())`,
  );
});
afterAll(() => world.close());
afterEach(() => {
  statements.before = null;
  vi.useRealTimers();
});

async function trips(ask: () => Promise<{ readonly status: number }>): Promise<[number, number]> {
  let count = 0;
  statements.before = () => {
    count++;
  };
  const { status } = await ask();
  statements.before = null;
  return [status, count];
}

const set = (text: string) => run(world.database, { text, values: [] });
const HIVES = '/v1/records/hives';

const publishAnew = () =>
  world.desk.publish({ files: [{ name: 'test.gate', text: `// ${Math.random()}\n${rules}` }] });

/** What is answered where other rules come into force before so many statements of it have been asked. */
async function publishing(ask: () => Promise<Answer>, before: number): Promise<Answer> {
  let count = 0;
  statements.before = async () => {
    if (++count !== before) return;
    statements.before = null;
    await publishAnew();
  };
  const answer = await ask();
  expect(statements.before, 'it was published').toBeNull();
  return answer;
}

describe('whose request it is', () => {
  test('says the token alone: none is the visitor, a bad one is nobody', async () => {
    const good = await world.token('ada');
    for (const [authorization, status, count] of [
      [undefined, 200, 0],
      [`Bearer ${good}`, 200, 1],
      [`bearer   ${good} `, 200, 1],
      [`Basic ${good}`, 401, null],
      [`Bearer `, 401, null],
      [`Bearer ${good} more`, 401, null],
      [`Bearer ${good.slice(0, -4)}AAAA`, 401, null],
      [`Bearer ${await developmentToken(await key(), 'ada', DESK_AUDIENCE, 60)}`, 401, null],
      [`Bearer ${await world.token('nobody')}`, 401, null],
      [`Bearer ${await closed.token('somebody new')}`, 401, null],
    ] as const) {
      const headers = authorization === undefined ? {} : { authorization };
      for (const [method, path] of [
        ['GET', HIVES],
        ['GET', '/v1/me'],
        ['GET', '/v1/rights'],
        ['PATCH', `${HIVES}/00000000-0000-4000-8000-000000000000`],
      ] as const) {
        const answer = await world.ask(method, path, {
          headers,
          ...(method === 'PATCH' ? { body: { notes: 'seen' } } : {}),
        });
        const told = `${method} ${path} ${authorization}`;
        // A visitor and Ada are known, and the record is not there.
        expect(answer.status, told).toBe(status === 200 && method === 'PATCH' ? 404 : status);
        if (count !== null && path === HIVES) expect(answer.json.records, told).toHaveLength(count);
        if (count !== null && path === '/v1/me')
          expect(answer.json.kind).toBe(count === 1 ? 'person' : 'visitor');
        if (status === 401) {
          expect(answer.headers.get('www-authenticate')).toBe(
            'Bearer realm="firmgate", error="invalid_token"',
          );
          expect(answer.headers.get('firmgate-rulebook'), told).toBeNull();
        } else expect(answer.headers.get('firmgate-rulebook'), told).toBe(path === '/v1/me' ? null : '1');
      }
    }
  });

  test('before the first publication no answer names a version', async () => {
    const empty = await openWorld([]);
    for (const path of ['/v1/rights', '/v1/records/hives']) {
      const answer = await empty.ask('GET', path);
      expect([answer.status, answer.headers.get('firmgate-rulebook')]).toEqual([
        path === '/v1/rights' ? 200 : 404,
        null,
      ]);
    }
    await empty.close();
  });

  test('a strange claim is named to whoever holds the token, and other faults are not', async () => {
    const strange = await world.ask('GET', HIVES, { token: await issuer.token('x\u0000') });
    expect([strange.status, strange.json.errors]).toEqual([
      401,
      [{ message: 'sub must be a text of 1 to 500 characters' }],
    ]);
    expect((await world.ask('GET', HIVES, { token: 'a.b.c' })).json.errors).toBeUndefined();
  });

  test('a newcomer of an issuer that admits them becomes a person once, by a read or by a write', async () => {
    const reader = await issuer.token('reader', { department: 'north', name: 'Rhea' });
    expect((await world.ask('GET', '/v1/me', { token: reader })).json).toMatchObject({
      kind: 'person',
      attributes: { section: 'north', phone_number: null },
    });
    const writer = await issuer.token('writer');
    const refused = await world.ask('POST', HIVES, { token: writer, body: { code: 'W' } });
    expect(refused.status).toBe(403);
    const { length } = await set(`select 1 from gate.logins where subject in ('reader', 'writer')`);
    expect(length).toBe(2);
    // The code of an invitation is taken from those alone who come with a token of an issuer.
    const body = { code: 'x'.repeat(43) };
    const accept = async (asked: object) =>
      (await world.ask('POST', '/v1/invitations/acceptance', { body, ...asked })).status;
    expect(await accept({})).toBe(401);
    expect(await accept({ as: 'ada' })).toBe(401);
    expect(await accept({ token: writer })).toBe(403);
  });

  test('an address counts for an invitation where its issuer has verified it, and as a text', async () => {
    const email = 'tess@hollowoak.example';
    await world.desk.invite({ list: email, roles: ['keeper'] });
    const [letter] = readdirSync(outbox);
    const sent = readFileSync(join(outbox, letter!), 'utf8').replaceAll('=\r\n', '');
    const code = /welcome#([\w-]{43})/.exec(sent)![1]!;
    for (const [claims, message] of [
      [{ email }, 'your token says no address that your issuer has verified'],
      [{ email, email_verified: false }, 'your token says no address that your issuer has verified'],
      [{ email: [email], email_verified: true }, 'your token says no address that your issuer has verified'],
      [
        { email: 'other@hollowoak.example', email_verified: true },
        'this invitation is for another address than the one you have signed in with',
      ],
    ] as const) {
      const answer = await world.ask('POST', '/v1/invitations/acceptance', {
        token: await issuer.token('tess', claims),
        body: { code },
      });
      expect([answer.status, answer.json.errors?.[0].message], JSON.stringify(claims)).toEqual([
        403,
        message,
      ]);
    }
    const came = await world.ask('POST', '/v1/invitations/acceptance', {
      token: await issuer.token('tess', { email: ` ${email}`, email_verified: true }),
      body: { code },
    });
    expect([came.status, came.json.roles]).toEqual([200, ['keeper']]);
  });
});

describe('whoever was here before', () => {
  const list = (as?: string) => () => world.ask('GET', `${HIVES}?limit=1`, as === undefined ? {} : { as });
  const patch = (id: string, notes: string) => () =>
    world.ask('PATCH', `/v1/records/visits/${id}`, { as: 'ada', body: { note: notes } });

  test('is asked for in one trip; a refusal of the request is no wrong guess, and after three wrong ones there is none', async () => {
    // What may be shared is asked for each time, and is no part of what is remembered.
    const visits = () => world.ask('GET', '/v1/records/visits', { as: 'ada' });
    // The first time it is found out how it is asked best.
    for (let time = 0; time < 2; time++) await visits();
    for (let time = 0; time < 2; time++) expect(await trips(visits)).toEqual([200, 1]);
    for (let time = 0; time < 4; time++) {
      const none = () =>
        world.ask('GET', '/v1/records/visits/00000000-0000-4000-8000-000000000000', { as: 'ada' });
      // Where there is nothing, it is asked once more whether these rules are in force still.
      expect(await trips(none)).toEqual([404, 2]);
      expect((await world.ask('GET', '/v1/records/visits?limit=0', { as: 'ada' })).status).toBe(400);
    }
    expect(await trips(visits)).toEqual([200, 1]);
    const asked: number[] = [];
    for (let time = 0; time < 5; time++) {
      await set(`update records.people set phone = '01632 ${time}' where _identity = 'ada'`);
      asked.push((await trips(visits))[1]);
    }
    expect(asked).toEqual([3, 3, 3, 2, 2]);
  });

  test('is nobody from the moment in which they are let go: to whatever they ask, before anything is told', async () => {
    const asks = [
      list('ben'),
      () => world.ask('GET', '/v1/records/nowhere', { as: 'ben' }),
      () => world.ask('GET', `${HIVES}?limit=0`, { as: 'ben' }),
      () => world.ask('GET', '/v1/rights/hives', { as: 'ben' }),
      () => world.ask('POST', HIVES, { as: 'ben', body: { nowhere: 1 } }),
      () => world.ask('POST', HIVES, { as: 'ben', body: { code: 'B' } }),
    ];
    for (const [at, ask] of asks.entries()) {
      await set(`update records.people set _active = true where _identity = 'ben'`);
      const before = await ask();
      expect([200, 400, 403, 404, 422], String(at)).toContain(before.status);
      expect(before.headers.get('firmgate-rulebook')).toBe('1');
      await set(`update records.people set _active = false where _identity = 'ben'`);
      expect((await ask()).status, String(at)).toBe(401);
    }
    await set(`update records.people set _active = true where _identity = 'ben'`);
    expect((await list('ben')()).status).toBe(200);
  });

  test('is who their token says now, though it is another than before', async () => {
    await set(
      `insert into records.desks (id, place, created_at, updated_at) select gen_random_uuid(), place, now(), now() from unnest(array['north', 'south']) as place`,
    );
    const of = async (department: string) => {
      const token = await issuer.token('reader', { department });
      const { json } = await world.ask('GET', '/v1/records/desks', { token });
      return json.records.map(({ place }: { place: string }) => place);
    };
    for (const place of ['north', 'north', 'south', 'north', 'south', 'nowhere'])
      expect(await of(place)).toEqual(place === 'nowhere' ? [] : [place]);
  });

  test('is asked for once where their request is refused, or the database fails', async () => {
    const refused = () => world.ask('POST', HIVES, { as: 'ada', body: { nowhere: 1 } });
    await refused();
    expect(await trips(refused)).toEqual([400, 2]);
    let count = 0;
    for (const ask of [
      () => world.ask('POST', HIVES, { as: 'ada', body: { code: 'X' } }),
      () => world.ask('GET', HIVES, { as: 'ada' }),
    ]) {
      await ask();
      count = 0;
      statements.before = () => {
        count++;
        throw new Error('broken');
      };
      const { status } = await ask();
      statements.before = null;
      expect([status, count]).toEqual([500, 1]);
    }
  });

  test('is told of what has been shared with them since, and what they may with it', async () => {
    const rights = async () => (await world.ask('GET', '/v1/rights/hives', { as: 'ben' })).status;
    await world.ask('GET', '/v1/records/visits', { as: 'ben' });
    expect(await rights()).toBe(404);
    const [{ id }] = (await world.ask('GET', HIVES, { as: 'ada' })).json.records;
    const body = { audience: 'people', for: ['read'] };
    const shared = await world.ask('POST', `${HIVES}/${id}/shares`, { as: 'ada', body });
    expect(shared.status).toBe(201);
    await world.ask('GET', '/v1/records/visits', { as: 'ben' });
    expect(await rights()).toBe(200);
    expect((await list('ben')()).json.records).toHaveLength(1);
    await world.ask('DELETE', `${HIVES}/${id}/shares/${shared.json.id}`, { as: 'ada' });
    expect((await list('ben')()).json.records).toHaveLength(0);
  });

  test('writes in one trip what one statement says, and several where somebody or the rules are others by now', async () => {
    const made = async (on: string) =>
      (
        await world.ask('POST', HIVES, {
          as: 'cleo',
          body: { code: `OAK-${Math.random()}`, keeper: await idOf('cleo') },
          url: on,
        })
      ).json.id;
    const id = await made(world.service.url);
    const update = (headers: Record<string, string> = {}) =>
      world.ask('PATCH', `${HIVES}/${id}`, { as: 'cleo', body: { notes: `${Math.random()}` }, headers });
    await update();
    expect(await trips(update)).toEqual([200, 1]);
    // In the midst of a question that takes more than one, other rules come into force: all of it is asked by these.
    const version = Number((await update()).headers.get('firmgate-rulebook'));
    const counted = () => world.ask('GET', `${HIVES}?count=true&limit=1`, { as: 'cleo' });
    // Nobody was here yet since these rules are in force, and so nobody is guessed.
    const anew = async () => {
      statements.before = null;
      await publishAnew();
      return publishing(counted, 2);
    };
    for (const [ask, before, at] of [
      [counted, 2, 1],
      [update, 1, 2],
      [() => world.ask('POST', HIVES, { as: 'cleo', body: { nowhere: 1 } }), 1, 3],
      [anew, null, 5],
    ] as const) {
      const answer = before === null ? await ask() : await publishing(ask, before);
      expect([200, 400]).toContain(answer.status);
      expect(answer.headers.get('firmgate-rulebook'), String(at)).toBe(String(version + at));
    }
  });

  test('is asked for anew each time while they hold a role that nobody knows any more, so that it is told', async () => {
    const visits = () => world.ask('GET', '/v1/records/visits', { as: 'cleo' });
    await set(
      `insert into gate.role_assignments (person, role) select id, 'ghost' from records.people where _identity = 'cleo'`,
    );
    for (let time = 0; time < 4; time++) await visits();
    expect((await trips(visits))[1]).toBeGreaterThan(1);
    await set(`delete from gate.role_assignments where role = 'ghost'`);
    for (let time = 0; time < 2; time++) await visits();
    expect(await trips(visits)).toEqual([200, 1]);
  });

  test('writes as who they are now, and by the rules of now', async () => {
    const { id } = (
      await world.ask('POST', HIVES, { as: 'ada', body: { code: 'OAK-2', keeper: await idOf('ada') } })
    ).json;
    const write = () =>
      world.ask('PATCH', `${HIVES}/${id}`, { as: 'ada', body: { notes: `${Math.random()}` } });
    expect((await write()).status).toBe(200);
    await set(`delete from gate.role_assignments`);
    expect((await write()).status).toBe(404);
    await set(
      `insert into gate.role_assignments (person, role) select id, 'keeper' from records.people where _identity = 'ada'`,
    );
    expect((await write()).status).toBe(200);
    const [one] = await run<{ id: string }>(world.database, sql`select id from records.visits`);
    expect((await patch(one!.id, 'later')()).status, 'no rule').toBe(403);
    const other = await world.another();
    // Another process that has the rules of before, and somebody who writes by the new ones.
    const elsewhere = (body: object) =>
      world.ask('PATCH', `/v1/records/visits/${one!.id}`, { as: 'ada', body, url: other.url });
    expect((await elsewhere({ note: 'x' })).status).toBe(403);
    expect((await elsewhere({ mood: 'x' })).status).toBe(400);
    const { version } = await world.desk.publish({
      files: [
        {
          name: 'test.gate',
          text: rules
            .replace('collection visits {', 'collection visits { mood text ')
            .replace('keeper may read }', 'keeper may read, update }'),
        },
      ],
    });
    const answer = await elsewhere({ mood: 'calm' });
    expect([answer.status, answer.json.mood, answer.headers.get('firmgate-rulebook')]).toEqual([
      200,
      'calm',
      String(version),
    ]);
    expect((await elsewhere({ nowhere: 1 })).headers.get('firmgate-rulebook')).toBe(String(version));
    const read = await world.ask('GET', '/v1/records/visits', { as: 'ada', url: other.url });
    expect([read.json.records[0].mood, read.headers.get('firmgate-rulebook')]).toEqual([
      'calm',
      String(version),
    ]);
  });

  test('writes to what is shared with them, each time, and not when that has ended', async () => {
    const body = { code: 'OAK-9', keeper: await idOf('cleo') };
    const { id } = (await world.ask('POST', HIVES, { as: 'cleo', body })).json;
    const asWritten = () =>
      world.ask('PATCH', `${HIVES}/${id}`, { as: 'ben', body: { notes: `${Math.random()}` } });
    const write = async () => (await asWritten()).status;
    expect(await write()).toBe(404);
    const share = { audience: 'people', for: ['read', 'update'] };
    const shared = await world.ask('POST', `${HIVES}/${id}/shares`, { as: 'cleo', body: share });
    expect(shared.status).toBe(201);
    for (let time = 0; time < 3; time++) expect(await write()).toBe(200);
    // Where other rules come in the midst of it, it is by these.
    const version = Number((await asWritten()).headers.get('firmgate-rulebook'));
    const answer = await publishing(asWritten, 1);
    expect([answer.status, answer.headers.get('firmgate-rulebook')]).toEqual([200, String(version + 1)]);
    await world.ask('DELETE', `${HIVES}/${id}/shares/${shared.json.id}`, { as: 'cleo' });
    expect(await write()).toBe(404);
  });

  test('is told to come again where other rules come into force at each question', async () => {
    const [one] = await run<{ id: string }>(world.database, sql`select id from records.visits`);
    const asks = [
      () => world.ask('GET', '/v1/rights', { as: 'cleo' }),
      () => world.ask('PATCH', `/v1/records/visits/${one!.id}`, { as: 'cleo', body: { nowhere: 'x' } }),
    ];
    for (const ask of asks) {
      const again = async (): Promise<void> => {
        statements.before = null;
        await publishAnew();
        statements.before = again;
      };
      statements.before = again;
      const { status, json } = await ask();
      statements.before = null;
      expect([status, json.type]).toEqual([503, '/problems/unavailable']);
      expect((await world.ask('GET', '/v1/me', { as: 'cleo' })).status).toBe(200);
    }
  });

  test('whose login was taken away comes in anew with the same token', async () => {
    const token = await issuer.token('later');
    const { id } = (await world.ask('GET', '/v1/me', { token })).json;
    await set(`delete from gate.logins where subject = 'later'`);
    const again = await world.ask('POST', HIVES, { token, body: { code: 'L' } });
    expect(again.status).toBe(403);
    expect((await world.ask('GET', '/v1/me', { token })).json.id).not.toBe(id);
  });
});

test('whoever runs the service is told of roles that nobody knows, and why a token is refused, and of nothing else', async () => {
  const told: unknown[] = [];
  const note = (said: unknown) => told.push(said);
  const logger = { info: note, warn: note, error: note } as never;
  const tokens = new TokenVerifier([issuerConfig(closed.settings)], 5, await key(), await proofKey());
  const callers = new CallerFinder(
    world.database,
    tokens,
    new RulebookKeeper(world.database, logger),
    logger,
  );
  const find = async (token: string | null) => {
    told.length = 0;
    const headers = token === null ? {} : { authorization: `Bearer ${token}` };
    await callers
      .find({ headers } as never)
      .catch((refusal: unknown) => expect(refusal).toBeInstanceOf(Problem));
    return [...told];
  };
  const [good, cleo] = [await world.token('ada'), await world.token('cleo')];
  expect([await find(null), await find(good), await find(cleo)]).toEqual([[], [], []]);
  await set(
    `insert into gate.role_assignments (person, role) select id, 'ghost' from records.people where _identity = 'cleo'`,
  );
  expect([await find(good), await find(cleo)]).toEqual([[], [{ roles: ['ghost'] }]]);
  await set(`delete from gate.role_assignments where role = 'ghost'`);
  expect(await find(await closed.token('nobody'))).toEqual([
    { fault: 'it speaks for nobody who is known and active' },
  ]);
  expect(await find(await closed.token('x\u0000'))).toEqual([
    { fault: 'a claim is of another type than it must be', claim: 'sub' },
  ]);
});

test('whoever runs the service is told that somebody new cannot come, and not that somebody could', async () => {
  const admitting = { ...issuer.settings, newcomers: 'admit' } as const;
  const empty = await openWorld([], { issuers: [admitting] });
  const tokens = new TokenVerifier([issuerConfig(admitting)], 5, await key(), await proofKey());
  const told = async ({ database }: World, subject: string) => {
    const said: unknown[] = [];
    const logger = { info: (what: unknown) => said.push(what), warn: (what: unknown) => said.push(what) };
    const callers = new CallerFinder(
      database,
      tokens,
      new RulebookKeeper(database, logger as never),
      logger as never,
    );
    const headers = { authorization: `Bearer ${await issuer.token(subject)}` };
    await callers.find({ headers } as never).catch((refusal: unknown) => refusal);
    return said;
  };
  try {
    const unknown = { fault: 'it speaks for nobody who is known and active' };
    expect(await told(empty, 'early')).toEqual([expect.stringContaining('cannot be added'), unknown]);
    expect(await told(world, 'in time')).toEqual([]);
    await set(
      `update records.people set _active = false where id = (select person from gate.logins where subject = 'in time')`,
    );
    expect(await told(world, 'in time')).toEqual([unknown]);
  } finally {
    await empty.close();
  }
});

describe('the door of staff', () => {
  test('a key opens what it is for, at its level; changes need an unlock of its own', async () => {
    const made = async (name: string, level: Level, areas: Area[]) => {
      const { secret } = await world.desk.makeKey({ name, level, areas });
      return { secret, client: new DeskClient({ url: world.service.url, token: secret }) };
    };
    const viewer = await made('viewer', 'viewer', ['people']);
    const publisher = await made('publisher', 'publisher', ['people', 'rulebook']);
    const ask = async (token: string, method: string, path: string, body?: object) => {
      const { status, json } = await world.ask(method, path, {
        token,
        ...(body === undefined ? {} : { body }),
      });
      return [status, json?.type?.replace('/problems/', '') ?? null, json?.errors?.[0]?.message ?? null];
    };
    const people = '/v1/desk/people';
    expect((await ask(viewer.secret, 'GET', people))[0]).toBe(200);
    expect(await ask(viewer.secret, 'GET', '/v1/desk/audit')).toEqual([
      403,
      'level-too-low',
      'this key is for people, and not for audit',
    ]);
    expect(await ask(publisher.secret, 'GET', '/v1/desk/keys')).toEqual([
      403,
      'level-too-low',
      'this key is for people, rulebook, and not for staff',
    ]);
    const { id } = await world.desk.person('tess@hollowoak.example');
    const change = (secret: string) => ask(secret, 'PATCH', `${people}/${id}`, { name: 'Tessa' });
    expect(await change(viewer.secret)).toEqual([
      403,
      'level-too-low',
      'this takes the level publisher, and key viewer has viewer',
    ]);
    expect((await change(publisher.secret)).slice(0, 2)).toEqual([403, 'locked']);
    // An unlock is of its own session, and so no place that a key must be for.
    const unlock = { reason: 'a name was misspelt', minutes: 5 };
    expect((await ask(viewer.secret, 'POST', '/v1/desk/unlock', unlock))[0]).toBe(403);
    expect((await ask(publisher.secret, 'POST', '/v1/desk/unlock', unlock))[0]).toBe(200);
    expect((await change(publisher.secret))[0]).toBe(200);
    const [entry] = (await world.desk.audit({ action: 'person.change' })).entries;
    expect(entry).toMatchObject({ actor: 'key publisher', reason: 'a name was misspelt' });
    expect((await ask(`${publisher.secret}x`, 'GET', people)).slice(0, 2)).toEqual([401, 'invalid-token']);
  });

  test('what people are called in a draft’s answers is shown to whoever has unlocked, and not before', async () => {
    const { secret } = await world.desk.makeKey({ name: 'looks', level: 'publisher', areas: ['proof'] });
    const client = new DeskClient({ url: world.service.url, token: secret });
    const files = [{ name: 'test.gate', text: rules.replace('keeper may read }', 'people may read }') }];
    const look = async () => JSON.stringify(await client.preview({ files }));
    const before = await look();
    await client.unlock('to look at a draft', 5);
    const after = await look();
    expect([before.includes('seen'), after.includes('seen')]).toEqual([false, true]);
  });

  test('a desk token is of the development issuer and for the desk; without any there is no session', async () => {
    expect((await world.ask('GET', '/v1/desk/people', { token: world.deskToken })).status).toBe(200);
    for (const token of [await world.token('ada'), await issuer.token('ada'), 'a.b.c'])
      expect((await world.ask('GET', '/v1/desk/people', { token })).status).toBe(401);
    for (const headers of [{}, { cookie: 'firmgate_session=nothing' }, { cookie: 'other=1' }]) {
      const { status, json } = await world.ask('GET', '/v1/desk/people', { headers });
      expect([status, json.type]).toEqual([401, '/problems/not-signed-in']);
    }
  });

  test('a session is let in with the level of its staff, until it ends', async () => {
    const [email, password] = ['looks@hollowoak.example', 'a long enough password'];
    await setStaff(world.database, email, password, 'viewer', atTheMachine('test'));
    const signedIn = await world.ask('POST', '/v1/desk/session', { body: { email, password } });
    const headers = { cookie: signedIn.headers.get('set-cookie')!.split(';')[0]! };
    const look = async (path: string) => (await world.ask('GET', path, { headers })).status;
    expect([await look('/v1/desk/overview'), await look('/v1/desk/keys')]).toEqual([200, 403]);
    await world.ask('DELETE', '/v1/desk/session', { headers });
    expect(await look('/v1/desk/overview')).toBe(401);
  });

  test('a request that another site makes is refused, whichever header says so', async () => {
    const app = express()
      .use(refuseOtherSites, (_, response) => response.send('in'))
      .use(problemHandler({ error() {}, warn() {} } as never));
    const server = createServer(app);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const host = `127.0.0.1:${(server.address() as AddressInfo).port}`;
    const statusOf = (headers: Record<string, string>) =>
      new Promise<number>((resolve, reject) =>
        plainRequest(`http://${host}/`, { headers }, (response) => {
          response.resume();
          resolve(response.statusCode!);
        })
          .on('error', reject)
          .end(),
      );
    const own = `http://${host}`;
    for (const [headers, status] of [
      [{}, 200],
      [{ origin: own }, 200],
      [{ origin: own, 'sec-fetch-site': 'same-origin' }, 200],
      [{ 'sec-fetch-site': 'none' }, 200],
      [{ 'sec-fetch-site': 'same-origin' }, 200],
      [{ 'sec-fetch-site': 'same-site' }, 403],
      [{ 'sec-fetch-site': 'cross-site' }, 403],
      [{ origin: own, 'sec-fetch-site': 'cross-site' }, 403],
      [{ origin: 'https://elsewhere.example', 'sec-fetch-site': 'same-origin' }, 403],
      [{ origin: 'https://elsewhere.example' }, 403],
      [{ origin: 'null' }, 403],
    ] as const)
      expect(await statusOf(headers), JSON.stringify(headers)).toBe(status);
    server.close();
  });
});

describe('keys', () => {
  const made = async (kid: string) => {
    const { publicKey } = await generateKeyPair('ES256', { extractable: true });
    return { ...(await exportJWK(publicKey)), kid, alg: 'ES256' };
  };
  const header = (kid: string) => ({ alg: 'ES256', kid });
  const token = { payload: '', signature: '' };
  const config = (keys: string) =>
    issuerConfig({ ...issuer.settings, keys, keep: 600, pause: 30 } as Parameters<typeof issuerConfig>[0]);

  test('of a file count as it stands, a second later; one that cannot be read leaves them, and none stops the start', async () => {
    vi.useFakeTimers({ toFake: ['Date'] });
    const path = join(mkdtempSync(join(tmpdir(), 'keys-')), 'keys.json');
    expect(() => keySource(config(path))).toThrow(ConfigError);
    writeFileSync(path, JSON.stringify({ keys: [await made('one')] }));
    const source = keySource(config(path));
    const has = async (kid: string) => {
      try {
        await source(header(kid), token);
        return true;
      } catch (error) {
        if (!isTokenFault(error)) throw error;
        return false;
      }
    };
    expect([await has('one'), await has('two')]).toEqual([true, false]);
    await new Promise((resolve) => setTimeout(resolve, 20));
    writeFileSync(path, JSON.stringify({ keys: [await made('two')] }));
    vi.setSystemTime(Date.now() + 999);
    expect([await has('one'), await has('two')], 'not looked at so soon').toEqual([true, false]);
    vi.setSystemTime(Date.now() + 1);
    expect([await has('one'), await has('two')]).toEqual([false, true]);
    await new Promise((resolve) => setTimeout(resolve, 20));
    writeFileSync(path, '{');
    vi.setSystemTime(Date.now() + 1_000);
    expect([await has('one'), await has('two')], 'half written').toEqual([false, true]);
    writeFileSync(path, JSON.stringify({ keys: [await made('one')] }));
    vi.setSystemTime(Date.now() + 1_000);
    expect([await has('one'), await has('two')]).toEqual([true, false]);
  });

  test('behind a URL are kept, fetched anew for a name that is not there, and with a pause, and count an hour without their issuer', async () => {
    let asked = 0;
    let answering: (() => [number, string]) | null = null;
    const server = createServer((_, response) => {
      asked++;
      const [status, body] = answering!();
      response.writeHead(status, { 'content-type': 'application/json' }).end(body);
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/keys`;
    const start = Date.now();
    vi.useFakeTimers({ toFake: ['Date'], now: start });
    const at = (seconds: number) => vi.setSystemTime(start + seconds * 1_000);
    const source = keySource(config(url));
    const ask = async (kid: string): Promise<'there' | 'not there' | 'unavailable'> => {
      try {
        await source(header(kid), token);
        return 'there';
      } catch (error) {
        if (isTokenFault(error)) return 'not there';
        expect(error).toBeInstanceOf(KeysUnavailable);
        return 'unavailable';
      }
    };
    const sets = { one: await made('one'), two: await made('two') };
    const of = (...names: (keyof typeof sets)[]) => JSON.stringify({ keys: names.map((name) => sets[name]) });
    // Where they were never had, nobody is refused for it; and it is not asked again at once.
    answering = () => [503, of('one')];
    expect([await ask('one'), await ask('one'), asked]).toEqual(['unavailable', 'unavailable', 1]);
    at(30);
    answering = () => [200, 'no keys'];
    expect([await ask('one'), asked]).toEqual(['unavailable', 2]);
    at(60);
    answering = () => [200, of('one')];
    expect([await ask('one'), await ask('one'), asked]).toEqual(['there', 'there', 3]);
    expect([await ask('two'), asked], 'not fetched before the pause is over').toEqual(['not there', 3]);
    answering = () => [200, of('one', 'two')];
    at(90);
    expect([await ask('two'), asked]).toEqual(['there', 4]);
    answering = () => [500, ''];
    at(90 + 601);
    expect([await ask('one'), asked], 'looked at anew, in vain').toEqual(['there', 5]);
    at(90 + 3_590);
    expect(await ask('one')).toBe('there');
    at(90 + 3_590 + 601);
    expect(await ask('one'), 'an hour is over, and what was kept since').toBe('unavailable');
    server.close();
  });

  test('of the development issuer are made once, for their owner alone to read, and their tokens end', async () => {
    const path = join(mkdtempSync(join(tmpdir(), 'development-')), 'state', 'key.json');
    const made = await developmentKey(path);
    expect(existsSync(path)).toBe(true);
    expect(statSync(path).mode & 0o777).toBe(0o600);
    expect(JSON.parse(readFileSync(path, 'utf8'))).toEqual(made);
    expect(await developmentKey(path)).toEqual(made);
    expect(Object.keys(publicPart(made))).toEqual(Object.keys(made).filter((name) => name !== 'd'));
    const signed = await developmentToken(made, 'ada', DESK_AUDIENCE, 60);
    expect(decodeProtectedHeader(signed)).toMatchObject({ alg: 'EdDSA', typ: 'JWT', kid: made.kid });
    const { exp, iat, sub, aud } = decodeJwt(signed);
    expect([exp! - iat!, sub, aud]).toEqual([60, 'ada', DESK_AUDIENCE]);
  });
});

async function key(): Promise<JWK> {
  return developmentKey(join(world.folder, 'development-key.json'));
}

async function idOf(identity: string): Promise<string> {
  const [row] = await run<{ id: string }>(
    world.database,
    sql`select id from records.people where _identity = ${value(identity)}`,
  );
  return row!.id;
}
