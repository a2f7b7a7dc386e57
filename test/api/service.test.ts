import { execFile } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { problemTypes } from '../../src/client/schemas/problems.ts';
import { operations } from '../../src/service/openapi/index.ts';
import { startService } from '../../src/service/start.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { ownDatabase } from '../support/database.ts';
import { openDoor } from '../support/proxy.ts';
import { openWorld, type World } from '../support/world.ts';

const execute = promisify(execFile);
const rulebook = `
collection hives { code text required label  keeper ref people  secret text }
role keeper
rules hives { keeper may read (all), create (code, secret), update (code) when keeper = me stamp keeper = me }
test identity ada { email "ada@hollowoak.example" roles keeper }
`;

let world: World;
beforeAll(async () => {
  world = await openWorld(rulebook);
});
afterAll(() => world.close());

describe('HTTP', () => {
  test('every problem type of an answer can be looked up at the service', async () => {
    for (const [type, { title, status }] of Object.entries(problemTypes)) {
      const { text } = await world.ask('GET', `/problems/${type}`);
      expect(text).toContain(title);
      expect(text).toContain(String(status));
    }
  });

  test('a request that is not well formed gets a problem that says what to do', async () => {
    const hives = '/v1/records/hives';
    const big = JSON.stringify({ code: 'x'.repeat(1_100_000) });
    const cases: [string, string, Parameters<World['ask']>[2], number][] = [
      ['POST', hives, { as: 'ada', body: big }, 413],
      ['POST', hives, { as: 'ada', body: '{"code":' }, 400],
      ['POST', hives, { as: 'ada', body: '[]' }, 400],
      ['POST', hives, { as: 'ada', body: 'null' }, 400],
      ['POST', hives, { as: 'ada', body: '{}', headers: { 'content-type': 'text/plain' } }, 415],
      [
        'POST',
        hives,
        { as: 'ada', body: '{}', headers: { 'content-type': 'application/json; charset=latin1' } },
        415,
      ],
      ['POST', `${hives}?x=1`, { as: 'ada', body: {} }, 400],
      ['PUT', hives, { as: 'ada', body: {} }, 405],
      ['GET', hives, { as: 'ada', headers: { accept: 'text/html' } }, 406],
      ['GET', '/v1/records/wasps', { as: 'ada' }, 404],
      ['GET', '/v1/records/__proto__', { as: 'ada' }, 404],
      ['GET', '/v1/records/%', { as: 'ada' }, 400],
      ['GET', `${hives}/not-an-id`, { as: 'ada' }, 404],
      ['GET', '/v1/nothing', {}, 404],
      ['GET', '/v1/desk/overview', {}, 401],
    ];
    for (const [method, path, options, status] of cases) {
      const answer = await world.ask(method, path, options);
      expect([answer.status, answer.headers.get('content-type')], `${method} ${path}`).toEqual([
        status,
        'application/problem+json; charset=utf-8',
      ]);
      expect(answer.json.status).toBe(status);
      expect(answer.json.detail.length).toBeGreaterThan(10);
      expect(answer.text).not.toMatch(/\bat .*\.[jt]s:\d|node_modules|select |insert /);
    }
    const { headers } = await world.ask('PUT', hives, { body: {} });
    expect(headers.get('allow')).toBe('GET, POST, HEAD, OPTIONS');
    expect((await world.ask('OPTIONS', `${hives}/x`)).headers.get('allow')).toBe(
      'GET, PATCH, DELETE, HEAD, OPTIONS',
    );
    expect((await world.ask('HEAD', hives, { as: 'ada' })).status).toBe(200);
  });

  test('records are for no shared cache', async () => {
    const { headers } = await world.ask('GET', '/v1/records/hives', { as: 'ada' });
    expect([headers.get('cache-control'), headers.get('vary')]).toEqual([
      'private, no-store',
      'Authorization',
    ]);
  });

  test('a request id is passed on, and one that could forge a log line is not', async () => {
    expect(
      (await world.ask('GET', '/v1/health', { headers: { 'x-request-id': 'abc-1' } })).headers.get(
        'x-request-id',
      ),
    ).toBe('abc-1');
    expect(
      (await world.ask('GET', '/v1/health', { headers: { 'x-request-id': 'a b{"x"' } })).headers.get(
        'x-request-id',
      ),
    ).toMatch(/^[0-9a-f-]{36}$/);
  });
});

