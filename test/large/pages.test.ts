import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { expectAccessible, openPage, signIn } from '../support/console.ts';
import { openDemo, type World } from '../support/world.ts';

/** Every page of the console on the demo, and the sweep in the browser. */
const STAFF = { email: 'manager@hollowoak.example', password: 'a long enough password' };
let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  world = await openDemo({ consoleFolder: 'dist/console' });
  await setStaff(world.database, STAFF.email, STAFF.password, 'manager', atTheMachine('test'));
  browser = await openBrowser();
  page = await openPage(browser, complaints);
  await page.goto(`${world.service.url}/console/`);
  await page.getByLabel('Password').waitFor();
  await expectAccessible(page, 'signing in');
  await signIn(page, world, STAFF.email, STAFF.password);
});
afterAll(async () => {
  await browser?.close();
  await world.close();
});

test('every page has no violation that axe finds, light and dark', { timeout: 180_000 }, async () => {
  const paths = [
    'start',
    'bench/hives',
    'bench/lots',
    'changes',
    'collections',
    'look/hives',
    'people',
    'trials',
    'sweep',
    'guards',
    'audit',
    'house',
  ];
  for (const path of paths) {
    await page.goto(`${world.service.url}/console/${path}`);
    await page.getByRole('main').getByText(/./).first().waitFor();
    await page.waitForTimeout(400);
    await expectAccessible(page, path);
  }
});

test(
  'sweeps, findings first, and opens the rules behind a number of the map',
  { timeout: 330_000 },
  async () => {
    await page.goto(`${world.service.url}/console/sweep`);
    await page.getByRole('button', { name: 'Run the sweep' }).click();
    await page.getByRole('progressbar').waitFor();
    await page.getByText('The answers agree').waitFor({ timeout: 300_000 });
    await page.getByText('3 findings that the rulebook does not accept').waitFor();
    await page.getByRole('combobox', { name: 'Collection' }).selectOption('hives');
    await page.getByRole('button', { name: /^dora of ada: 4 read, 3 changed/ }).click();
    const rules = page.getByRole('complementary', { name: 'Rules behind the numbers' });
    await rules.getByText('through hives/6').first().waitFor();
  },
);

test('nothing went wrong in the browser meanwhile', () => {
  expect(complaints).toEqual([]);
});
