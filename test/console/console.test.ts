import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium, type BrowserContext, type Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { setStaff } from '../../src/store/staff.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

/** The console in Chromium, against a service of its own. */
const STAFF = { email: 'manager@hollowoak.example', password: 'a long enough password' };
const flags = [
  '--no-sandbox',
  '--headless=new',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
];

let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  world = await openDemo({ consoleFolder: 'dist/console' });
  await setStaff(world.database, STAFF.email, STAFF.password);
  browser = await chromium.launchPersistentContext(mkdtempSync(join(tmpdir(), 'chromium-')), {
    executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
    args: flags,
    viewport: { width: 1280, height: 800 },
  });
  page = await browser.newPage();
  page.setDefaultTimeout(10_000);
  page.on('console', (message) => {
    // The first question is whether somebody is signed in: its 401 is an answer.
    if (message.type() === 'error' && !message.text().includes('401')) complaints.push(message.text());
  });
  page.on('pageerror', (error) => complaints.push(error.message));
});
afterAll(async () => {
  await browser?.close();
  await world.close();
});

const side = (name: 'left' | 'right') => page.getByRole('region', { name: `${name} identity` });
const count = (name: 'left' | 'right') => page.getByTestId(`count-${name}`);
const labels = (name: 'left' | 'right') => side(name).getByRole('rowheader').allInnerTexts();

describe('the console', () => {
  test('lets nobody in without the right password', async () => {
    await page.goto(world.service.url);
    await page.getByLabel('E-mail address').fill(STAFF.email);
    await page.getByLabel('Password').fill('wrong');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText('Address or password is wrong').waitFor();
    await page.getByLabel('Password').fill(STAFF.password);
    await page.keyboard.press('Enter');
    await page.getByRole('heading', { name: 'hives' }).waitFor();
  });

  test('shows a collection through two identities, with the count of each', async () => {
    await count('left').getByText('4 of 400').waitFor();
    await count('right').getByText('3 of 400').waitFor();
    expect((await labels('left')).map((text) => text.replace(/[^A-Z0-9-]/g, ''))).toEqual([
      'OAK-001',
      'OAK-002',
      'OAK-003',
      'OAK-004',
    ]);
    expect(
      await side('left').getByText('only here:').count(),
      'each of Ada’s hives is unreadable for Ben',
    ).toBe(4);
  });

  test('tells withheld from missing', async () => {
    await side('right').getByRole('combobox', { name: 'Seen by' }).selectOption('ivo');
    await page.getByLabel('Only where').fill('code = "OAK-103" or code = "OAK-003"');
    await page.getByRole('button', { name: 'Apply' }).click();
    await count('right').getByText('2 of 400').waitFor();
    await count('left').getByText('1 of 400').waitFor();
    const row = (name: 'left' | 'right', code: string) => side(name).getByRole('row', { name: code });
    expect(await row('left', 'OAK-003').getByText('no value').count()).toBe(2);
    expect(await row('left', 'OAK-003').getByText('withheld').count()).toBe(0);
    expect(await row('right', 'OAK-003').getByText('withheld').count()).toBe(2);
    expect(page.url(), 'what is chosen stands in the address').toContain('right=ivo');
    await page.reload();
    await count('right').getByText('2 of 400').waitFor();
    await page.getByRole('button', { name: 'Clear' }).click();
    await count('left').getByText('4 of 400').waitFor();
  });

  test('names the roles that are held by a condition, too', async () => {
    await side('right').getByRole('combobox', { name: 'Seen by' }).selectOption('olga');
    await side('right').getByText('office', { exact: true }).waitFor();
  });

  test('says why a list is empty, and where a filter is wrong', async () => {
    await side('right').getByRole('combobox', { name: 'Seen by' }).selectOption('nona');
    await side('right').getByText('none speaks of a person without roles').waitFor();
    await side('right').getByRole('combobox', { name: 'Seen by' }).selectOption('gus');
    await side('right').getByText('every request of theirs is answered with 401').waitFor();
    await page.getByLabel('Only where').fill('quen_year = 1');
    await page.getByRole('button', { name: 'Apply' }).click();
    await side('left').getByText('did you mean “queen_year”?').waitFor();
    await page.getByRole('button', { name: 'Clear' }).click();
  });

  test('shows thousands of records page by page', async () => {
    await page.getByRole('link', { name: 'inspections' }).click();
    await side('left').getByRole('combobox', { name: 'Seen by' }).selectOption('stella');
    await side('left')
      .getByRole('button', { name: /Show more \(50 of \d+ shown\)/ })
      .click();
    await side('left')
      .getByRole('button', { name: /Show more \(100 of/ })
      .waitFor();
    expect(await labels('left')).toHaveLength(100);
  });

  test('is up to date the moment a rulebook is published', async () => {
    await page.getByRole('link', { name: 'hives' }).click();
    await side('left').getByRole('combobox', { name: 'Seen by' }).selectOption('ada');
    await count('left').getByText('4 of 400').waitFor();
    const files = demoRulebook.map(({ name, text }) => ({
      name,
      text: text.replace(
        'keeper may read (all), create (code, apiary',
        'keeper may read (code), create (code, apiary',
      ),
    }));
    await world.desk.publish({ files });
    await page.reload();
    await page.getByText('Rulebook version 2').waitFor();
    await side('left').getByText('withheld').first().waitFor();
  });

  test('works under its content security policy without a complaint', async () => {
    const response = await page.request.get(`${world.service.url}/console/`);
    const policy = response.headers()['content-security-policy']!;
    expect(policy).not.toMatch(/unsafe|\*/);
    expect(policy).toMatch(/script-src 'self' 'nonce-/);
    const again = await page.request.get(`${world.service.url}/console/`);
    expect((await page.request.get(`${world.service.url}/console/assets/absent.js`)).status()).toBe(404);
    expect(again.headers()['content-security-policy'], 'a nonce is used once').not.toBe(policy);
    expect(complaints.filter((text) => !text.includes('400'))).toEqual([]);
  });

  test('signs out', async () => {
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByLabel('Password').waitFor();
    await page.goto(`${world.service.url}/console/look/hives`);
    await page.getByLabel('Password').waitFor();
  });
});
