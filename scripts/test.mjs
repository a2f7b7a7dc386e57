// npm test: the set-up for tests, then every check and every test. Ends after the checks where one fails.
import { chromium, pooler } from './lib/debian.mjs';
import { build, installPackages } from './lib/setup.mjs';
import { startTestCluster } from './lib/cluster.mjs';
import { collected, show } from './lib/shell.mjs';

await installPackages();
const browser = await chromium();
const pgbouncer = await pooler();
await build();
// All at once: most use one core alone.
const checks = ['check:format', 'check:lint', 'check:types', 'check:imports', 'check:unused'];
const results = await Promise.all(checks.map((check) => collected('npm', ['run', '--silent', check])));
for (const [index, { code, said }] of results.entries()) {
  if (code !== 0) console.log(said);
  console.log(`${code === 0 ? '✓' : '✗'} ${checks[index]}`);
}
if (results.some(({ code }) => code !== 0)) {
  console.error('\nWhat these checks say is above, before the name of each.');
  process.exit(1);
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
