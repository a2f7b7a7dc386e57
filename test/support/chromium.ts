/** How Chromium is started: without a window, and without asking anybody else for anything. */
export const chromiumFlags = [
  '--no-sandbox',
  '--headless=new',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
];
