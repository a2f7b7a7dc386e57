import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { expectAccessible } from '../support/console.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

/** The console in Chromium, against a service of its own. */
const STAFF = { email: 'manager@hollowoak.example', password: 'a long enough password' };
let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  world = await openDemo({ consoleFolder: 'dist/console' });
  await setStaff(world.database, STAFF.email, STAFF.password, 'manager', atTheMachine('test'));
  browser = await openBrowser();
  page = await browser.newPage();
  page.setDefaultTimeout(120_000);
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
    await page.getByRole('heading', { name: 'Start' }).waitFor();
    await page.goto(`${world.service.url}/console/look/hives`);
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

  test('what is chosen the moment that a link is followed is chosen of where it leads', async () => {
    // Before the browser does anything else.
    await page.evaluate(`(async () => {
      document.querySelector('a[href^="/console/look/hives"]').click();
      for (let turn = 0; turn < 10; turn++) await Promise.resolve();
      const choice = document.querySelector('#identity-left');
      choice.value = 'ada';
      choice.dispatchEvent(new Event('change', { bubbles: true }));
    })()`);
    await page.getByRole('heading', { name: 'hives' }).waitFor();
    await count('left').getByText('4 of 400').waitFor();
    const { pathname, searchParams } = new URL(page.url());
    expect([pathname, searchParams.get('left')]).toEqual(['/console/look/hives', 'ada']);
  });

  test('marks what may be changed and deleted, and says why of any cell', async () => {
    const row = (code: string) => side('left').getByRole('row', { name: code });
    await row('OAK-001').getByText('(may be deleted)').waitFor();
    expect(await row('OAK-001').getByText('(may be changed)').count()).toBe(5);
    expect(await row('OAK-003').getByText('(may be', { exact: false }).count(), 'a retired one').toBe(0);
    await row('OAK-003').getByRole('button').nth(6).click();
    const why = page.getByRole('dialog');
    await why.getByText('ada may read hives "OAK-003" (notes)').waitFor();
    await why.getByRole('button', { name: 'Change' }).click();
    await why.getByText('fence hives/fence-1').waitFor();
    await why.getByText('old.status is "retired"').first().waitFor();
    await why.getByText('if ada held the role steward').waitFor();
    await page.keyboard.press('Escape');
    await why.waitFor({ state: 'hidden' });
  });

  test('runs trials, and shows the why of one that fails', async () => {
    await page.getByRole('link', { name: 'Proof' }).click();
    await page.getByRole('button', { name: 'Run trials' }).click();
    await page.getByText('165 expectations met, 0 not').waitFor();
    await world.database.raw(
      `update records.hives set notes = null, visibility = 'open' where code = 'OAK-002'`,
    );
    await page.getByRole('button', { name: 'Run trials' }).click();
    const failing = page.getByRole('region', { name: 'A visit opens a hive while it lasts' });
    await failing.getByText('it is readable', { exact: true }).first().waitFor();
    await failing.getByText('rule hives/3').first().waitFor();
    await world.database.raw(
      `update records.hives set visibility = 'private', notes = 'Requeened in June' where code = 'OAK-002'`,
    );
  });

  test('is up to date the moment a rulebook is published', async () => {
    await page.goto(`${world.service.url}/console/look/hives`);
    await side('left').getByRole('combobox', { name: 'Seen by' }).selectOption('ada');
    await count('left').getByText('4 of 400').waitFor();
    const files = demoRulebook.map(({ name, text }) => ({
      name,
      text: text.replace(
        'keeper may read (all), create (code, apiary',
        'keeper may read (code), create (code, apiary',
      ),
    }));
    // And one of which nobody knows what it comes to.
    const open = 'inspector may update (notes) when lower(new.notes) = "yes" and length(new.notes) = 3';
    files.push({ name: 'open.gate', text: `rules hives { ${open} }` });
    await world.desk.publish({ files, despite: 'its trials speak of what it was' });
    await page.reload();
    await page.getByText('Rulebook version 2').waitFor();
    await side('left').getByText('withheld').first().waitFor();
  });

  test('shows people with their roles and ends, and saves a change only unlocked, after what it gains and loses', async () => {
    await page.getByRole('link', { name: 'People', exact: true }).click();
    await page.getByText('29 of 29').waitFor();
    await page.getByLabel('Name or address').fill('alma.1@');
    await page.getByText('1 of 1').waitFor();
    await page.getByRole('link', { name: 'Alma' }).click();
    await page.getByRole('table', { name: 'What they can do' }).getByText('16 of 400').first().waitFor();
    const give = async () => {
      await page.getByRole('button', { name: 'Give a role' }).click();
      await page.getByRole('combobox', { name: 'Role' }).selectOption('inspector');
      await page.getByLabel('Until').fill('2099-03-01');
      const changes = page.getByRole('table', { name: 'What is gained and lost' });
      await changes.getByText('▲').first().waitFor();
      expect(await changes.getByRole('row', { name: 'hives read' }).innerText()).toMatch(/16 → 2\d\d/);
      await page
        .getByRole('dialog')
        .getByText(/Not decided: update hives \(notes\): \d+ records/)
        .waitFor();
    };
    await give();
    expect(await page.getByRole('button', { name: 'Save' }).isDisabled(), 'not before an unlock').toBe(true);
    await page.getByRole('button', { name: 'Cancel' }).click();
    expect(await page.getByRole('button', { name: 'Deactivate' }).isDisabled()).toBe(true);
    await page.getByRole('button', { name: 'Unlock' }).click();
    await page.getByLabel('Reason').fill('short');
    await page.getByRole('dialog').getByRole('button', { name: 'Unlock' }).click();
    await page.getByText('8 characters or more').waitFor();
    await page.getByLabel('Reason').fill('Alma helps with inspections');
    await page.keyboard.press('Enter');
    await page.getByRole('status', { name: 'Unlocked' }).getByText('Alma helps with inspections').waitFor();
    await give();
    await page.getByRole('button', { name: 'Save' }).click();
    const roles = page.getByRole('table', { name: 'Roles given by hand' });
    await roles.getByText('✓ now until 2099-03-01').waitFor();
    await page.getByText(/Not decided: update hives \(notes\): \d+ records/).waitFor();
    await roles.getByText(STAFF.email).waitFor();
    await page.getByRole('button', { name: 'Deactivate' }).click();
    await page.getByText('every token of theirs is refused').waitFor();
    await page.getByText('Nothing: no rule is true for them').waitFor();
    await page.getByRole('button', { name: 'Let in again' }).click();
    await page.goto(`${world.service.url}/console/look/hives?left=ada`);
    await side('left').getByRole('combobox', { name: 'Seen by' }).selectOption('without an identity');
    await count('left').getByText('400 of 400').waitFor();
    await page.getByRole('button', { name: 'Lock', exact: true }).click();
    await page.reload();
    await side('left').getByText('What is in force can only be changed after an unlock').waitFor();
    await side('left').getByRole('combobox', { name: 'Seen by' }).selectOption('ada');
    await page.getByRole('button', { name: 'Unlock' }).waitFor();
  });

  test('shows the audit trail, filtered, and verifies it', async () => {
    await page.getByRole('link', { name: 'Trail' }).click();
    const table = page.getByRole('table', { name: 'Entries, newest first' });
    await page.getByLabel('Did').fill('role');
    await page.getByLabel('Who').fill(STAFF.email);
    await expect.poll(() => table.getByRole('row').count()).toBe(2);
    const entry = await table.getByRole('row').nth(1).innerText();
    expect(entry).toMatch(
      /role\.give.*alma\.1@hollowoak\.example.*inspector.*until 2099-03-01.*Alma helps with inspections/s,
    );
    await page.getByRole('button', { name: 'Verify' }).click();
    await page.getByText('each bound to the one before').last().waitFor();
  });

  test('lets a new colleague join with a link, once', async () => {
    const { link } = await world.desk.inviteStaff('reader@hollowoak.example', 'viewer');
    const other = await browser.newPage();
    await other.goto(world.service.url + link);
    await other.getByLabel('New password').fill('short');
    await other.getByRole('button', { name: 'Join' }).click();
    await other.getByText('at least 12 characters').waitFor();
    await other.getByLabel('New password').fill('a long enough password');
    await other.getByRole('button', { name: 'Join' }).click();
    await other.getByText('reader@hollowoak.example · viewer').waitFor();
    expect(await other.getByRole('button', { name: 'Unlock' }).count(), 'a viewer changes nothing').toBe(0);
    expect(other.url(), 'the secret is gone from the address').not.toContain('#');
    await other.goto(world.service.url + link);
    await other.getByLabel('New password').fill('a long enough password');
    await other.getByRole('button', { name: 'Join' }).click();
    await other.getByText('The link is not good').waitFor();
    await other.close();
    // The two pages share their cookies: the first one signs in anew.
    await page.reload();
    await page.getByRole('button', { name: 'reader@hollowoak.example · viewer' }).click();
    await page.getByRole('menuitem', { name: 'Sign out' }).click();
    await page.getByLabel('E-mail address').fill(STAFF.email);
    await page.getByLabel('Password').fill(STAFF.password);
    await page.keyboard.press('Enter');
    await page.getByText(`${STAFF.email} · manager`).waitFor();
  });

  test('tells what the service answers and what front ends ask, without leaving the house', async () => {
    const refused: string[] = [];
    page.on('request', (request) => {
      if (!request.url().startsWith(world.service.url)) refused.push(request.url());
    });
    await page.getByRole('link', { name: 'House' }).click();
    await page.getByRole('link', { name: 'Everything that the service answers' }).click();
    const status = page.getByRole('main').getByRole('status');
    await expect.poll(() => status.innerText()).toMatch(/^1\d\d operations, \d\d shapes$/);
    await page.getByLabel('Find').fill('rights put');
    await expect.poll(() => status.innerText()).toMatch(/^Nothing goes by these words/);
    await page.getByLabel('Find').fill('post desk/preview');
    await expect.poll(() => status.innerText()).toBe('1 operation, 0 shapes');
    await page.getByText('/v1/desk/preview', { exact: true }).click();
    const answers = page.getByRole('table', { name: 'Answers' });
    expect(await answers.innerText()).toMatch(/200\s+Preview[^]*401\s+Problem\s+not-signed-in/);
    expect(await page.getByText(/files\??: /).count()).toBeGreaterThan(0);
    await page.getByRole('link', { name: 'Collections in force' }).click();
    await page.getByLabel('Find').fill('hives');
    await page.getByText('Those of hives that the caller may read').click();
    const parameters = page.getByRole('table', { name: 'Parameters' });
    expect(await parameters.innerText()).toMatch(/where\s+query\s+string\s+A condition of the rule language/);
    expect(await parameters.innerText()).toMatch(
      /limit\s+query\s+integer\s+1 to 200; 50 where it is left out/,
    );
    expect(await page.getByText(/queen_year\??: integer/).count()).toBeGreaterThan(0);
    await expectAccessible(page, 'interfaces');
    expect(refused, 'nothing is fetched from anywhere else').toEqual([]);
    // Each page can be gone to by name.
    await page.keyboard.press('Control+k');
    await page.keyboard.type('interf');
    await page.getByRole('option', { name: /Interfaces/ }).waitFor();
    await page.keyboard.press('Escape');
  });

  test('works under its content security policy without a complaint', async () => {
    const response = await page.request.get(`${world.service.url}/console/`);
    const policy = response.headers()['content-security-policy']!;
    expect(policy).not.toMatch(/unsafe|\*/);
    expect(policy).toMatch(/script-src 'self' 'nonce-/);
    const again = await page.request.get(`${world.service.url}/console/`);
    expect((await page.request.get(`${world.service.url}/console/assets/absent.js`)).status()).toBe(404);
    expect(again.headers()['content-security-policy'], 'a nonce is used once').not.toBe(policy);
    expect(complaints.filter((text) => !/40[03]/.test(text))).toEqual([]);
  });

  test('signs out', async () => {
    await page.getByRole('button', { name: `${STAFF.email} · manager` }).click();
    await page.getByRole('menuitem', { name: 'Sign out' }).click();
    await page.getByLabel('Password').waitFor();
    await page.goto(`${world.service.url}/console/look/hives`);
    await page.getByLabel('Password').waitFor();
  });
});
