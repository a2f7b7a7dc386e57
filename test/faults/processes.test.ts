import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, describe, expect, test } from 'vitest';
import { DeskClient } from '../../src/client/desk.ts';
import {
  RECORDS_AUDIENCE,
  DESK_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../../src/service/identity/development.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

const FIRMGATE = `${process.cwd()}/firmgate`;

const RULES = `
role keeper
test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper }
test identity ben { name "Ben"  email "ben@hollowoak.example"  roles keeper }
collection hives { code text required label  keeper ref people  notes text  owned by keeper }
rules hives { keeper may read (all), create (code, notes) when keeper = me stamp keeper = me }
`;

/** Several processes on one port, as they are started: what they share, and what becomes of them. */
const begun: { child: ChildProcess; own: OwnDatabase }[] = [];

interface Served {
  readonly url: string;
  readonly metrics: string;
  readonly child: ChildProcess;
  /** All that was said so far. */
  readonly said: () => string;
  readonly ended: Promise<number | null>;
}

async function serve(...more: string[]): Promise<Served> {
  const own = await ownDatabase();
  const args = [
    'serve',
    '--port',
    '0',
    '--database',
    own.url,
    '--processes',
    '2',
    '--metrics',
    '127.0.0.1:0',
  ];
  const child = spawn(FIRMGATE, [...args, ...more], { env: { ...process.env, NO_COLOR: '1' } });
  begun.push({ child, own });
  let said = '';
  child.stdout.on('data', (piece: Buffer) => (said += piece.toString()));
  child.stderr.on('data', (piece: Buffer) => (said += piece.toString()));
  const ended = new Promise<number | null>((resolve) => child.once('exit', resolve));
  await until(() => /2 processes serve/.test(said) || child.exitCode !== null);
  const found = (pattern: RegExp) => pattern.exec(said)?.[1] ?? '';
  const url = found(/listens on (http:\S+?);/);
  return { url, metrics: found(/Metrics are at (http:\S+)/), child, said: () => said, ended };
}

async function until(done: () => boolean | Promise<boolean>): Promise<void> {
  for (let time = 0; time < 600; time++) {
    if (await done()) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error('it never came to that');
}

/** Its processes, without those that have ended and are not looked after yet. */
function processesOf({ child }: Served): string[] {
  const listed = execFileSync('ps', ['-o', 'pid=,stat=', '--ppid', String(child.pid)], { encoding: 'utf8' });
  return listed
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter(([pid, state]) => pid !== '' && state?.startsWith('Z') === false)
    .map(([pid]) => pid!);
}

/** Asks over a connection of its own. */
function ask(url: string, body?: object): Promise<number> {
  return new Promise((resolve, reject) => {
    const headers = body === undefined ? {} : { 'content-type': 'application/json' };
    const sent = request(url, { agent: false, method: body === undefined ? 'GET' : 'POST', headers });
    sent.once('response', (response) => {
      response.resume().once('end', () => resolve(response.statusCode!));
    });
    sent.once('error', reject);
    sent.end(body === undefined ? undefined : JSON.stringify(body));
  });
}

afterEach(async () => {
  for (const { child, own } of begun.splice(0)) {
    child.kill('SIGKILL');
    await own.drop();
  }
});

describe('several processes', () => {
  test('are followed by new ones, one after the other, and by themselves: nobody is refused meanwhile', async () => {
    const served = await serve('--log', 'info');
    const before = processesOf(served);
    expect(before).toHaveLength(2);
    const answers = { kept: 0, fresh: 0 };
    const refused: unknown[] = [];
    let isOver = false;
    // Half of them keep their connections, half take one for each request.
    const asking = Array.from({ length: 8 }, async (_, index) => {
      while (!isOver)
        try {
          const status =
            index % 2 === 0
              ? await fetch(`${served.url}/v1/me`).then((response) =>
                  response.text().then(() => response.status),
                )
              : await ask(`${served.url}/v1/me`);
          if (status === 200) answers[index % 2 === 0 ? 'kept' : 'fresh']++;
          else refused.push(status);
        } catch (error) {
          refused.push(error);
        }
    });
    served.child.kill('SIGHUP');
    await until(() => {
      const now = processesOf(served);
      return now.length === 2 && now.every((pid) => !before.includes(pid));
    });
    isOver = true;
    await Promise.all(asking);
    expect(refused).toEqual([]);
    expect(answers.kept).toBeGreaterThan(100);
    expect(answers.fresh).toBeGreaterThan(100);
    // The link with which the first manager joins is made once, not anew with each process.
    expect(served.said().match(/The first manager joins here/g)).toHaveLength(1);
    for (const line of served
      .said()
      .split('\n')
      .filter((each) => each.startsWith('{')))
      expect(JSON.parse(line)).toMatchObject({ level: expect.any(Number) });

    // Also where one ends while it is being replaced: there are two again, and no more.
    const [killed] = processesOf(served);
    served.child.kill('SIGHUP');
    process.kill(Number(killed), 'SIGKILL');
    await until(() => processesOf(served).length === 2 && !processesOf(served).includes(killed!));
    await new Promise((resolve) => setTimeout(resolve, 3_000));
    await until(() => processesOf(served).length === 2);
    await until(async () => (await ask(`${served.url}/v1/me`).catch(() => 0)) === 200);
    served.child.kill('SIGTERM');
    expect(await served.ended).toBe(0);
    await expect(ask(`${served.url}/v1/me`)).rejects.toThrow('ECONNREFUSED');
  });

  test('count failed tries together, and say together how they are doing', async () => {
    const served = await serve('--log', 'silent');
    const statuses: number[] = [];
    for (let time = 0; time < 24; time++)
      statuses.push(
        await ask(`${served.url}/v1/desk/session`, {
          email: `reader-${time}@hollowoak.example`,
          password: 'not this',
        }),
      );
    // Both have answered, and neither has let more through than one would.
    expect(statuses).toEqual([...Array<number>(20).fill(401), ...Array<number>(4).fill(429)]);
    for (let time = 0; time < 6; time++) expect(await ask(`${served.url}/v1/me`)).toBe(200);
    const answer = await fetch(served.metrics);
    expect(answer.headers.get('content-type')).toBe(
      'application/openmetrics-text; version=1.0.0; charset=utf-8',
    );
    const text = await answer.text();
    // OpenMetrics 1.0: it ends so, counters are named so, and no line comes twice.
    expect(text.endsWith('# EOF\n')).toBe(true);
    const types = text.split('\n').filter((line) => line.startsWith('# TYPE'));
    expect(new Set(types).size).toBe(types.length);
    expect(text).toContain('firmgate_request_seconds_count{route="/v1/me",method="GET",outcome="2xx"} 6\n');
    expect(text).toContain('route="/v1/desk/session",method="POST",outcome="4xx"} 24\n');
    expect(text).toMatch(/^firmgate_guesses_total\{outcome="right"\} \d+$/m);
    expect(text).toMatch(/^nodejs_eventloop_lag_seconds /m);
    expect(text).toMatch(/^process_resident_memory_bytes /m);
    expect(text).not.toMatch(/hollowoak|not this/);
    expect([await ask(served.metrics.replace('/metrics', '/')), await ask(served.metrics, {})]).toEqual([
      404, 405,
    ]);
    expect(await ask(`${served.url}/metrics`), 'callers have no such door').toBe(404);
  });

  test('each verify by a door of their own, also at the same moment', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'firmgate-processes-'));
    process.env.FIRMGATE_DEVELOPMENT_KEY = join(folder, 'key.json');
    try {
      const served = await serve('--development', '--log', 'silent');
      const key = await developmentKey(join(folder, 'key.json'));
      const token = await developmentToken(key, 'test', DESK_AUDIENCE, 600);
      const desk = new DeskClient({ url: served.url, token });
      await desk.unlock('this test publishes', 60);
      await desk.publish({ files: [{ name: 'test.gate', text: RULES }] });
      const ada = await developmentToken(key, 'ada', RECORDS_AUDIENCE, 600);
      const headers = { authorization: `Bearer ${ada}`, 'content-type': 'application/json' };
      for (let count = 0; count < 3; count++) {
        const body = JSON.stringify({ code: `OAK-${count}` });
        expect(
          (await fetch(`${served.url}/v1/records/hives`, { method: 'POST', headers, body })).status,
        ).toBe(201);
      }
      const reports = await Promise.all(Array.from({ length: 6 }, () => desk.sweep({})));
      for (const { covered, differences, left } of reports) {
        expect(covered.requests).toBeGreaterThan(0);
        expect([differences, left]).toEqual([[], []]);
      }
    } finally {
      delete process.env.FIRMGATE_DEVELOPMENT_KEY;
      rmSync(folder, { recursive: true, force: true });
    }
  });

  test('say once what is wrong with what they were given, and end', async () => {
    const served = await serve();
    const { port } = new URL(served.url);
    const second = async (...args: string[]) => {
      const child = spawn(FIRMGATE, ['serve', '--processes', '2', '--database', begun[0]!.own.url, ...args]);
      let said = '';
      child.stderr.on('data', (piece: Buffer) => (said += piece.toString()));
      return { code: await new Promise((resolve) => child.once('exit', resolve)), said };
    };
    const taken = await second('--port', port, '--metrics', '127.0.0.1:0');
    expect(taken.code, taken.said).toBe(2);
    expect(taken.said.match(/is in use: .* with --port/g)).toHaveLength(1);
    const watched = await second('--port', '0', '--metrics', new URL(served.metrics).host);
    expect(watched.code, watched.said).toBe(2);
    expect(watched.said.match(/is in use: .* with --metrics/g)).toHaveLength(1);
  });

  test('wait for the database as one does, and end when they are told to', async () => {
    const nowhere = ['--database', 'postgres://somebody@127.0.0.1:1/nothing', '--port', '0'];
    const child = spawn(FIRMGATE, ['serve', '--processes', '2', '--log', 'silent', ...nowhere]);
    let said = '';
    child.stderr.on('data', (piece: Buffer) => (said += piece.toString()));
    const ended = new Promise((resolve) => child.once('exit', resolve));
    const address = () => /listens on (http:\S+?);/.exec(said)?.[1];
    await until(() => address() !== undefined);
    expect(await ask(`${address()!}/v1/me`)).toBe(503);
    child.kill('SIGTERM');
    expect(await ended).toBe(0);
    await expect(ask(`${address()!}/v1/me`)).rejects.toThrow('ECONNREFUSED');
  });
});
