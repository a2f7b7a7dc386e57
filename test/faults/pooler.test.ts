import { spawn, type ChildProcess } from 'node:child_process';
import { chmodSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { connect as connectTo, createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { SESSION, connect, run } from '../../src/store/connection.ts';
import { UnfitSessions, assureSessions } from '../../src/store/sessions.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** A pooler before the database, a real one: where it takes a session away, the service must not start. */
let own: OwnDatabase;
const poolers: ChildProcess[] = [];
const folders: string[] = [];

beforeAll(async () => {
  own = await ownDatabase();
});

afterAll(async () => {
  for (const each of poolers) each.kill('SIGKILL');
  for (const folder of folders) rmSync(folder, { recursive: true, force: true });
  await own.drop();
});

/** Answers the address of the database behind it. */
async function pooler(settings: string): Promise<string> {
  const folder = mkdtempSync('/tmp/firmgate-pooler-');
  folders.push(folder);
  chmodSync(folder, 0o755);
  const port = await freePort();
  const { hostname, port: behind, username, password, pathname } = new URL(own.url);
  const file = join(folder, 'pooler.ini');
  writeFileSync(
    file,
    `[databases]
all = host=${hostname} port=${behind} dbname=${pathname.slice(1)} user=${username} password=${password}
[pgbouncer]
listen_addr = 127.0.0.1
listen_port = ${port}
unix_socket_dir =
auth_type = any
${settings}
`,
  );
  chmodSync(file, 0o644);
  const asPostgres = process.getuid?.() === 0 ? ['-u', 'postgres'] : [];
  const child = spawn(process.env.PGBOUNCER ?? '/usr/sbin/pgbouncer', [...asPostgres, file], {
    stdio: 'ignore',
  });
  poolers.push(child);
  for (let time = 0; time < 200; time++) {
    const isOpen = await new Promise<boolean>((resolve) => {
      const socket = connectTo(port, '127.0.0.1', () => resolve(true)).once('error', () => resolve(false));
      socket.unref().end();
    });
    if (isOpen) return `postgres://somebody@127.0.0.1:${port}/all`;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error('the pooler did not start');
}

async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as AddressInfo;
  await new Promise((resolve) => server.close(resolve));
  return port;
}

/** What is wrong with the sessions there; null where nothing is. `sessions`: that others have opened before. */
async function wrongWith(settings: string, sessions = 0): Promise<string | null> {
  const database = connect({ url: await pooler(settings), poolSize: 5 });
  try {
    // So many sessions are open already, and free.
    await Promise.all(Array.from({ length: sessions }, () => run(database, sql`select pg_sleep(0.2)`)));
    await assureSessions(database);
    return null;
  } catch (error) {
    if (!(error instanceof UnfitSessions)) throw error;
    return error.message;
  } finally {
    await database.destroy();
  }
}

const PASSED_OVER = 'ignore_startup_parameters = options,extra_float_digits';

test('a pooler that gives each transaction another session is refused, whichever is free', async () => {
  // The session that was freed last is taken first; or each in turn.
  for (const turn of [0, 1])
    expect(
      await wrongWith(
        `pool_mode = transaction\ndefault_pool_size = 10\nserver_round_robin = ${turn}\n${PASSED_OVER}`,
        4,
      ),
    ).toMatch(/another session of the database: .*pool_mode = session/);
});

test('one that refuses the settings is told of, and so is a session that has others', async () => {
  expect(await wrongWith('pool_mode = session')).toMatch(/refuses the settings of a session/);
  expect(await wrongWith(`pool_mode = session\n${PASSED_OVER}`)).toMatch(
    /has \w+ = .* and not .*ALTER ROLE … SET/,
  );
});

test('one that keeps a session, whose role is set up, is as good as the database itself', async () => {
  await assureSessions(own.database);
  const { username } = new URL(own.url);
  const set = (text: string) => run(own.database, { ...sql``, text });
  const inDatabase = `alter role "${username}" in database "${new URL(own.url).pathname.slice(1)}"`;
  for (const [name, value] of Object.entries(SESSION)) await set(`${inDatabase} set ${name} = '${value}'`);
  try {
    expect(await wrongWith(`pool_mode = session\n${PASSED_OVER}`)).toBe(null);
  } finally {
    await set(`${inDatabase} reset all`);
  }
});
