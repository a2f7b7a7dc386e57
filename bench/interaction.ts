import { mkdtempSync, readFileSync, readdirSync, rmSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium, type Page } from 'playwright-core';
import { loadDemo } from '../demo/data/load.ts';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { setStaff } from '../src/store/staff/index.ts';
import { start } from './serving.ts';

/**
 * npm run bench -- --interaction: how long somebody who uses the console waits from a key or a click to the next paint, as the browser tells
 * by Event Timing, on the demo data: at the pace of a quick hand, in Chromium without a graphics card, beside the service and its database on
 * the same machine.
 */
const [root = '.'] = process.argv.slice(2);
/** Milliseconds between two keys: ten of them a second. Nobody types faster for long. */
const KEY = 100;
/** And between two clicks, after what the first one asked for is there. */
const CLICK = 500;
const STAFF = { email: 'publisher@hollowoak.example', password: 'a long enough password' };

const folder = join(root, 'demo/rulebook');
const sources = readdirSync(folder).map((name) => ({ name, text: readFileSync(join(folder, name), 'utf8') }));
const checked = checkRulebook(sources);
if (!checked.ok) throw new TypeError('the demo rulebook has errors');
const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists interaction with (force)`);
await run(admin, sql`create database interaction`);
await admin.destroy();
const url = process.env.DATABASE_URL!.replace(/\/[^/]*$/, '/interaction');
const database = connect({ url, poolSize: 2 });
await migrate(database);
await publish(database, checked.rulebook, atTheMachine('bench'));
await loadDemo(database, checked.rulebook);
await setStaff(database, STAFF.email, STAFF.password, 'publisher', atTheMachine('bench'));
await database.destroy();

const options = ['--port', '0', '--log', 'error', '--database', url, '--development'];
const service = await start('service', '', [join(root, 'dist/program/main.js'), 'serve', ...options], {});
const profile = mkdtempSync(join(tmpdir(), 'chromium-'));
const browser = await chromium.launchPersistentContext(profile, {
  executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
  args: [
    '--no-sandbox',
    '--headless=new',
    '--disable-gpu',
    '--no-first-run',
    '--disable-background-networking',
  ],
  viewport: { width: 1280, height: 800 },
});

interface Told {
  readonly step: string;
  readonly of: string;
  readonly duration: number;
  /** Of it: until the page heard of it, and what its handlers did, of all events of the key or click. */
  readonly waited: number;
  readonly worked: number;
}
const told: Told[] = [];
let step = '';
await browser.exposeFunction('tellPaint', (of: string, duration: number, waited: number, worked: number) =>
  told.push({ step, of, duration, waited, worked }),
);
// What takes less than 16 ms is not told of.
await browser.addInitScript(`
  const longest = new Map();
  new PerformanceObserver((list) => {
    for (const { interactionId, name, duration, startTime, processingStart, processingEnd } of list.getEntries()) {
      if (interactionId === 0) continue;
      const known = longest.get(interactionId) ?? { duration: 0, worked: 0 };
      if (known.duration === 0) setTimeout(() => {
        const { name, duration, waited, worked } = longest.get(interactionId);
        tellPaint(name, duration, waited, worked);
      }, 300);
      const worked = known.worked + processingEnd - processingStart;
      longest.set(interactionId, duration > known.duration
        ? { name, duration, waited: processingStart - startTime, worked }
        : { ...known, worked });
    }
  }).observe({ type: 'event', durationThreshold: 16 });
`);

const page = await browser.newPage();
page.setDefaultTimeout(20_000);
const pause = (ms: number) => page.waitForTimeout(ms);
const keys = async (...all: string[]) => {
  for (const key of all) {
    await page.keyboard.press(key);
    await pause(KEY);
  }
};
const times = (count: number, key: string) => Array.from({ length: count }, () => key);
const type = async (text: string) => {
  await page.keyboard.type(text, { delay: KEY });
  await pause(CLICK);
};
const click = async (what: ReturnType<Page['locator']>) => {
  await what.click();
  await pause(CLICK);
};
const goTo = async (name: string) => {
  await click(page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name }));
  await page.waitForLoadState('networkidle');
};

const open = async (focus: string) => {
  await page.goto(`${service.url}/console/bench/hives#with=ada,ivo,stella,tess,visitor&focus=${focus}`);
  await page.reload();
  await page.getByRole('grid').waitFor();
  await page.waitForLoadState('networkidle');
};

