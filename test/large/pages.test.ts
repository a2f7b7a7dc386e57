import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { expectAccessible, openPage, signIn } from '../support/console.ts';
import { openDemo, openWorld, type World } from '../support/world.ts';

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

/** The pages, and what each says on a gate where nothing has been made. */
const pages: readonly [path: string, empty: RegExp][] = [
  ['start', /Make a collection/],
  ['bench/hives', /There is no collection hives.*None has been made yet/],
  ['changes', /Nothing was published yet/],
  ['collections', /Closed: no sentence speaks of it/],
  ['look/hives', /No rulebook is published yet.*To the collections/],
  ['people', /Nobody fits.*Nobody was invited yet/],
  ['trials', /Nothing is published yet, so there is nothing to run/],
  ['sweep', /Nothing is published yet, so there is nothing to run/],
  ['guards', /Nothing is published yet, so there is nothing to run/],
  ['audit', /staff.sign-in/],
  ['house', /No program asks with a key|None. A program asks with a key of its own/],
];
const said = async () => (await page.locator('main').innerText()).replaceAll(/\s+/g, ' ');

test(
  'each page says what to do where there is nothing, what one may not, and that the service is away',
  { timeout: 240_000 },
  async () => {
    const empty = await openWorld([], { consoleFolder: 'dist/console' });
    try {
      for (const each of [empty, world])
        await setStaff(
          each.database,
          'viewer@hollowoak.example',
          STAFF.password,
          'viewer',
          atTheMachine('test'),
        );
      await setStaff(empty.database, STAFF.email, STAFF.password, 'manager', atTheMachine('test'));
      await browser.clearCookies();
      await signIn(page, empty, STAFF.email, STAFF.password);
      for (const [path, words] of pages) {
        await page.goto(`${empty.service.url}/console/${path}`);
        await expect.poll(said, { message: path }).toMatch(words);
      }
      // Somebody who may only look is told so, and offered nothing that would be refused.
      await browser.clearCookies();
      await signIn(page, world, 'viewer@hollowoak.example', STAFF.password);
      for (const [path, words, offered] of [
        ['trials', /takes the level of an author/, 'Run trials'],
        ['sweep', /takes the level of an author/, 'Run the sweep'],
        ['guards', /takes the level of an author/, 'Plant faults'],
        ['people', /Inviting takes the level of a publisher/, 'Invite people'],
        ['house', /Staff, keys and settings are for managers/, 'Make the key'],
      ] as const) {
        await page.goto(`${world.service.url}/console/${path}`);
        await expect.poll(said, { message: path }).toMatch(words);
        const button = page.getByRole('button', { name: offered });
        expect((await button.count()) === 0 || (await button.isDisabled()), offered).toBe(true);
      }
      await browser.clearCookies();
      await signIn(page, world, STAFF.email, STAFF.password);
      const go = async (path: string) => {
        await page.goto(`${world.service.url}/console/audit`);
        await page.getByRole('table').waitFor();
        return async () =>
          page.evaluate(
            `history.pushState(null, '', '/console/${path}'); dispatchEvent(new PopStateEvent('popstate'))`,
          );
      };
      const complained = complaints.length;
      for (const [path] of pages) {
        if (path === 'audit') continue;
        const there = await go(path);
        await page.route('**/v1/**', (route) => route.abort());
        await there();
        const runs = { trials: 'Run trials', sweep: 'Run the sweep', guards: 'Plant faults' }[path];
        if (runs !== undefined) await page.getByRole('button', { name: runs }).click();
        await expect.poll(said, { message: path }).toMatch(/The service does not answer/);
        await page.unroute('**/v1/**');
        await page.getByRole('button', { name: 'Try again' }).first().click();
        if (runs === undefined)
          await expect.poll(said, { message: path }).not.toMatch(/^.{0,40}The service does not answer/);
      }
      // A page of a console that was renewed since this one was opened is not there any more.
      const there = await go('look/hives');
      await page.reload();
      await page.getByRole('table').waitFor();
      await page.route('**/console/assets/Look*', (route) => route.fulfill({ status: 404, body: '' }));
      await there();
      await page.getByText('The console has been renewed').waitFor();
      await page.unroute('**/console/assets/Look*');
      await page.getByRole('button', { name: 'Reload' }).click();
      await page.getByRole('heading', { name: 'hives', level: 1 }).waitFor();
      // What was refused and aborted on purpose stands in the browser's own log.
      complaints.splice(complained);
    } finally {
      await empty.close();
    }
  },
);

test('nothing went wrong in the browser meanwhile', () => {
  expect(complaints).toEqual([]);
});
