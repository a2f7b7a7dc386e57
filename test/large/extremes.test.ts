import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { openPage, signIn } from '../support/console.ts';
import { openWorld, type World } from '../support/world.ts';

/** Sixty fields, names of 300 characters, text from right to left, 100,000 records, thousands of lines of rules. */
const fields = Array.from({ length: 60 }, (_, n) => `field_${n} ${n % 3 === 0 ? 'integer' : 'text'}`).join(
  '\n  ',
);
const others = Array.from(
  { length: 400 },
  (_, n) =>
    `collection c_${n} {\n  name text label\n  owner ref people\n  owned by owner\n}\nrules c_${n} {\n  keeper may read (all), create (name) when mine stamp owner = me\n  keeper may update (name), delete\n    when mine\n}\n`,
).join('\n');
const rulebook = `
collection wide "${'A very long title '.repeat(16).trim()}" {
  code text required label
  keeper ref people
  ${fields}
  owned by keeper
}
role keeper
rules wide { keeper may read (all but field_1), update (field_2) when mine  everybody may read (code, field_0) }
test identity ada { name "Ada" email "ada@hollowoak.example" roles keeper }
test identity ben { name "Ben" email "ben@hollowoak.example" roles keeper }
${others}`;
const STAFF = { email: 'author@hollowoak.example', password: 'a long enough password' };
const RTL = 'خلية النحل رقم واحد';
const RECORDS = 100_000;
let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];

beforeAll(async () => {
  world = await openWorld(rulebook, { consoleFolder: 'dist/console' });
  await world.database.raw(
    `insert into records.wide (id, code, keeper, field_0, field_1, field_2, created_at, updated_at)
     select gen_random_uuid(), case n when 1 then ? when 2 then repeat('Long name ', 30) else 'W-' || lpad(n::text, 6, '0') end,
       (select id from records.people where _identity = 'ada'), n, 'x', 'y', now(), now() from generate_series(1, ${RECORDS}) as n`,
    [RTL],
  );
  await setStaff(world.database, STAFF.email, STAFF.password, 'author', atTheMachine('test'));
  browser = await openBrowser();
  page = await openPage(browser, complaints);
  await signIn(page, world, STAFF.email, STAFF.password);
});
afterAll(async () => {
  await browser?.close();
  await world.close();
});

test('a table of 100,000 records and 60 fields is paged through with the key without a blank, and jumps nowhere', async () => {
  await page.goto(`${world.service.url}/console/bench/wide#with=ada,ben,visitor`);
  const grid = page.getByRole('grid');
  await grid.waitFor();
  await page.getByText(`${RECORDS} records`).waitFor();
  await grid.focus();
  const seen: { rows: number; first: number }[] = [];
  const until = Date.now() + 10_000;
  // A slow machine turns fewer pages in the time: it goes on until there are some.
  while (Date.now() < until || seen.length < 25) {
    await page.keyboard.press('PageDown');
    seen.push(
      await grid.evaluate((frame) => {
        const box = frame.getBoundingClientRect();
        const rows = [...frame.querySelectorAll('[data-record]')].filter((row) => {
          const own = row.getBoundingClientRect();
          return own.bottom > box.top + 40 && own.top < box.bottom - 10;
        });
        return { rows: rows.length, first: Number(rows[0]?.getAttribute('aria-rowindex') ?? 0) };
      }),
    );
  }
  console.log(`${seen.length} pages in ten seconds or more, down to record ${seen.at(-1)!.first}`);
  expect(Math.min(...seen.map(({ rows }) => rows)), 'no blank').toBeGreaterThan(12);
  for (const [at, { first }] of seen.entries())
    if (at > 0) expect(first).toBeGreaterThanOrEqual(seen[at - 1]!.first);
  await page.keyboard.press('Control+Home');
  await page.keyboard.press('End');
  const active = async () =>
    page.locator(`#${await grid.getAttribute('aria-activedescendant')}`).getAttribute('aria-label');
  await expect.poll(active).toMatch(/^field_59 /);
  expect(await grid.locator('[role=columnheader]').count(), 'only those in sight are drawn').toBeLessThan(40);
});

test('names of 300 characters and text from right to left are shown whole to whoever points at them, and widen nothing', async () => {
  await page.goto(`${world.service.url}/console/bench/wide#with=ada,ben&where=field_0+%3C%3D+2`);
  const rows = page.getByRole('grid').getByRole('rowheader');
  await expect.poll(() => rows.count()).toBe(2);
  const titles = await rows
    .locator('bdi')
    .evaluateAll((all) => all.map((each) => each.getAttribute('title')));
  expect(new Set(titles)).toEqual(new Set(['Long name '.repeat(30), RTL]));
  expect(await page.locator('html').evaluate((root) => root.scrollWidth)).toBeLessThanOrEqual(1280);
  expect(
    await page.getByRole('heading', { level: 1 }).evaluate((heading) => heading.clientHeight),
  ).toBeLessThan(40);
});

test('4,400 lines of rules are written in without waiting', async () => {
  await page.goto(`${world.service.url}/console/bench/c_200#with=ada`);
  await page.getByRole('button', { name: 'The whole text' }).click();
  const editor = page.getByRole('textbox', { name: 'Text of test.gate' });
  await editor.waitFor();
  await editor.click();
  await page.keyboard.press('Control+End');
  const began = Date.now();
  await page.keyboard.type('// one more line\n// and another\n');
  const typed = Date.now() - began;
  console.log(`a key in 4,400 lines takes ${Math.round(typed / 34)} ms`);
  await page.getByText('1 change on version').waitFor();
  await page.reload();
  await page.getByText('1 change on version').waitFor();
  expect(complaints).toEqual([]);
});

test('a megabyte that is pasted is told to be wrong, and taken back with one key; what stood there stands there', async () => {
  await page.goto(`${world.service.url}/console/bench/c_200#with=ada`);
  await page.getByRole('button', { name: 'The whole text' }).click();
  const editor = page.getByRole('textbox', { name: 'Text of test.gate' });
  await editor.click();
  await page.keyboard.press('Control+Home');
  const first = async () => (await editor.innerText()).slice(0, 60);
  const before = await first();
  const began = Date.now();
  await page.evaluate(`(() => {
    const clipboardData = new DataTransfer();
    clipboardData.setData('text/plain', 'what is pasted here is no sentence of any kind, line after line\\n'.repeat(16000));
    document.querySelector('.cm-content').dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
  })()`);
  const errors = () => page.getByRole('status', { name: 'Errors' }).innerText();
  await expect.poll(errors, { timeout: 120_000 }).toMatch(/^Line \d+: /);
  console.log(`a megabyte is pasted, and told to be wrong, after ${Date.now() - began} ms`);
  await editor.click();
  await page.keyboard.press('Control+z');
  await expect.poll(first, { timeout: 120_000 }).toBe(before);
  await expect.poll(errors, { timeout: 120_000 }).toBe('');
  expect(complaints).toEqual([]);
});
