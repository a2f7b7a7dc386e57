// npm test: the set-up for tests, then every check and every test. Stops at the first check that fails.
import { chromium, pooler } from './lib/debian.mjs';
import { build, installPackages } from './lib/setup.mjs';
import { startTestCluster } from './lib/cluster.mjs';
import { show } from './lib/shell.mjs';

await installPackages();
const browser = await chromium();
const pgbouncer = await pooler();
await build();
for (const check of ['check:format', 'check:lint', 'check:types', 'check:imports', 'check:unused']) {
  const code = await show('npm', ['run', '--silent', check]);
  if (code !== 0) {
    console.error(`\n✗ npm run ${check} found something; see above.`);
    process.exit(code);
  }
  console.log(`✓ ${check}`);
}
// What takes long has a script of its own: it is run where it is asked for.
const asked = process.argv.slice(2);
const wanted =
  asked.length > 0 ? asked : ['unit', 'service', 'console'].flatMap((name) => ['--project', name]);
const cluster = process.env.TEST_DATABASE_URL ? null : await startTestCluster();
try {
  process.exitCode = await show('node_modules/.bin/vitest', ['run', ...wanted], {
    TEST_DATABASE_URL: process.env.TEST_DATABASE_URL ?? cluster.url,
    CHROMIUM: browser,
    PGBOUNCER: pgbouncer,
    NO_COLOR: '1',
  });
} finally {
  await cluster?.stop();
}