const steps: Record<string, () => Promise<void>> = {
  'going from page to page': async () => {
    for (const name of ['Collections', 'People', 'Proof', 'Changes', 'Trail', 'House', 'Start', 'Bench'])
      await goTo(name);
  },
  'through whose eyes, by a click and by its number': async () => {
    await open('ivo');
    const seenBy = page.getByRole('region', { name: 'Seen by' });
    for (const name of [/ada/, /stella/, /tess/, /ivo/])
      await click(seenBy.getByRole('button', { name }).first());
    await page.getByRole('grid').focus();
    await keys('1', '2', '3', '4', '5', '1', '3');
  },
  'walking the table': async () => {
    await page.getByRole('grid').focus();
    await keys(
      'Control+Home',
      ...times(25, 'ArrowDown'),
      ...times(6, 'ArrowRight'),
      ...times(10, 'PageDown'),
    );
    await keys('Control+End', 'Control+Home');
  },
  'asking why of a cell': async () => {
    for (const column of [1, 3, 5]) {
      await click(page.getByRole('grid').getByRole('gridcell').nth(column));
      await keys('Enter');
      await page.getByRole('complementary', { name: 'Why' }).waitFor();
      await pause(CLICK);
    }
    await click(page.getByRole('complementary', { name: 'Why' }).getByRole('button', { name: 'Close' }));
  },
  'typing a filter': async () => {
    await page.getByRole('textbox', { name: 'Only where' }).focus();
    await type('status = "active" and code starts with "OAK"');
    await keys('Enter');
    await page.waitForLoadState('networkidle');
    await click(page.getByRole('button', { name: 'Clear' }));
  },
  'writing in a sentence': async () => {
    await click(page.getByRole('button', { name: /^Write in:/ }).first());
    await keys('Control+End');
    await type(' and status = "active" or queen_year > 2020');
    await page.waitForLoadState('networkidle');
    await keys(...times(12, 'Backspace'));
    await page.waitForLoadState('networkidle');
    await keys('Control+z', 'Control+z', 'Control+z');
  },
  'a sentence as a form': async () => {
    await open('ada');
    await click(page.getByRole('button', { name: 'Write in: inspector may read (all but notes' }));
    const writing = page.getByRole('article', { name: /Being written/ });
    await click(writing.getByRole('button', { name: 'Form', exact: true }));
    const fields = writing.getByRole('group', { name: 'read', exact: true });
    for (const field of (await fields.getByRole('button').all()).slice(0, 6)) await click(field);
    await page.waitForLoadState('networkidle');
    await click(page.getByRole('button', { name: 'Done' }));
  },
  'the palette': async () => {
    await keys('Control+k');
    await type('oak-00');
    await keys('ArrowDown', 'ArrowDown', 'Escape');
  },
};

try {
  await page.goto(`${service.url}/console/`);
  await page.getByLabel('E-mail address').fill(STAFF.email);
  await page.getByLabel('Password').fill(STAFF.password);
  await page.keyboard.press('Enter');
  await page.getByRole('navigation', { name: 'Pages' }).waitFor();
  await pause(1_000);
  for (const [name, go] of Object.entries(steps)) {
    step = name;
    await go();
    await pause(700);
  }
} finally {
  await browser.close();
  service.process.removeAllListeners('exit').kill();
  rmSync(profile, { recursive: true, force: true });
}

const columns = 'keys and clicks | half within, ms | 98 of 100 within, ms | longest, ms: waited, worked';
console.log(`${cpus().length} × ${cpus()[0]!.model}\n`);
console.log(`| what | ${columns} |\n|---|---|---|---|---|`);
for (const name of [...Object.keys(steps), 'all of it']) {
  const all = told
    .filter((each) => name === 'all of it' || each.step === name)
    .toSorted((one, other) => one.duration - other.duration);
  const at = (share: number) => all[Math.min(all.length - 1, Math.floor(all.length * share))];
  const most = all.at(-1);
  console.log(
    `| ${name} | ${all.length} | ${at(0.5)?.duration ?? ''} | ${at(0.98)?.duration ?? ''} | ${
      most === undefined
        ? ''
        : `${most.duration} (${most.of}): ${most.waited.toFixed(0)}, ${most.worked.toFixed(0)}`
    } |`,
  );
}