describe('the description', () => {
  test('is valid OpenAPI 3.1 and speaks of every route that answers', async () => {
    const { json } = await world.ask('GET', '/v1/openapi.json');
    const folder = mkdtempSync(join(tmpdir(), 'openapi-'));
    writeFileSync(join(folder, 'openapi.json'), JSON.stringify(json));
    writeFileSync(
      join(folder, 'redocly.yaml'),
      'extends: [recommended]\ntelemetry: off\nrules:\n  info-license: off\n  no-server-example.com: off\n  operation-4xx-response: off\n',
    );
    await execute(
      'node_modules/.bin/redocly',
      ['lint', '--config', join(folder, 'redocly.yaml'), join(folder, 'openapi.json')],
      { env: { ...process.env, REDOCLY_TELEMETRY: 'off', REDOCLY_SUPPRESS_UPDATE_NOTICE: 'true' } },
    );
    const ids = Object.values(operations).flatMap((methods) =>
      Object.values(methods).map((operation) => operation.id),
    );
    expect(new Set(ids).size).toBe(ids.length);
    for (const [path, methods] of Object.entries(operations)) {
      const { headers, status } = await world.ask(
        'OPTIONS',
        path.replace('{collection}', 'hives').replace('{id}', 'x'),
        /^\/(v1\/desk|scim)/.test(path) ? { token: await deskToken() } : {},
      );
      expect(status, path).toBe(204);
      const allowed = headers
        .get('allow')!
        .split(', ')
        .filter((method) => method !== 'HEAD' && method !== 'OPTIONS')
        .map((method) => method.toLowerCase());
      expect(Object.keys(methods).toSorted(), path).toEqual(allowed.toSorted());
    }
  });

  async function deskToken(): Promise<string> {
    const { developmentKey, developmentToken, DESK_AUDIENCE } =
      await import('../../src/service/identity/development.ts');
    return developmentToken(
      await developmentKey(join(world.folder, 'development-key.json')),
      'test',
      DESK_AUDIENCE,
      60,
    );
  }
});

describe('staff', () => {
  test('sign in with a cookie that scripts and other sites cannot use', async () => {
    await setStaff(
      world.database,
      'manager@hollowoak.example',
      'a long enough password',
      'manager',
      atTheMachine('test'),
    );
    const signIn = (body: object, headers = {}) => world.ask('POST', '/v1/desk/session', { body, headers });
    const right = { email: 'Manager@hollowoak.example', password: 'a long enough password' };
    const wrong = await signIn({ ...right, password: 'not the password' });
    const unknown = await signIn({ ...right, email: 'nobody@hollowoak.example' });
    expect([wrong.status, { ...wrong.json, request: '' }]).toEqual([401, { ...unknown.json, request: '' }]);
    expect((await signIn(right, { origin: 'https://elsewhere.example' })).status).toBe(403);
    const answer = await signIn(right);
    const cookie = answer.headers.get('set-cookie')!;
    expect(cookie).toMatch(/HttpOnly/);
    expect(cookie).toMatch(/SameSite=Strict/);
    const session = { cookie: cookie.split(';')[0]! };
    expect((await world.ask('GET', '/v1/desk/overview', { headers: session })).json.version).toBe(1);
    expect(
      (
        await world.ask('GET', '/v1/desk/overview', {
          headers: { ...session, 'sec-fetch-site': 'cross-site' },
        })
      ).status,
    ).toBe(403);
    expect(
      (await world.ask('GET', '/v1/records/hives', { headers: session })).json.records,
      'a session is nothing at the records',
    ).toEqual([]);
    await world.ask('DELETE', '/v1/desk/session', { headers: session });
    expect((await world.ask('GET', '/v1/desk/overview', { headers: session })).status).toBe(401);
  });

  test('are slowed down when they guess', async () => {
    const guesses = [];
    for (let i = 0; i < 22; i++)
      guesses.push(
        (
          await world.ask('POST', '/v1/desk/session', {
            body: { email: 'x@hollowoak.example', password: String(i) },
          })
        ).status,
      );
    expect(guesses.at(-1)).toBe(429);
  });
});

