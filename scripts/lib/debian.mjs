// Debian's packages: installed where this user may, and otherwise named in the exact line to run.
import { existsSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { answers, capture, step, stop } from './shell.mjs';

const CLUSTERS = '/usr/lib/postgresql';
const isRoot = process.getuid?.() === 0;

/** The folder of PostgreSQL's programs, the newest where there are several; installed where there is none. */
export async function postgresPrograms() {
  if (newestPrograms() === null) {
    await install('postgresql', () => {
      // Only the programs are wanted: the package would otherwise make and start a cluster of its own.
      if (!isRoot || existsSync('/etc/postgresql-common/createcluster.conf')) return;
      mkdirSync('/etc/postgresql-common', { recursive: true });
      writeFileSync('/etc/postgresql-common/createcluster.conf', 'create_main_cluster = false\n');
    });
  }
  return (
    newestPrograms() ?? stop('PostgreSQL was installed, and its programs are not in /usr/lib/postgresql.')
  );
}

/** The path of PgBouncer, which the tests put before the database; installed where it is missing. */
export async function pooler() {
  if (!existsSync('/usr/sbin/pgbouncer')) await install('pgbouncer');
  return '/usr/sbin/pgbouncer';
}

/** The path of Chromium; installed where it is missing. */
export async function chromium() {
  if (!existsSync('/usr/bin/chromium')) await install('chromium');
  return '/usr/bin/chromium';
}

function newestPrograms() {
  if (!existsSync(CLUSTERS)) return null;
  const versions = readdirSync(CLUSTERS)
    .map(Number)
    .filter((version) => version >= 13 && existsSync(join(CLUSTERS, String(version), 'bin/initdb')))
    .sort((a, b) => b - a);
  return versions.length === 0 ? null : join(CLUSTERS, String(versions[0]), 'bin');
}

async function install(name, before = () => undefined) {
  const sudo = isRoot ? [] : ['sudo', '-n'];
  const line = `${isRoot ? '' : 'sudo '}apt-get update && ${isRoot ? '' : 'sudo '}apt-get install -y --no-install-recommends ${name}`;
  if (!answers('apt-get'))
    stop(`${name} is missing, and this is no Debian. Install it with your system's packages.`);
  if (!isRoot && !answers('sudo', ['-n', 'true'])) {
    stop(
      `${name} is missing, and this user may not install it. Run this, and then the same command again:\n\n  ${line}\n`,
    );
  }
  await step(`${name} installed from Debian's packages`, () => {
    before();
    const run = (args) => {
      const [command, ...rest] = [...sudo, ...args];
      capture(command, rest, { env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    };
    try {
      run(['apt-get', 'update', '-qq']);
      run(['apt-get', 'install', '-y', '-qq', '--no-install-recommends', name]);
    } catch (error) {
      stop(
        `${name} could not be installed:\n${error.message}\nRun this, and then the same command again:\n\n  ${line}\n`,
      );
    }
  });
}
