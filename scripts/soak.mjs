// npm run soak -- --minutes 10 --seed 1: the service at full load while rules, roles and people change, processes are killed, and the
// database is restarted. Exit code 1: an answer was wrong, a write was lost, or memory grew.
import { build, installPackages } from './lib/setup.mjs';
import { startCluster } from './lib/cluster.mjs';

const option = (name, standard) => {
  const at = process.argv.indexOf(`--${name}`);
  return at === -1 ? standard : Number(process.argv[at + 1]);
};
const minutes = option('minutes', 10);
const seed = option('seed', 1);
if (!(minutes > 0) || !Number.isInteger(seed)) {
  console.error('Use it so: npm run soak -- --minutes 10 --seed 1');
  process.exit(2);
}
await installPackages();
await build();
const { soak } = await import('../dist/bench/soak.js');
const { connect, run } = await import('../dist/src/store/connection.js');
let cluster = await startCluster('soak', { max_connections: 100 });
const base = connect({ url: cluster.url, poolSize: 1 });
await run(base, { text: 'drop database if exists soak with (force)', values: [] });
await run(base, { text: 'create database soak', values: [] });
await base.destroy();
const url = cluster.url.replace(/\/[^/]*$/, '/soak');
try {
  const well = await soak({
    url,
    seconds: minutes * 60,
    seed,
    restart: async () => {
      await cluster.stop();
      cluster = await startCluster('soak', { max_connections: 100 });
    },
  });
  process.exitCode = well ? 0 : 1;
} finally {
  await cluster.stop();
}