describe('the database', () => {
  test('may be away at the start and go away later: 503 meanwhile, and back by itself', async () => {
    const own = await ownDatabase();
    const door = await openDoor(own.url);
    door.shut();
    const service = await startService({
      databaseUrl: door.url,
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
    });
    const ask = async (path: string) => {
      const response = await fetch(service.url + path);
      return {
        status: response.status,
        body: await response.text(),
        retry: response.headers.get('retry-after'),
      };
    };
    try {
      expect(JSON.parse((await ask('/v1/health')).body)).toEqual({
        status: 'unavailable',
        database: 'unreachable',
        rulebook: null,
      });
      expect(await ask('/v1/records/hives')).toMatchObject({ status: 503, retry: '1' });
      await door.open();
      await service.ready;
      expect((await ask('/v1/health')).status).toBe(200);
      expect((await ask('/v1/records/hives')).status, 'nothing is published: nothing is there').toBe(404);
      door.shut();
      const away = await ask('/v1/records/hives');
      expect(away).toMatchObject({ status: 503, retry: '1' });
      expect(away.body).not.toMatch(/ECONN|terminated|127\.0\.0\.1/);
      await door.open();
      await expect.poll(() => ask('/v1/health').then((answer) => answer.status)).toBe(200);
    } finally {
      await service.stop();
      door.close();
      await own.drop();
    }
  });
});

describe('the log', () => {
  test('holds no token, no query, no header and no value of a record', async () => {
    const env = {
      ...process.env,
      FIRMGATE_STATE: world.folder,
      FIRMGATE_DEVELOPMENT_KEY: join(world.folder, 'development-key.json'),
    };
    const { spawn } = await import('node:child_process');
    const child = spawn(
      'node',
      ['dist/program/main.js', 'serve', '--port', '0', '--development', '--database', world.url],
      { env },
    );
    let log = '';
    let said = '';
    child.stdout.on('data', (piece: Buffer) => (log += piece.toString()));
    child.stderr.on('data', (piece: Buffer) => (said += piece.toString()));
    await expect.poll(() => said).toMatch(/listens on http/);
    const url = /http:\/\/[\d.]+:\d+/.exec(said)![0];
    await expect.poll(() => fetch(`${url}/v1/health`).then((answer) => answer.status)).toBe(200);
    const token = await world.token('ada');
    const headers = {
      authorization: `Bearer ${token}`,
      'content-type': 'application/json',
      traceparent: '00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01',
    };
    const post = () =>
      fetch(`${url}/v1/records/hives`, {
        method: 'POST',
        headers,
        body: JSON.stringify({ code: 'LOGGED-CODE', secret: 'LOGGED-SECRET' }),
      });
    expect([(await post()).status, (await post()).status]).toEqual([201, 409]);
    await fetch(`${url}/v1/records/hives?where=${encodeURIComponent('secret = "LOGGED-SECRET"')}`, {
      headers,
    });
    await fetch(`${url}/v1/records/hives/LOGGED-ID?x=LOGGED-QUERY`, {
      headers: { authorization: 'Bearer LOGGED-TOKEN' },
    });
    await expect.poll(() => log.split('\n').filter((line) => line.includes('/v1/records')).length).toBe(4);
    child.kill('SIGTERM');
    await new Promise((resolve) => child.once('exit', resolve));
    expect(log).not.toMatch(/LOGGED-(CODE|SECRET|QUERY|TOKEN)/);
    expect(log).not.toContain(token);
    expect(log).toContain('0af7651916cd43dd8448eb211c80319c');
  });
});

test('a port in use is told with what to do next', async () => {
  const port = Number(new URL(world.service.url).port);
  await expect(
    startService({
      databaseUrl: world.url,
      host: '127.0.0.1',
      proxies: [],
      origins: [],
      port,
      issuers: [],
      leeway: 5,
      developmentKey: null,
      post: null,
      welcome: '',
      logLevel: 'silent',
      consoleFolder: null,
    }),
  ).rejects.toThrow(/in use.*choose another/);
});

test('a request that never ends does not stop the others', async () => {
  const { hostname, port } = new URL(world.service.url);
  const slow = request({
    hostname,
    port,
    method: 'POST',
    path: '/v1/records/hives',
    headers: { 'content-type': 'application/json', 'content-length': 100 },
  });
  slow.on('error', () => undefined);
  slow.write('{');
  expect((await world.ask('GET', '/v1/health')).status).toBe(200);
  slow.destroy();
});
