import type { BrowserContext } from 'playwright-core';
import { afterAll, beforeAll, test } from 'vitest';
import { openBrowser } from '../support/chromium.ts';
import { fromNothing, mouse } from '../support/from-nothing.ts';

let browser: BrowserContext;
beforeAll(async () => {
  browser = await openBrowser();
});
afterAll(() => browser?.close());

test(
  'Start leads from nothing to rules that are proved and in force, and an invitation: by mouse',
  { timeout: 900_000 },
  () => fromNothing(browser, mouse),
);
