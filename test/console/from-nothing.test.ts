import { mkdtempSync, readdirSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { expectAccessible, openPage, signIn } from '../support/console.ts';
import { openWorld, type World } from '../support/world.ts';

/** The whole work, from a service as it was installed to a rulebook that is proved and in force, and somebody invited: in the browser alone. */
const STAFF = { email: 'founder@hollowoak.example', password: 'a long enough password' };
const outbox = mkdtempSync(join(tmpdir(), 'outbox-'));
let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  world = await openWorld([], {
    consoleFolder: 'dist/console',
    post: { kind: 'outbox', folder: outbox, from: 'gate@hollowoak.example' },
  });
  await setStaff(world.database, STAFF.email, STAFF.password, 'manager', atTheMachine('test'));
  browser = await openBrowser();
  page = await openPage(browser, complaints);
  await signIn(page, world, STAFF.email, STAFF.password);
});
afterAll(async () => {
  await browser?.close();
  await world.close();
});

const next = (title: string) => page.getByRole('region', { name: 'Next' }).getByText(title).waitFor();
const start = async (title: string) => {
  await page.getByRole('link', { name: 'Start', exact: true }).click();
  await next(title);
};
const go = () => page.getByRole('region', { name: 'Next' }).getByRole('link').click();

test('Start leads from nothing to a collection, people to look through, rules, a publication, a trial, a sweep, and an invitation', async () => {
  await next('Make a collection');
  await expectAccessible(page, 'start');
  await go();
  await page.getByRole('button', { name: '+ Collection' }).click();
  await page.getByLabel('Name').fill('hives');
  await page.getByLabel('Title').fill('Hives kept by members');
  await page.getByRole('button', { name: '+ Field' }).click();
  const third = page.getByRole('group', { name: 'Field 3' });
  await third.getByRole('textbox', { name: 'Field', exact: true }).fill('state');
  await third.getByRole('combobox', { name: 'Type' }).selectOption('one of');
  await third.getByLabel('One of, with commas between').fill('private, open');
  await page.getByRole('button', { name: 'Put it into the draft' }).click();
  await page.getByRole('heading', { name: 'Hives kept by members' }).waitFor();
  await page.getByRole('form', { name: 'New field' }).getByLabel('Field').fill('notes');
  await page.getByRole('button', { name: 'Add the field' }).click();
  await page.getByRole('table', { name: 'Fields of hives' }).getByText('notes').waitFor();
  await expectAccessible(page, 'collections');

  await start('Add two test identities');
  await go();
  const role = page.getByRole('form', { name: 'New role' });
  await role.getByLabel('Role').fill('keeper');
  await role.getByLabel('What they do').fill('Keeps hives of their own');
  await role.getByRole('button', { name: 'Add' }).click();
  const identity = page.getByRole('form', { name: 'New test identity' });
  for (const name of ['ada', 'ben']) {
    await identity.getByRole('textbox', { name: 'Identity' }).fill(name);
    await identity.getByLabel('Address').fill(`${name}@hollowoak.example`);
    await identity.getByRole('button', { name: 'keeper' }).click();
    await identity.getByRole('button', { name: 'Add' }).click();
    await page.getByRole('region', { name: 'Test identities' }).getByText(name, { exact: true }).waitFor();
  }

  await start('Write who may do what with hives');
  await go();
  await page.getByText('Closed: no sentence speaks of hives').waitFor();
  await page.getByRole('button', { name: '+ Sentence' }).click();
  await page.getByRole('button', { name: 'Form', exact: true }).click();
  await page.getByText('A form shows one sentence that can be read').waitFor();
  await page.getByRole('button', { name: 'Done' }).click();
  await page.getByRole('button', { name: '+ Sentence' }).click();
  const group = (name: string) => page.getByRole('group', { name, exact: true });
  await group('May').getByRole('button', { name: 'create' }).click();
  await page.getByRole('combobox', { name: 'Fields of create' }).selectOption('these');
  await group('create').getByRole('button', { name: 'state' }).click();
  await group('Fills in').getByRole('button', { name: '+ value' }).click();
  await page.getByRole('combobox', { name: 'Field that is filled in' }).selectOption('owner');
  await page.getByRole('button', { name: 'Text', exact: true }).click();
  expect(await page.getByRole('textbox', { name: 'Sentence' }).innerText()).toBe(
    'keeper may read (all), create (name, state) when mine stamp owner = me',
  );
  await page.getByRole('button', { name: 'Done' }).click();
  await page.getByText('the collection is new: it has no records before it is published').waitFor();

  await start('Look at what changes, and publish it');
  await go();
  await page.getByText('What it says, against nothing in force').waitFor();
  await page.getByRole('button', { name: 'Unlock' }).click();
  await page.getByLabel('Reason').fill('the first rules are to be in force');
  await page.keyboard.press('Enter');
  await page.getByRole('status', { name: 'Unlocked' }).waitFor();
  await page.getByLabel('What changes, in a line').fill('hives of their own');
  await page.getByRole('button', { name: 'Publish', exact: true }).click();
  await page.getByText('Version 1 is in force.').waitFor();

  await start('Keep a trial');
  await go();
  const aside = page.getByRole('complementary');
  for (const [who, name] of [
    ['ada', 'OAK-001'],
    ['ben', 'OAK-101'],
  ] as const) {
    await page
      .getByRole('region', { name: 'Seen by' })
      .getByRole('button', { name: new RegExp(who) })
      .first()
      .click();
    await page.getByRole('button', { name: 'Create…' }).click();
    await aside.getByLabel('name', { exact: true }).fill(name);
    await aside.locator('form').getByRole('button', { name: 'Try', exact: true }).click();
    await aside.getByText('201 It would be carried out').waitFor();
    await aside.getByRole('button', { name: 'Do it, to stay' }).click();
    await aside.getByText('201 Carried out, to stay').waitFor();
    await aside.getByRole('button', { name: 'Close' }).click();
    await page.getByRole('rowheader', { name: new RegExp(name) }).waitFor();
  }
  const row = page.getByRole('row', { name: /OAK-001/ });
  expect(await row.getByRole('rowheader').getAttribute('aria-label')).toMatch(
    /ada reads it; ben does not read it/,
  );
  await row.getByRole('gridcell').first().click();
  await aside.getByRole('button', { name: 'Try', exact: true }).click();
  await aside.getByRole('combobox', { name: 'What is tried' }).selectOption('delete');
  await aside.locator('form').getByRole('button', { name: 'Try', exact: true }).click();
  await aside.getByText(/40[34] /).waitFor();
  await aside.getByRole('button', { name: 'Keep as a trial' }).click();
  await page.getByText('trials 1 of 1').waitFor();
  await page.getByRole('link', { name: 'Preview' }).click();
  await page.getByText('What was not looked at').waitFor();
  await page.getByRole('button', { name: 'Publish', exact: true }).click();
  await page.getByText('Version 2 is in force.').waitFor();

  await start('Sweep what is in force');
  await go();
  await page.getByRole('button', { name: 'Run the sweep' }).click();
  await page.getByText('The answers agree').waitFor({ timeout: 120_000 });

  await start('Invite people');
  await go();
  await page.getByRole('button', { name: 'Invite people' }).click();
  await page.getByRole('region', { name: 'The letter' }).waitFor();
  await page.getByLabel('Addresses').fill('cleo@hollowoak.example\nnot an address\n');
  await page.getByRole('dialog').getByRole('button', { name: 'keeper' }).click();
  await page.getByRole('button', { name: 'Send the letters' }).click();
  await page.getByText('1 letter sent.').waitFor();
  await page.getByText('Line 2: not an address').waitFor();
  await expectAccessible(page, 'invitations');
  await page.getByRole('button', { name: 'Close' }).click();
  await page.getByRole('table', { name: 'Invitations' }).getByText('cleo@hollowoak.example').waitFor();
  expect(readdirSync(outbox)).toHaveLength(1);

  await start('Nothing is left that this page knows of');
  const list = await world.ask('GET', '/v1/records/hives', { as: 'ada' });
  expect(list.json.records.map((each: { name: string }) => each.name)).toEqual(['OAK-001']);
  expect(complaints).toEqual([]);
}, 240_000);
