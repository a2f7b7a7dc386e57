import { mkdtempSync, readdirSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { BrowserContext, Locator, Page } from 'playwright-core';
import { expect } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { expectAccessible, openPage, signIn } from './console.ts';
import { openWorld } from './world.ts';

const STAFF = { email: 'founder@hollowoak.example', password: 'a long enough password' };

/** How somebody works: everything that is done goes through these. */
export interface Hands {
  readonly press: (what: Locator) => Promise<void>;
  readonly write: (where: Locator, text: string) => Promise<void>;
  readonly choose: (where: Locator, option: string) => Promise<void>;
  /** Asks about the cell of a record: so many columns from its head. */
  readonly ask: (record: string, columns: number) => Promise<void>;
  /** Are the pages looked at on the way, too? Once is enough. */
  readonly looks: boolean;
}

export function mouse(page: Page): Hands {
  return {
    looks: true,
    press: (what) => what.click(),
    write: (where, text) => where.fill(text),
    choose: async (where, option) => void (await where.selectOption({ label: option })),
    ask: (record, columns) =>
      page
        .getByRole('row', { name: new RegExp(record) })
        .getByRole('gridcell')
        .nth(columns - 1)
        .click(),
  };
}

/** Tab to get there, and keys from then on; what Tab does not reach, nobody without a mouse does. */
export function keyboard(page: Page): Hands {
  const go = async (to: Locator) => {
    await to.first().waitFor();
    for (let steps = 0; steps < 200; steps++) {
      if (await to.first().evaluate((element) => element === element.ownerDocument.activeElement)) return;
      await page.keyboard.press('Tab');
    }
    throw new Error(`no Tab leads to ${to.toString()}`);
  };
  return {
    looks: false,
    async press(what) {
      await go(what);
      await page.keyboard.press('Enter');
    },
    async write(where, text) {
      await go(where);
      await page.keyboard.press('Control+a');
      await page.keyboard.insertText(text);
    },
    async choose(where, option) {
      await go(where);
      const steps = await where.evaluate((select, label) => {
        const { options, selectedIndex } = select as unknown as {
          options: Iterable<{ label: string }>;
          selectedIndex: number;
        };
        return [...options].findIndex((each) => each.label === label) - selectedIndex;
      }, option);
      const key = steps > 0 ? 'ArrowDown' : 'ArrowUp';
      for (let step = 0; step < Math.abs(steps); step++) await page.keyboard.press(key);
    },
    async ask(record, columns) {
      const grid = page.getByRole('grid');
      await go(grid);
      await page.keyboard.press('Control+Home');
      for (let row = 0; row < 20; row++) {
        const active = page.locator(`#${await grid.getAttribute('aria-activedescendant')}`);
        if ((await active.getAttribute('aria-label'))?.startsWith(record) === true) break;
        await page.keyboard.press('ArrowDown');
      }
      for (let column = 0; column < columns; column++) await page.keyboard.press('ArrowRight');
      await page.keyboard.press('Enter');
    },
  };
}

/**
 * The whole work, from a service as it was installed to a rulebook that is proved and in force, and somebody invited: in the browser
 * alone.
 */
export async function fromNothing(browser: BrowserContext, handsOf: (page: Page) => Hands): Promise<void> {
  const outbox = mkdtempSync(join(tmpdir(), 'outbox-'));
  const post = { kind: 'outbox', folder: outbox, from: 'gate@hollowoak.example' } as const;
  const world = await openWorld([], { consoleFolder: 'dist/console', post });
  await setStaff(world.database, STAFF.email, STAFF.password, 'manager', atTheMachine('test'));
  const complaints: string[] = [];
  const page = await openPage(browser, complaints);
  try {
    await signIn(page, world, STAFF.email, STAFF.password);
    await work(page, handsOf(page));
    expect(readdirSync(outbox)).toHaveLength(1);
    const list = await world.ask('GET', '/v1/records/hives', { as: 'ada' });
    expect(list.json.records.map((each: { name: string }) => each.name)).toEqual(['OAK-001']);
    expect(complaints).toEqual([]);
  } finally {
    await page.close();
    await world.close();
  }
}

async function work(page: Page, { press, write, choose, ask, looks }: Hands): Promise<void> {
  const next = (title: string) => page.getByRole('region', { name: 'Next' }).getByText(title).waitFor();
  const start = async (title: string) => {
    await press(page.getByRole('link', { name: 'Start', exact: true }));
    await next(title);
  };
  const go = () => press(page.getByRole('region', { name: 'Next' }).getByRole('link'));
  const button = (name: string) => page.getByRole('button', { name, exact: true });

  await next('Make a collection');
  if (looks) await expectAccessible(page, 'start');
  await go();
  await press(button('+ Collection'));
  await write(page.getByRole('dialog').getByLabel('Name'), 'hives');
  await write(page.getByLabel('Title'), 'Hives kept by members');
  await press(button('+ Field'));
  const third = page.getByRole('group', { name: 'Field 3' });
  await write(third.getByRole('textbox', { name: 'Field', exact: true }), 'state');
  await choose(third.getByRole('combobox', { name: 'Type' }), 'one of …');
  await write(third.getByLabel('One of, with commas between'), 'private, open');
  await press(button('Put it into the draft'));
  await page.getByRole('heading', { name: 'Hives kept by members' }).waitFor();
  await write(page.getByRole('form', { name: 'New field' }).getByRole('textbox', { name: 'Field' }), 'notes');
  await write(page.getByRole('form', { name: 'New field' }).getByLabel('Shown as'), 'What to know');
  await press(button('Add the field'));
  await page.getByRole('table', { name: 'Fields of hives' }).getByText('notes').waitFor();
  await page.getByText('What to know ·').waitFor();
  if (looks) await expectAccessible(page, 'collections');

  await start('Add two test identities');
  await go();
  const role = page.getByRole('form', { name: 'New role' });
  await write(role.getByLabel('Role'), 'keeper');
  await write(role.getByLabel('What they do'), 'Keeps hives of their own');
  await press(role.getByRole('button', { name: 'Add' }));
  const identity = page.getByRole('form', { name: 'New test identity' });
  for (const name of ['ada', 'ben']) {
    await write(identity.getByRole('textbox', { name: 'Identity' }), name);
    await write(identity.getByLabel('Address'), `${name}@hollowoak.example`);
    await press(identity.getByRole('button', { name: 'keeper' }));
    await press(identity.getByRole('button', { name: 'Add' }));
    await page.getByRole('region', { name: 'Test identities' }).getByText(name, { exact: true }).waitFor();
  }

  await start('Write who may do what with hives');
  await go();
  await page.getByText('Closed: no sentence speaks of hives').waitFor();
  await press(button('+ Sentence'));
  await press(button('Form'));
  await page.getByText('A form shows one sentence that can be read').waitFor();
  await press(button('Done'));
  await press(button('+ Sentence'));
  const group = (name: string) => page.getByRole('group', { name, exact: true });
  await press(group('May').getByRole('button', { name: 'create' }));
  await choose(page.getByRole('combobox', { name: 'Fields of create' }), 'these');
  await press(group('create').getByRole('button', { name: 'state' }));
  await press(group('Fills in').getByRole('button', { name: '+ value' }));
  await choose(page.getByRole('combobox', { name: 'Field that is filled in' }), 'owner');
  await press(button('Text'));
  expect(await page.getByRole('textbox', { name: 'Sentence' }).innerText()).toBe(
    'keeper may read (all), create (name, state) when mine stamp owner = me',
  );
  await press(button('Done'));
  await page.getByText('the collection is new: it has no records before it is published').waitFor();

  await start('Look at what changes, and publish it');
  await go();
  await page.getByText('What it says, against nothing in force').waitFor();
  await press(button('Unlock'));
  await write(page.getByLabel('Reason'), 'the first rules are to be in force');
  await page.keyboard.press('Enter');
  await page.getByRole('status', { name: 'Unlocked' }).waitFor();
  await write(page.getByLabel('What changes, in a line'), 'hives of their own');
  await press(button('Publish'));
  await page.getByText('Version 1 is in force.').waitFor();

  await start('Keep a trial');
  await go();
  const aside = page.getByRole('complementary');
  for (const [who, name] of [
    ['ada', 'OAK-001'],
    ['ben', 'OAK-101'],
  ] as const) {
    await press(
      page
        .getByRole('region', { name: 'Seen by' })
        .getByRole('button', { name: new RegExp(`${who} keeper`) })
        .first(),
    );
    await press(button('Create…'));
    await write(aside.getByLabel('name', { exact: true }), name);
    await press(aside.locator('form').getByRole('button', { name: 'Try', exact: true }));
    await aside.getByText('201 It would be carried out').waitFor();
    await press(aside.getByRole('button', { name: 'Do it, to stay' }));
    await aside.getByText('201 Carried out, to stay').waitFor();
    await press(aside.getByRole('button', { name: 'Close' }));
    await page.getByRole('rowheader', { name: new RegExp(name) }).waitFor();
  }
  const row = page.getByRole('row', { name: /OAK-001/ });
  expect(await row.getByRole('rowheader').getAttribute('aria-label')).toMatch(
    /ada reads it; ben does not read it/,
  );
  await ask('OAK-001', 1);
  await press(aside.getByRole('button', { name: 'Try', exact: true }));
  await choose(aside.getByRole('combobox', { name: 'What is tried' }), 'delete it');
  await press(aside.locator('form').getByRole('button', { name: 'Try', exact: true }));
  await aside.getByText(/40[34] /).waitFor();
  await press(aside.getByRole('button', { name: 'Keep as a trial' }));
  await page.getByText('trials 1 of 1').waitFor();
  await press(page.getByRole('link', { name: 'Preview' }));
  await page.getByText('What was not looked at').waitFor();
  await press(button('Publish'));
  await page.getByText('Version 2 is in force.').waitFor();

  await start('Sweep what is in force');
  await go();
  await press(button('Run the sweep'));
  await page.getByText('The answers agree').waitFor({ timeout: 300_000 });

  await start('Invite people');
  await go();
  await press(button('Invite people'));
  await page.getByRole('region', { name: 'The letter' }).waitFor();
  await write(page.getByLabel('Addresses'), 'cleo@hollowoak.example\nnot an address\n');
  await press(page.getByRole('dialog').getByRole('button', { name: 'keeper' }));
  await press(button('Send the letters'));
  await page.getByText('1 letter sent.').waitFor();
  await page.getByText('Line 2: not an address').waitFor();
  if (looks) await expectAccessible(page, 'invitations');
  await press(button('Close'));
  await page.getByRole('table', { name: 'Invitations' }).getByText('cleo@hollowoak.example').waitFor();
  await start('Nothing is left that this page knows of');
}
