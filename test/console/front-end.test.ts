import { existsSync, mkdirSync, mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import react from '@vitejs/plugin-react';
import type { BrowserContext, Page } from 'playwright-core';
import { build } from 'vite';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { openBrowser } from '../support/chromium.ts';
import { compiled } from '../support/compile.ts';
import { openDemo, type World } from '../support/world.ts';

/** The page of docs/how-to/build-a-front-end.md, as it stands there, of another origin, in Chromium, against the demo. */
const example = /^```tsx\n([\s\S]*?)^```$/m.exec(
  readFileSync('docs/how-to/build-a-front-end.md', 'utf8'),
)![1]!;
const folder = mkdtempSync(join(tmpdir(), 'front-end-'));

let world: World;
let pages: Server;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  pages = createServer((request, response) => {
    const name = request.url === '/' ? 'index.html' : request.url!.slice(1);
    response.setHeader('Content-Type', name.endsWith('.js') ? 'text/javascript' : 'text/html');
    const file = join(folder, 'built', name);
    if (existsSync(file)) response.end(readFileSync(file));
    else response.writeHead(404).end();
  });
  await new Promise<void>((listening) => pages.listen(0, '127.0.0.1', listening));
  const origin = `http://127.0.0.1:${(pages.address() as AddressInfo).port}`;
  world = await openDemo({ origins: [origin] });
  const files = {
    'main.tsx': example,
    'collections.ts': await world.desk.types(),
    'sign-in.ts': `export const gateUrl = ${JSON.stringify(world.service.url)};
      export const token = async () => ${JSON.stringify(await world.token('ada'))};`,
  };
  complaints.push(await compiled(folder, files));
  writeFileSync(
    join(folder, 'index.html'),
    '<!doctype html><html lang="en"><title>Hives</title><div id="root"></div><script type="module" src="./main.tsx"></script>',
  );
  mkdirSync(join(folder, 'built'));
  const modules = (name: string) => resolve('node_modules', name);
  await build({
    root: folder,
    configFile: false,
    logLevel: 'silent',
    plugins: [react()],
    resolve: {
      alias: {
        'firmgate/client': resolve('dist/src/client/index.js'),
        'react-dom': modules('react-dom'),
        react: modules('react'),
      },
    },
    build: { outDir: 'built', minify: false },
  });
  browser = await openBrowser();
  page = await browser.newPage();
  page.setDefaultTimeout(120_000);
  page.on('pageerror', (error) => complaints.push(error.message));
  await page.goto(origin);
});
afterAll(async () => {
  await browser?.close();
  pages?.close();
  await world?.close();
});

const said = () => page.getByRole('status');
const row = (code: string) => page.getByRole('row').filter({ has: page.getByText(code, { exact: true }) });

test('compiles against the types in force, and is at most 150 lines', () => {
  expect(complaints).toEqual(['']);
  expect(example.trimEnd().split('\n').length).toBeLessThanOrEqual(150);
});

test('lists what the user reads, locks what they may not change, and hides what would be refused', async () => {
  await page.getByRole('heading', { name: 'Hives kept by members' }).waitFor();
  await row('OAK-001').waitFor();
  expect(await page.getByRole('row').count()).toBe(1 + 4);
  const { records } = await (await world.as('ada')).list('hives', { rights: true, order: 'code' });
  for (const { code, _rights } of records) {
    const here = row(code as string);
    expect(await here.getByLabel(`Notes of ${code as string}`).count()).toBe(
      Number(_rights.update.includes('notes')),
    );
    expect(await here.getByRole('button').count()).toBe(Number(_rights.delete));
    expect(await here.getByLabel(`Code of ${code as string}`).count()).toBe(0);
  }
  const may = records.map(({ _rights }) => _rights.delete);
  expect(new Set(may), 'of some both').toEqual(new Set([true, false]));
});

test('saves a change, and says so by showing the record as it is', async () => {
  const notes = page.getByLabel('Notes of OAK-001');
  await notes.fill('calm, and heavy');
  // The page reads the record again before the next change: with its new tag.
  const again = page.waitForResponse(
    (response) => response.url().includes('/v1/records/hives/') && response.request().method() === 'GET',
  );
  await notes.blur();
  await (await again).finished();
  await expect.poll(async () => stored('OAK-001', 'notes')).toBe('calm, and heavy');
  await page.getByLabel('Visibility of OAK-001').selectOption('members');
  await expect.poll(async () => stored('OAK-001', 'visibility')).toBe('members');
  expect(await said().innerText()).toBe('');
});

test('tells who was faster (412), and shows what they made of it', async () => {
  const ada = await world.as('ada');
  // What the page reads again after the change before would otherwise show this one, too.
  await page.waitForLoadState('networkidle');
  await ada.update('hives', await idOf('OAK-001'), { notes: 'by somebody else' });
  const notes = page.getByLabel('Notes of OAK-001');
  await notes.fill('mine');
  await notes.blur();
  await said().getByText('Somebody else was faster').waitFor();
  await expect.poll(() => page.getByLabel('Notes of OAK-001').inputValue()).toBe('by somebody else');
});

test('takes a refusal (403), and locks what is locked by now', async () => {
  const deleting = row('OAK-002').getByRole('button');
  await deleting.waitFor();
  // The hive is retired behind the page’s back, and its tag is the one that the page holds: so only the rules refuse.
  await page.route('**/v1/records/hives/**', async (route) => {
    const headers = route.request().headers();
    delete headers['if-match'];
    await route.continue({ headers });
  });
  await (await world.as('ada')).update('hives', await idOf('OAK-002'), { status: 'retired' });
  const notes = page.getByLabel('Notes of OAK-002');
  await notes.fill('too late');
  await notes.blur();
  await said().getByText('You may not do that').waitFor();
  await expect.poll(() => page.getByLabel('Notes of OAK-002').count()).toBe(0);
  expect(await row('OAK-002').getByRole('button').count()).toBe(0);
  await page.unroute('**/v1/records/hives/**');
});

test('takes that something else still needs a record (409), and makes and deletes one of its own', async () => {
  await row('OAK-001').getByRole('button').click();
  await said().getByText('Something else still needs it').waitFor();
  await page.getByPlaceholder('Code').fill('OAK-777');
  await page.getByLabel('Apiary', { exact: true }).selectOption('Heath');
  await page.getByRole('button', { name: 'Add' }).click();
  await row('OAK-777').waitFor();
  expect(await stored('OAK-777', 'visibility'), 'what is left out is filled in').toBe('private');
  await row('OAK-777').getByRole('button').click();
  await expect.poll(() => row('OAK-777').count()).toBe(0);
  expect(await said().innerText()).toBe('');
  expect(complaints).toEqual(['']);
});

async function stored(code: string, field: string): Promise<unknown> {
  const { records } = await (await world.as('ada')).list('hives', { where: `code = "${code}"` });
  return records[0]![field];
}

async function idOf(code: string): Promise<string> {
  return (await stored(code, 'id')) as string;
}
