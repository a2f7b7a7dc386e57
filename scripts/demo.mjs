// npm run demo: everything from a fresh checkout to a running gate with the demo data.
import { build, installPackages } from './lib/setup.mjs';
import { startCluster, stateFolder } from './lib/cluster.mjs';
import { root, show } from './lib/shell.mjs';

await installPackages();
await build();
const cluster = process.env.DATABASE_URL ? null : await startCluster('demo');
const flags = process.argv.slice(2);
try {
  process.exitCode = await show(process.execPath, ['dist/demo/main.js', root, ...flags], {
    DATABASE_URL: process.env.DATABASE_URL ?? cluster.url,
    FIRMGATE_STATE: stateFolder,
  });
} finally {
  await cluster?.stop();
}
