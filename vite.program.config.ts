import { defineConfig } from 'vite';

/** What packages ask for where somebody has installed it: other databases, other places to run. */
const absent = [
  'better-sqlite3',
  'cloudflare:sockets',
  'mariadb/callback',
  'mysql',
  'mysql2',
  'oracledb',
  'pg-native',
  'pg-query-stream',
  'sqlite3',
  'tedious',
];

/**
 * The program: `firmgate` with its packages in one file in dist/program, of the older kind of modules, which V8 can keep compiled
 * (src/cli/launch.ts). Node.js spends most of a start on looking for files one by one, and on compiling them: from about 900 of
 * them the service answers after 1.25 s, from a few after 0.5 s, and from what is compiled already after 0.35 s.
 */
export default defineConfig({
  // The solver is WebAssembly, and loads its own files.
  ssr: { noExternal: true, external: ['z3-solver'] },
  build: {
    ssr: 'src/cli/main.ts',
    outDir: 'dist/program',
    copyPublicDir: false,
    target: 'node20',
    // A stack trace in a log is to be read.
    minify: false,
    rolldownOptions: {
      external: absent,
      // A script imports nothing later on: what is not in it is required.
      output: {
        format: 'cjs',
        codeSplitting: false,
        dynamicImportInCjs: false,
        entryFileNames: 'program-[hash].cjs',
      },
    },
  },
});
