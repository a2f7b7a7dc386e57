// npm run agreement -- --cells N --steps N --seed S: closures against PostgreSQL, cell by cell and by whole outcomes, and the solver
// against the closures in one world at a time, for as long as you like. A disagreement is printed with its seed, and for cells the smallest rulebook that still shows it.
import { installPackages } from './lib/setup.mjs';
import { startTestCluster } from './lib/cluster.mjs';
import { show } from './lib/shell.mjs';

/** Cells that one round of the test compares, about. */
const CELLS_A_ROUND = 4_900;

const option = (name, standard) => {
  const at = process.argv.indexOf(`--${name}`);
  return at === -1 ? standard : Number(process.argv[at + 1]);
};
const cells = option('cells', 2_000_000);
const steps = option('steps', 200_000);
const seed = option('seed', 1);
if (
  !Number.isInteger(cells) ||
  cells < 1 ||
  !Number.isInteger(steps) ||
  steps < 1 ||
  !Number.isInteger(seed) ||
  seed < 0
) {
  console.error('Use it so: npm run agreement -- --cells 2000000 --steps 200000 --seed 7');
  process.exit(2);
}
await installPackages();
const cluster = process.env.TEST_DATABASE_URL ? null : await startTestCluster();
try {
  process.exitCode = await show(
    'node_modules/.bin/vitest',
    ['run', '--project', 'service', 'test/agreement'],
    {
      TEST_DATABASE_URL: process.env.TEST_DATABASE_URL ?? cluster.url,
      AGREEMENT_SEED: String(seed),
      AGREEMENT_ROUNDS: String(Math.ceil(cells / CELLS_A_ROUND)),
      AGREEMENT_STEPS: String(steps),
      ONE_WORLD_ROUNDS: String(Math.ceil(steps / 1_000)),
      CASCADES_ROUNDS: String(Math.ceil(steps / 500)),
      NO_COLOR: '1',
    },
  );
} finally {
  await cluster?.stop();
}
