// npm run bench: loads the large set once, then compares with the hand-written route. Options: --rounds=5 --seconds=4;
// --formulations: compares statements alone; --sweep: what 200 identities reach; --faults: who finds planted faults, and
// whether users wait for trials; --people: a directory of 100,000; --timing: whether time tells; --shares and --rights: what they cost;
// --pinned: what is asked while rules are written; --preview: what a draft does for 10,000 people; --texts: the parser and the checker on
// broken texts; --publishing: how long users wait for a publication; --memory: whether memory settles; --interaction: how long somebody
// at the console waits for a paint; --pipeline: needs no database.
import { build, installPackages } from './lib/setup.mjs';
import { chromium } from './lib/debian.mjs';
import { startCluster, stateFolder } from './lib/cluster.mjs';
import { root, show } from './lib/shell.mjs';

const flags = process.argv.slice(2);
const chosen =
  [
    'formulations',
    'sweep',
    'faults',
    'people',
    'timing',
    'shares',
    'rights',
    'texts',
    'publishing',
    'pinned',
    'preview',
    'pipeline',
    'memory',
    'interaction',
  ].find((name) => flags.includes(`--${name}`)) ?? 'main';
const program = `dist/bench/${chosen}.js`;
const alone = flags.includes('--pipeline') || flags.includes('--texts');

await installPackages();
await build();
if (alone) process.exit(await show(process.execPath, [program, root, ...flags]));
const cluster = process.env.DATABASE_URL
  ? null
  : await startCluster('bench', { shared_buffers: '1GB', max_wal_size: '4GB' });
try {
  process.exitCode = await show(process.execPath, [program, root, ...flags], {
    DATABASE_URL: process.env.DATABASE_URL ?? cluster.url,
    FIRMGATE_STATE: stateFolder,
    ...(chosen === 'interaction' ? { CHROMIUM: await chromium() } : {}),
  });
} finally {
  await cluster?.stop();
}
