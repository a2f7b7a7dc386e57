import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { openBrowser } from '../support/chromium.ts';
import { expectAccessible, openPage, paintTimes, signIn } from '../support/console.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

/** Rules are written in the browser, and what they do is seen while they are. */
const STAFF = { email: 'publisher@hollowoak.example', password: 'a long enough password' };
const AT = '#with=ada,ivo,stella,tess,visitor&focus=ivo';
let world: World;
let browser: BrowserContext;
let page: Page;
const complaints: string[] = [];
let paints: number[];

beforeAll(async () => {
  world = await openDemo({ consoleFolder: 'dist/console' });
  await setStaff(world.database, STAFF.email, STAFF.password, 'publisher', atTheMachine('test'));
  browser = await openBrowser();
  paints = await paintTimes(browser);
  page = await openPage(browser, complaints);
  await signIn(page, world, STAFF.email, STAFF.password);
});
afterAll(async () => {
  await browser?.close();
  await world.close();
});

const grid = (of = page) => of.getByRole('grid');
const seenBy = (of = page) => of.getByRole('region', { name: 'Seen by' });
const card = (words: string, of = page) => of.getByRole('button', { name: `Write in: ${words}` });
const shownLabels = (of = page) => grid(of).getByRole('rowheader').locator('.fg-value').allInnerTexts();
const open = async (of = page, hash = AT) => {
  await of.goto(`${world.service.url}/console/bench/hives${hash}`);
  await grid(of).waitFor();
  await seenBy(of).getByText('of 400').first().waitFor();
};
/** Puts words at the end of a card’s text. */
const append = async (words: string, more: string, of = page) => {
  await card(words, of).click();
  await of.keyboard.press('Control+End');
  await of.keyboard.type(more);
};
/** Closes the open card by a click: the words that the editor offers meanwhile do not lie over the button. */
const done = (of = page) => of.getByRole('button', { name: 'Done' }).click();
const drop = async (of = page) => {
  await of.getByRole('button', { name: 'Drop', exact: true }).click();
  await of.getByText('These are the rules in force').waitFor();
};

