// What has to be there before anything runs: Node's version, the packages, the build.
import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import {
  chmodSync,
  copyFileSync,
  existsSync,
  mkdirSync,
  readFileSync,
  readdirSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { capture, root, step, stop } from './shell.mjs';

const [major, minor] = process.versions.node.split('.').map(Number);
if (major < 20 || (major === 20 && minor < 19)) {
  stop(`Node.js 20.19 or later is needed; this is ${process.versions.node}.`);
}

/** Node's packages, exactly as the lock file has them; at once where they are there already. */
export async function installPackages() {
  const wanted = digest(['package-lock.json', '.npmrc']);
  const marker = join(root, 'node_modules/.firmgate-installed');
  if (existsSync(marker) && readFileSync(marker, 'utf8') === wanted) return;
  await step('packages installed', () => {
    capture('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], {
      env: { ...process.env, NODE_ENV: 'development' },
    });
    writeFileSync(marker, wanted);
  });
}

/** Compiles the sources and the console; at once where nothing has changed since. */
export async function build() {
  const wanted = digest([
    ...filesBelow('src'),
    ...filesBelow('demo'),
    ...filesBelow('bench'),
    'package-lock.json',
    'tsconfig.base.json',
    'tsconfig.build.json',
    'tsconfig.client.json',
    'vite.config.ts',
    'vite.program.config.ts',
  ]);
  const marker = join(root, 'dist/.built');
  if (existsSync(marker) && readFileSync(marker, 'utf8') === wanted) return;
  await step('built', async () => {
    capture('node_modules/.bin/tsc', ['-p', 'tsconfig.build.json']);
    // What programs with firmgate/client are held to.
    capture('node_modules/.bin/tsc', ['-p', 'tsconfig.client.json']);
    capture('node_modules/.bin/vite', ['build', '--logLevel', 'warn']);
    capture('node_modules/.bin/vite', ['build', '--logLevel', 'warn', '--config', 'vite.program.config.ts']);
    copyFileSync(join(root, 'dist/src/cli/launch.js'), join(root, 'dist/program/main.js'));
    chmodSync(join(root, 'dist/program/main.js'), 0o755);
    await keepCompiled();
    mkdirSync(join(root, 'dist'), { recursive: true });
    writeFileSync(marker, wanted);
  });
}

/** Starts the service once, as far as it comes without a database: what is compiled by then is kept beside the program. */
async function keepCompiled() {
  const nobody = 'postgres://nobody@127.0.0.1:1/nothing';
  const child = spawn(
    process.execPath,
    [join(root, 'dist/program/main.js'), 'serve', '--port', '0', '--database', nobody],
    { env: { ...process.env, FIRMGATE_KEEP_COMPILED: '1' }, stdio: ['ignore', 'pipe', 'ignore'] },
  );
  const hangs = setTimeout(() => child.kill('SIGKILL'), 120_000);
  child.stdout.once('data', () => child.kill('SIGTERM'));
  await once(child, 'exit');
  clearTimeout(hangs);
  if (!readdirSync(join(root, 'dist/program')).some((name) => name.endsWith('.compiled')))
    stop('The program that was built does not start.');
}

function filesBelow(folder) {
  if (!existsSync(join(root, folder))) return [];
  return readdirSync(join(root, folder), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath ?? entry.path, entry.name).slice(root.length + 1))
    .sort();
}

function digest(files) {
  const hash = createHash('sha256');
  for (const file of files) {
    if (existsSync(join(root, file))) hash.update(file).update(readFileSync(join(root, file)));
  }
  return hash.digest('hex');
}
