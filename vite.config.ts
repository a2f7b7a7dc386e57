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
    rolldownOptions: {
      output: {
        // Parts that change at different times stay cached apart.
        codeSplitting: {
          groups: [
            { name: 'react', test: /node_modules\/(react|react-dom|react-router|scheduler)\//, priority: 30 },
            { name: 'mui', test: /node_modules\/@(mui\/(?!x-)|emotion\/)/, priority: 20 },
          ],
        },
      },
    },
  },
});