describe('the table', () => {
  test('tells of each cell what each of them may, in one order, and shows it as the one in focus sees it', async () => {
    await open();
    const row = grid().getByRole('row', { name: /HIVE-0012/ });
    await page.getByRole('textbox', { name: 'Only where' }).fill('code starts with "HIVE-001"');
    await page.keyboard.press('Enter');
    await row.waitFor();
    const notes = row.getByRole('gridcell', { name: /^notes/ });
    expect(await notes.getAttribute('aria-label')).toBe(
      'notes withheld: ada does not see it; ivo does not see it; stella sees it; tess does not see it; visitor does not see it',
    );
    await seenBy()
      .getByRole('button', { name: /stella/ })
      .first()
      .click();
    await expect.poll(() => notes.getAttribute('aria-label')).toMatch(/^notes (?!withheld)/);
    expect(page.url(), 'it can be sent on').toMatch(/#with=ada%2Civo.*focus=stella.*where=/);
    await page.getByRole('button', { name: 'Clear' }).click();
  });

  test('is walked by keys, which also say through whom, and why', async () => {
    await open();
    await grid().focus();
    await page.keyboard.press('Control+Home');
    for (const key of ['ArrowDown', 'ArrowRight', 'ArrowRight']) await page.keyboard.press(key);
    const active = async () =>
      page.locator(`#${await grid().getAttribute('aria-activedescendant')}`).getAttribute('aria-label');
    expect(await active()).toMatch(
      /^apiary not seen: ada does not see it; ivo does not see it; stella sees it/,
    );
    await page.keyboard.press('3');
    const madeBy = page.locator('#made-by');
    await expect.poll(active).toMatch(/^apiary (?!not seen)/);
    await expect.poll(() => madeBy.textContent()).toMatch(/^stella may see it by steward may read/);
    const [made] = await page.locator('article[data-making]').all();
    const isInSight = async () => {
      const { y, height } = (await made!.boundingBox())!;
      return y >= 0 && y + height <= 800;
    };
    await expect.poll(isInSight, { message: 'the card is gone to' }).toBe(true);
    await page.keyboard.press('1');
    await expect
      .poll(() => madeBy.textContent())
      .toMatch(/^ada may not see or change it: no sentence opens it/);
    expect(await page.locator('article[data-making]').count()).toBe(0);
    await page.keyboard.press('3');
    await page.keyboard.press('Enter');
    const why = page.getByRole('complementary', { name: 'Why' });
    await why.getByText('stella may read hives').waitFor();
    await why.getByRole('button', { name: 'hives.gate:' }).first().click();
    await why.getByRole('button', { name: 'Close' }).click();
    await grid().focus();
    await page.keyboard.press('Control+End');
    await expect.poll(active, { message: 'by its title' }).toMatch(/^Reserve price/);
    await page.keyboard.press('Control+Home');
  });

  test('is filtered by rows of a form, and everything is gone to by name: records as those pinned see them', async () => {
    await open();
    await page.getByRole('button', { name: 'By rows' }).click();
    const rows = page.getByRole('dialog', { name: 'Only where, by rows' });
    await rows.getByRole('button', { name: '+ condition' }).click();
    await rows.getByLabel('What is looked at').fill('status');
    await rows.getByRole('combobox', { name: 'How it is compared' }).selectOption('=');
    await rows.getByLabel('What it is compared with').fill('"resting"');
    await rows.getByRole('button', { name: 'Apply' }).click();
    expect(await page.getByRole('textbox', { name: 'Only where' }).inputValue()).toBe('status = "resting"');
    await expect
      .poll(async () =>
        (
          await grid()
            .getByRole('gridcell', { name: /^status/ })
            .allInnerTexts()
        )
          .join()
          .replaceAll(/[\s,]/g, ''),
      )
      .toMatch(/^(resting)+$/);
    await open(page, '#with=ada');
    const place = page.getByRole('combobox', { name: 'Go to' });
    await page.keyboard.press('Control+k');
    await place.fill('oak-1');
    await page.getByText('Nothing is called so').waitFor();
    await place.fill('oak-00');
    await page.getByRole('option', { name: 'OAK-002' }).waitFor();
    await page.keyboard.press('ArrowDown');
    await page.keyboard.press('Enter');
    await expect.poll(() => grid().getByRole('rowheader').count()).toBe(1);
    await page.keyboard.press('Control+k');
    await place.fill('tri');
    await page.getByRole('option').first().waitFor();
    await place.fill('alma');
    await page.getByRole('option', { name: /Alma/ }).first().click();
    await page.getByRole('table', { name: 'What they can do' }).waitFor();
  });

  test('shows at least 18 records, 6 fields and 3 identities beside the sentences at 1280 × 800', async () => {
    await open(page, '#with=ada,ivo,stella&focus=ivo');
    const { bottom, right } = (await grid()
      .boundingBox()
      .then((box) => box && { bottom: box.y + box.height, right: box.x + box.width }))!;
    const boxes = await Promise.all(
      (await grid().getByRole('rowheader').all()).map((each) => each.boundingBox()),
    );
    expect(
      boxes.filter((box) => box !== null && box.y + box.height <= bottom + 1).length,
    ).toBeGreaterThanOrEqual(18);
    const heads = await Promise.all(
      (await grid().getByRole('columnheader').all()).map((each) => each.boundingBox()),
    );
    expect(
      heads.filter((box) => box !== null && box.x + box.width <= right + 1).length,
    ).toBeGreaterThanOrEqual(7);
    expect(await page.getByRole('article').count()).toBeGreaterThan(5);
  });
});

describe('a sentence', () => {
  test('is written in, and what it does is on the marks, on the counts and on the trials while it is', async () => {
    await open();
    await append('inspector may read (all but notes', ' and status != "retired"');
    const began = Date.now();
    await seenBy().getByText('217 → 200 of 400').waitFor();
    console.log(`from the last key to marks and counts: ${Date.now() - began} ms, 200 of them the pause`);
    await page
      .getByRole('article', { name: /Being written/ })
      .getByText('ivo 199')
      .waitFor();
    await page.getByText('1 change on version').waitFor();
    await page.getByText('trials 165 of 165').waitFor();
    await page.getByRole('button', { name: 'Only what changed' }).click();
    await expect.poll(() => grid().getByRole('rowheader').count()).toBe(17);
    const [first] = await grid()
      .getByRole('gridcell', { name: /^status/ })
      .all();
    expect(await first!.getAttribute('aria-label')).toContain(
      'ivo does not see it (by this draft: no longer sees it)',
    );
    await page.getByRole('button', { name: 'Only what changed' }).click();
    await done();
    await card('inspector may read (all but notes, reserve_price) when').waitFor();
    await expect.poll(() => card('inspector may read (all but notes, reserve_price) when').count()).toBe(1);
    await grid().focus();
    await page.keyboard.press('Control+z');
    await seenBy().getByText('217 of 400').waitFor();
    await page.getByText('These are the rules in force').waitFor();
    await page.keyboard.press('Control+Shift+Z');
    await seenBy().getByText('217 → 200 of 400').waitFor();
    await drop();
  });

  test('changes what is told of the place that the keys were at', async () => {
    await open();
    const madeBy = page.locator('#made-by');
    await page.mouse.move(5, 5);
    await grid().focus();
    for (const key of ['Control+Home', 'ArrowRight', 'ArrowRight', 'ArrowRight', 'ArrowRight'])
      await page.keyboard.press(key);
    await expect.poll(() => madeBy.textContent()).toMatch(/^ivo may see it by inspector may read/);
    await append('inspector may read (all but notes', ' and code != "HIVE-0001"');
    await expect
      .poll(() => madeBy.textContent())
      .toMatch(/^ivo may not see it: no sentence opens it; in force it is opened by inspector may read/);
    await done();
    await drop();
    await expect.poll(() => madeBy.textContent()).toMatch(/^ivo may see it by inspector may read/);
  });

  test('with an error says what is wrong and what was meant; the picture of before stands', async () => {
    await open();
    await append('treasurer may read (code, keeper', ' when state = "open" && status = "active"');
    const writing = page.getByRole('article', { name: /Being written/ });
    await writing.getByRole('button', { name: 'write and' }).click();
    await writing.getByText('hives has no field “state”').waitFor();
    await page.getByText('error: the picture is the last that had none').waitFor();
    expect(await shownLabels()).toContain('HIVE-0001');
    await page.keyboard.press('Escape');
    await writing.getByRole('button', { name: 'Take back' }).click();
    await page.getByText('These are the rules in force').waitFor();
    await append('treasurer may read (code, keeper', ' when when');
    await writing.getByRole('button', { name: 'Done' }).press('Enter');
    await page.getByText('It cannot be read yet').waitFor();
    await writing.getByRole('button', { name: 'Take back' }).click();
  });

  test('is put aside and back byte for byte, deleted, and added', async () => {
    await open();
    const text = demoRulebook.find(({ name }) => name === 'hives.gate')!.text;
    const ofCard = (words: RegExp) => page.getByRole('article', { name: words });
    await ofCard(/^Rule: steward may read/)
      .getByRole('button', { name: 'Put aside' })
      .click();
    await seenBy().getByText('239 → 0 of 400').waitFor();
    await page.getByRole('button', { name: 'The whole text' }).click();
    expect(await page.getByRole('textbox', { name: 'Text of hives.gate' }).innerText()).toContain(
      '//- steward may read',
    );
    await page.getByRole('button', { name: 'Back to the sentences' }).click();
    await ofCard(/^Put aside: steward/)
      .getByRole('button', { name: 'Put back' })
      .click();
    await page.getByText('These are the rules in force').waitFor();
    await ofCard(/^Rule: visitors may read/)
      .getByRole('button', { name: 'Delete' })
      .click();
    await seenBy().getByText('66 → 0 of 400').waitFor();
    await page.getByRole('button', { name: '+ Sentence' }).click();
    await page.keyboard.type('visitors may read (code) when visibility = "open"');
    await seenBy().getByText('66 of 400').waitFor();
    await page.keyboard.press('Control+Enter');
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByLabel('Name').fill('fewer-for-visitors');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.getByRole('button', { name: 'Saved' }).waitFor();
    const saved = (await world.desk.draft('fewer-for-visitors')).files.find(
      ({ name }) => name === 'hives.gate',
    )!.text;
    const sentence = '  visitors may read (code, apiary, queen_year) when visibility = "open"\n\n';
    const added = '\n\n  visitors may read (code) when visibility = "open"\n}\n\ncollection inspections';
    expect(saved).toBe(text.replace(sentence, '').replace('\n}\n\ncollection inspections', added));
    await page.getByRole('combobox', { name: 'Draft that is open' }).selectOption({ index: 0 });
    await page.getByText('These are the rules in force').waitFor();
  });
});

describe('by mouse alone', () => {
  test('a sentence is written by a form, which is the same text, and what it cannot show stands in it as text', async () => {
    await open();
    await card('inspector may read (all but reserve_price) when on_duty').click();
    const writing = page.getByRole('article', { name: /Being written/ });
    await writing.getByRole('button', { name: 'Form', exact: true }).click();
    expect(
      await writing
        .getByRole('textbox', { name: 'Condition as text' })
        .or(writing.getByRole('combobox', { name: 'Condition as text' }))
        .inputValue(),
    ).toBe('on_duty(this)');
    const group = (name: string) => writing.getByRole('group', { name, exact: true });
    await group('Who').getByRole('button', { name: 'auditor' }).click();
    await group('read').getByRole('button', { name: 'notes' }).click();
    await writing.getByRole('button', { name: 'or …' }).click();
    await group('Who').getByRole('button', { name: 'inspector' }).click();
    await writing.getByRole('button', { name: 'Text', exact: true }).click();
    const text = (await writing.getByRole('textbox', { name: 'Sentence' }).innerText())
      .split('\n')
      .map((line) => line.trim())
      .join(' ');
    expect(text).toBe(
      'auditor may read (all but reserve_price, notes) when on_duty(this) or mine because "A visit opens the hive to its inspector while it lasts, and no longer"',
    );
    await seenBy().getByText('217 → 216 of 400').waitFor();
    await done();
    await drop();
  });

  test('a write is tried as somebody by the draft, kept as a trial; a cell asks for its sentence; a pattern is put in', async () => {
    await open(page, '#with=ada,ivo&focus=ada');
    await page
      .getByRole('article', { name: /^Fence: nobody but steward/ })
      .getByRole('button', { name: 'Put aside' })
      .click();
    await page.getByRole('textbox', { name: 'Only where' }).fill('code = "OAK-003"');
    await page.keyboard.press('Enter');
    await grid()
      .getByRole('row', { name: /OAK-003/ })
      .getByRole('gridcell', { name: /^notes/ })
      .click();
    const aside = page.getByRole('complementary');
    await aside.getByRole('button', { name: 'Try', exact: true }).click();
    await aside.getByRole('textbox', { name: 'notes' }).fill('as it was');
    await aside.locator('form').getByRole('button', { name: 'Try', exact: true }).click();
    await aside.getByText('200 It would be carried out').waitFor();
    expect(await aside.getByLabel('The same with curl').innerText()).toMatch(
      /-X PATCH .*\$TOKEN.*Firmgate-Rehearsal: true/s,
    );
    await aside.getByRole('button', { name: 'Keep as a trial' }).click();
    await page.getByText('2 changes on version').waitFor();
    await page.getByText(/trials 16\d of 166/).waitFor();
    await seenBy().getByRole('button', { name: /ivo/ }).first().click();
    await aside.getByRole('button', { name: 'Why', exact: true }).click();
    // What would make it a yes is one word of a sentence, and is put in by a click.
    await aside
      .getByRole('button', { name: /^if hives\/3 also named notes.*write notes into the draft/ })
      .click();
    const inspectors = page.getByRole('article', {
      name: /^Rule: inspector may read \(all but.*when visibility/,
    });
    await expect.poll(() => inspectors.innerText()).toContain('all but reserve_price');
    await aside.getByText('ivo may read hives').waitFor();
    await page.keyboard.press('Control+z');
    await expect.poll(() => inspectors.innerText()).toContain('all but notes, reserve_price');
    await aside.getByRole('button', { name: 'Let ivo see this' }).click();
    const writing = page.getByRole('article', { name: /Being written/ });
    expect(await writing.innerText()).toContain('inspector may read (code, notes) when code = "OAK-003"');
    await done();
    await page.getByRole('button', { name: '+ From a pattern' }).click();
    await page.getByRole('button', { name: 'Show what is written' }).click();
    await page
      .getByRole('dialog')
      .getByRole('region', { name: 'What is written' })
      .getByText('rules')
      .first()
      .waitFor();
    await page.getByRole('button', { name: 'Put it into the draft' }).click();
    await page.getByText(/[3-9] changes on version/).waitFor();
    await drop();
  });
});

describe('what is written', () => {
  test('outlives a reload, an ended session, a closed tab, and a service that is gone', async () => {
    await open();
    await append('treasurer may read (code, keeper', ' when status = "active"');
    await done();
    await page.reload();
    await page.getByText('1 change on version').waitFor();

    await browser.clearCookies();
    await page.reload();
    await signIn(page, world, STAFF.email, STAFF.password);
    await open();
    await page.getByText('1 change on version').waitFor();

    const other = await openPage(browser, complaints);
    await open(other);
    await other.getByText('These are the rules in force').waitFor();
    await append('treasurer may read (code, keeper', ' when queen_year > 2020', other);
    await other.waitForTimeout(500);
    await other.close();
    await page.reload();
    await page.getByText('Text that was not saved is still here').waitFor();
    await drop();
    await page.getByRole('button', { name: 'Take it up' }).click();
    await card('treasurer may read (code, keeper, reserve_price) when queen').waitFor();

    await browser.setOffline(true);
    await append('treasurer may read (code, keeper', ' and notes is present');
    await page.getByText('The service does not answer').first().waitFor();
    await browser.setOffline(false);
    // It comes back by itself.
    await seenBy()
      .getByText(/400 → \d+ of 400/)
      .waitFor();
    expect(await page.getByRole('article', { name: /Being written/ }).innerText()).toContain(
      'notes is present',
    );
    await page.keyboard.press('Escape');
    await drop();
  });

  test('is put together with what somebody else saved; where both changed the same, nothing is lost', async () => {
    await open();
    await append('treasurer may read (code, keeper', ' when status = "active"');
    await done();
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByLabel('Name').fill('together');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.getByRole('button', { name: 'Saved' }).waitFor();
    const change = (was: string, is: string) =>
      world.desk.changeDraft('together', { changes: [{ file: 'hives.gate', was, is }] });
    await change('apprentice may read (code, apiary, visibility)', 'apprentice may read (code, visibility)');
    await append('treasurer may read (code, keeper', ' and notes is present');
    await done();
    await page.getByRole('button', { name: 'Save' }).click();
    await card('apprentice may read (code, visibility)').waitFor();
    await page.getByRole('button', { name: 'Saved' }).waitFor();

    await change('and notes is present', 'and notes is missing');
    await append('treasurer may read (code, keeper', ' or status = "resting"');
    await done();
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByText('Two people changed the same differently').waitFor();
    await page.getByText('notes is missing').waitFor();
    await card('treasurer may read (code, keeper, reserve_price) when statu').waitFor();
    await page.getByRole('button', { name: 'Save mine under another name' }).click();
    await page.getByLabel('Name').fill('mine-alone');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.getByRole('button', { name: 'Saved' }).waitFor();
    expect(
      (await world.desk.draft('mine-alone')).files.find(({ name }) => name === 'hives.gate')!.text,
    ).toContain('or status = "resting"');
    await page.getByRole('combobox', { name: 'Draft that is open' }).selectOption({ index: 0 });
    await page.getByText('These are the rules in force').waitFor();
  });
});

describe('changes', () => {
  test('are previewed, published after an unlock, moved onto what others publish, and gone back from', async () => {
    await open();
    await append('visitors may read (code, apiary', ' or visibility = "members"');
    await done();
    await append('steward may read (all but reserve_price)', ' and status != "retired"');
    await done();
    // Somebody else is faster.
    const [hives] = demoRulebook.filter(({ name }) => name === 'hives.gate');
    const theirs = demoRulebook.map((each) =>
      each === hives
        ? {
            ...each,
            text: each.text.replace(
              'treasurer may read (code, keeper, reserve_price)',
              'treasurer may read (code, reserve_price)',
            ),
          }
        : each,
    );
    // While a draft is tried a publication may have to wait, and says so.
    const published = () =>
      world.desk.publish({ files: theirs, despite: 'a trial speaks of it' }).catch(() => null);
    let done_ = await published();
    for (let turn = 0; done_ === null && turn < 20; turn++) done_ = await published();
    const { version } = done_!;
    await page.reload();
    await page.getByText(`Version ${version} was published meanwhile`).waitFor();
    await page.getByRole('link', { name: 'Changes', exact: true }).click();
    await page.getByText(`Version ${version} is in force meanwhile`).waitFor();
    expect(await page.getByRole('button', { name: 'Publish', exact: true }).count(), 'not over theirs').toBe(
      0,
    );
    await page.getByRole('link', { name: 'Bench' }).click();
    await page.getByRole('button', { name: `Move onto version ${version}` }).click();
    await page.getByLabel('Name').fill('moved');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.getByText(`2 changes on version ${version}`).waitFor();
    await card('treasurer may read (code, reserve_price)').waitFor();
    await page.getByRole('link', { name: 'Preview' }).click();
    await page.getByText('visitors may read hives', { exact: false }).first().waitFor();
    await page
      .getByRole('table', { name: 'What it does' })
      .getByText('visitor', { exact: false })
      .first()
      .waitFor();
    // The picture says what the table says.
    const figure = page.getByRole('img', { name: /^Gained and lost: / });
    await figure.waitFor();
    const rows = await page.getByRole('table', { name: 'What it does' }).getByRole('row').count();
    expect((await figure.getAttribute('aria-label'))!.match(/ gained, \d+ lost/g)).toHaveLength(rows - 1);
    await figure.locator('svg').getByText('added up over all callers').waitFor();
    await expectAccessible(page, 'changes');
    const publish = page.getByRole('button', { name: 'Publish', exact: true });
    expect(await publish.isDisabled(), 'not before an unlock').toBe(true);
    await page.getByRole('button', { name: 'Unlock' }).click();
    await page.getByLabel('Reason').fill('visitors see more hives');
    await page.keyboard.press('Enter');
    await page.getByRole('status', { name: 'Unlocked' }).waitFor();
    await page.getByLabel('What changes, in a line').fill('members’ hives, too');
    await publish.click();
    await page.getByText('Trials of this rulebook fail').waitFor();
    await page.getByLabel('Publish all the same, because').fill('the trials are to follow');
    await publish.click();
    await page.getByText(`Version ${version + 1} is in force.`).waitFor();
    const versions = page.getByRole('table', { name: 'Versions' });
    await versions.getByText('members’ hives, too').waitFor();
    const told = (await world.desk.history({ limit: 50 })).versions.toReversed();
    const tried = told.flatMap(({ version: each, trials }) =>
      trials === null ? [] : [`version ${each}, ${trials.passed} met, ${trials.failed} not met`],
    );
    expect(tried.length).toBeGreaterThan(1);
    await page.getByRole('img', { name: `Trials: ${tried.join('; ')}`, exact: true }).waitFor();
    await versions.getByRole('row', { name: /^1 / }).getByRole('button').click();
    await page.getByRole('button', { name: 'Restore version 1' }).click();
    await page.getByText(`Version ${version + 2} is in force.`).waitFor();
    const restored = (await world.desk.version(version + 2)).files;
    expect(restored.map(({ text }) => text)).toEqual(
      (await world.desk.version(1)).files.map(({ text }) => text),
    );
    await page.getByRole('button', { name: 'Lock', exact: true }).click();
    // Where what draws cannot be loaded, the tables say all of it.
    const bare = await openPage(browser, []);
    await bare.route('**/bars-*.js', (route) => route.abort());
    const missed = bare.waitForEvent('requestfailed');
    await bare.goto(`${world.service.url}/console/changes`);
    await missed;
    await bare.getByRole('table', { name: 'Versions' }).getByText('members’ hives, too').waitFor();
    expect(await bare.getByRole('img').count()).toBe(0);
    await bare.close();
  });
});

test('the bench has no violation that axe finds, light and dark', async () => {
  await open();
  await page.getByRole('gridcell').first().click();
  await page.getByRole('complementary', { name: 'Why' }).getByText('may').first().waitFor();
  await append('treasurer may read', '');
  await expectAccessible(page, 'bench with why, and an open sentence');
  await page.keyboard.press('Escape');
});

test('nothing went wrong in the browser meanwhile', () => {
  expect(complaints).toEqual([]);
  const sorted = paints.toSorted((one, other) => one - other);
  const at = (share: number) => `${sorted[Math.floor(share * (sorted.length - 1))]} ms`;
  console.log(
    `${paints.length} keys and clicks until the next paint: half ${at(0.5)}, 98 of 100 ${at(0.98)}, longest ${at(1)}`,
  );
  expect(paints.length).toBeGreaterThan(50);
});
