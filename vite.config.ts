import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

/** The console: built into dist/console, served by the service below /console/. */
export default defineConfig({
  root: 'src/console',
  base: '/console/',
  plugins: [react()],
  html: { cspNonce: '__FIRMGATE_NONCE__' },
  build: {
    outDir: '../../dist/console',
    emptyOutDir: true,
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 600,
  },
});
