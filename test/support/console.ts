import axe from 'axe-core';
import type { BrowserContext, Page } from 'playwright-core';
import { expect } from 'vitest';
import type { World } from './world.ts';

/** Signs in at the console of a world. */
export async function signIn(page: Page, world: World, email: string, password: string): Promise<void> {
  await page.goto(`${world.service.url}/console/`);
  await page.getByLabel('E-mail address').fill(email);
  await page.getByLabel('Password').fill(password);
  await page.keyboard.press('Enter');
  await page.getByRole('navigation', { name: 'Pages' }).waitFor();
}

/** A new page, whose complaints are gathered: what goes wrong in the browser is a fault, but for answers that are refusals. */
export async function openPage(browser: BrowserContext, complaints: string[]): Promise<Page> {
  const page = await browser.newPage();
  page.setDefaultTimeout(120_000);
  page.on('console', (message) => {
    const text = message.text();
    // Chromium keeps the style of what is typed over, and may not under this policy: nothing comes of it.
    const isOwn = /status of (4\d\d|503)|ERR_CONNECTION|ERR_INTERNET|Applying inline style/.test(text);
    if (message.type() === 'error' && !isOwn) complaints.push(text);
  });
  page.on('pageerror', (error) => complaints.push(error.message));
  return page;
}

/**
 * How long each key and click takes until what it does is painted, in milliseconds, as the browser tells by Event Timing; what takes less than
 * 16 ms it tells of none. Filled while pages of the browser that are opened from now on are used.
 */
export async function paintTimes(browser: BrowserContext): Promise<number[]> {
  const times: number[] = [];
  await browser.exposeFunction('tellPaintTime', (time: number) => times.push(time));
  await browser.addInitScript(`
    const longest = new Map();
    new PerformanceObserver((list) => {
      for (const { interactionId, duration } of list.getEntries())
        if (interactionId > 0 && duration > (longest.get(interactionId) ?? 0)) {
          if (!longest.has(interactionId)) setTimeout(() => tellPaintTime(longest.get(interactionId)), 200);
          longest.set(interactionId, duration);
        }
    }).observe({ type: 'event', durationThreshold: 16 });
  `);
  return times;
}

/** No violation of WCAG 2.2, levels A and AA, that axe can find, in both themes. */
export async function expectAccessible(page: Page, what: string): Promise<void> {
  for (const theme of ['light', 'dark']) {
    await page.locator('html').evaluate((root, name) => root.setAttribute('data-theme', name), theme);
    await coloursArrived(page);
    await page.evaluate(axe.source);
    const violations = await page.evaluate(async (of) => {
      const { axe: engine } = globalThis as unknown as {
        axe: {
          run: (options: object) => Promise<{
            violations: { id: string; nodes: { html: string; failureSummary?: string }[] }[];
          }>;
        };
      };
      const tags = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'];
      // The second theme differs in its colours, and in nothing else.
      const runOnly =
        of === 'light' ? { type: 'tag', values: tags } : { type: 'rule', values: ['color-contrast'] };
      const found = await engine.run({ runOnly, resultTypes: ['violations'] });
      return found.violations.map(
        ({ id, nodes }) => `${id}: ${nodes[0]!.html.slice(0, 200)} ${nodes[0]!.failureSummary ?? ''}`,
      );
    }, theme);
    expect(violations, `${what}, ${theme}`).toEqual([]);
  }
}

/** Until nothing moves any more in two frames running, however slow the machine draws: axe reads the colours of now. */
async function coloursArrived(page: Page): Promise<void> {
  const frame = () => page.evaluate(`new Promise((drawn) => requestAnimationFrame(() => setTimeout(drawn)))`);
  const moving = () =>
    page.evaluate<number>(
      `document.getAnimations().filter(({ effect }) => effect.getTiming().iterations !== Infinity).length`,
    );
  for (let still = 0; still < 2; still = (await moving()) === 0 ? still + 1 : 0) await frame();
}
