import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import { join } from 'node:path';
import pc from 'picocolors';
import { DeskClient, GateProblem, type TrialReport } from '../src/client/desk.ts';
import { checkRulebook } from '../src/core/check/index.ts';
import { ConfigError } from '../src/service/config.ts';
import {
  DESK_AUDIENCE,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../src/service/identity/development.ts';
import { startService } from '../src/service/start.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { connect, type Database } from '../src/store/connection.ts';
import { makeGroup, providedGroup, setGroupRoles, takeIn } from '../src/store/provisioning/index.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { setStaff } from '../src/store/staff/index.ts';
import { readRulebook } from '../src/cli/rulebook-files.ts';
import { DEFAULT_PORT } from '../src/cli/settings.ts';
import { loadDemo } from './data/load.ts';

/**
 * The demo, once its set-up is done (scripts/demo.mjs): publishes the rulebook, loads the records, runs the trials,
 * says how to go on, and serves until it is told to stop. With `--check` it asks the service once and ends.
 */
const [root = '.', ...flags] = process.argv.slice(2);
const onlyCheck = flags.includes('--check');
const state = process.env.FIRMGATE_STATE ?? join(root, '.firmgate');
const databaseUrl = process.env.DATABASE_URL!;
const STAFF = 'manager@hollowoak.example';

const step = (text: string) => console.log(`${pc.green('✓')} ${text}`);

try {
  process.exitCode = await main();
} catch (error) {
  if (!(error instanceof ConfigError) && !(error instanceof GateProblem)) throw error;
  console.error(`${pc.red('error')}: ${error.message}`);
  process.exitCode = 2;
}

async function main(): Promise<number> {
  const port = onlyCheck ? 0 : Number(process.env.PORT ?? DEFAULT_PORT);
  const keyFile = join(state, 'development-key.json');
  const service = await startService({
    databaseUrl,
    host: '127.0.0.1',
    proxies: [],
    origins: [],
    port,
    issuers: [],
    leeway: 30,
    developmentKey: keyFile,
    post: { kind: 'outbox', folder: join(state, 'outbox'), from: 'Hollow Oak <gate@hollowoak.example>' },
    welcome: 'https://members.hollowoak.example/welcome',
    logLevel: 'error',
    consoleFolder: join(root, 'dist/console'),
  });
  try {
    await Promise.race([service.ready, databaseAbsent()]);
    const key = await developmentKey(keyFile);
    const desk = new DeskClient({
      url: service.url,
      token: await developmentToken(key, 'demo', DESK_AUDIENCE, 600),
    });
    const report = await prepare(desk);
    if (onlyCheck) return await probe(service.url, report);
    greet(service.url, await staffPassword(), report);
    await new Promise<void>((resolve) => {
      process.once('SIGINT', resolve);
      process.once('SIGTERM', resolve);
    });
    console.log('\nStopping.');
    return 0;
  } finally {
    await service.stop();
  }

  async function probe(url: string, report: TrialReport): Promise<number> {
    const health = await new DeskClient({ url }).health();
    const key = await developmentKey(keyFile);
    const hives = async (name: string) => {
      const token = await developmentToken(key, name, RECORDS_AUDIENCE, 60);
      return (await new DeskClient({ url, token }).list('hives', { count: true })).count;
    };
    step(
      `the service answers: health ${health.status}, rulebook ${health.rulebook}; ada reads ${await hives('ada')} hives, ben reads ${await hives('ben')}`,
    );
    return health.status === 'ok' && report.failed === 0 && report.passed > 0 ? 0 : 1;
  }
}

/** The service would wait for its database for ever; whoever runs the demo wants to be told. */
async function databaseAbsent(): Promise<never> {
  await new Promise((resolve) => setTimeout(resolve, 20_000).unref());
  throw new ConfigError(
    'the database cannot be reached: check DATABASE_URL, or leave it out to use the demo’s own',
  );
}

async function prepare(desk: DeskClient): Promise<TrialReport> {
  const files = readRulebook([join(root, 'demo/rulebook')]);
  await desk.unlock('the demo starts', 5);
  const published = await desk.publish({ files });
  // Letters of the first start only: they lie in the outbox of the demo.
  if ((await desk.invitations({ limit: 1 })).invitations.length === 0) {
    const list = 'Mina Lee <mina.lee@hollowoak.example>, odo@hollowoak.example';
    const { sent } = await desk.invite({ list, roles: ['keeper'], until: '2027-10-31T00:00:00Z' });
    step(`${sent} invitations in ${join(state, 'outbox')}`);
  }
  await desk.lock();
  step(
    published.changed
      ? `rulebook published as version ${published.version}`
      : `rulebook version ${published.version} is in force`,
  );
  const checked = checkRulebook(files);
  const database = connect({ url: databaseUrl, poolSize: 2 });
  try {
    await migrate(database);
    const loaded = checked.ok ? await loadDemo(database, checked.rulebook) : 0;
    if (loaded > 0 && checked.ok) await provide(database, checked.rulebook);
    step(loaded > 0 ? `${loaded} demo records loaded` : 'demo records are there');
    await setStaff(database, STAFF, await staffPassword(), 'manager', atTheMachine('demo'));
  } finally {
    await database.destroy();
  }
  const report = await desk.trials(null);
  const titles = new Set(report.verdicts.map((verdict) => verdict.trial));
  for (const title of titles) {
    const verdicts = report.verdicts.filter((verdict) => verdict.trial === title);
    const met = verdicts.filter((verdict) => verdict.passed).length;
    console.log(
      `  ${met === verdicts.length ? pc.green('✓') : pc.red('✗')} ${title} ${pc.dim(`${met} of ${verdicts.length}`)}`,
    );
  }
  const summary = `trials: ${report.passed} expectations met, ${report.failed} not; everything they did was rolled back`;
  if (report.failed === 0) step(summary);
  else console.log(`${pc.red('✗')} ${summary}; see: ./firmgate trial`);
  return report;
}

/** What an identity provider would have brought: two apprentices, in a group that gives them their role. */
async function provide(database: Database, rulebook: Rulebook): Promise<void> {
  const actor = atTheMachine('demo provider');
  const members: string[] = [];
  for (const name of ['Nils', 'Yara']) {
    const email = `${name.toLowerCase()}@hollowoak.example`;
    const user = { userName: email, externalId: null, name, email, active: true, extra: {} };
    const taken = await takeIn(database, rulebook, user, null, actor);
    if (typeof taken === 'string') members.push(taken);
  }
  const group = { displayName: 'Learners of spring', externalId: null, members };
  const made = await makeGroup(database, group, actor);
  if (typeof made === 'string') return;
  const stored = await providedGroup(database, made.id);
  if (stored !== null) await setGroupRoles(database, rulebook, stored, ['apprentice'], actor);
}

/** Made at the first start and kept in a file of the user's own. */
async function staffPassword(): Promise<string> {
  const file = join(state, 'demo-staff.json');
  if (existsSync(file)) return (JSON.parse(readFileSync(file, 'utf8')) as { password: string }).password;
  const password = randomBytes(9).toString('base64url');
  writeFileSync(file, JSON.stringify({ email: STAFF, password }), { mode: 0o600 });
  return password;
}

function greet(url: string, password: string, report: TrialReport): void {
  // The command line looks at the usual port unless it is told otherwise.
  const there = url.endsWith(`:${DEFAULT_PORT}`) ? '' : `FIRMGATE_URL=${url} `;
  const lines = [
    '',
    pc.bold(`Firm Gate is running at ${url}`),
    '',
    `  Console   ${pc.cyan(`${url}/console/`)}`,
    `            sign in as ${pc.bold(STAFF)} with ${pc.bold(password)}`,
    '',
    '  As Ada, and as Ben, from another terminal in this folder:',
    pc.cyan(`            ${there}./firmgate records list hives --as ada`),
    pc.cyan(`            ${there}./firmgate records list hives --as ben`),
    '  With curl, as an end user’s program would:',
    pc.cyan(`            curl -H "Authorization: Bearer $(./firmgate token ada)" ${url}/v1/records/hives`),
    '',
    report.failed === 0
      ? '  Ctrl-C stops the service and its database.'
      : pc.red('  Some trials failed. Ctrl-C stops the service and its database.'),
  ];
  console.log(lines.join('\n'));
}
