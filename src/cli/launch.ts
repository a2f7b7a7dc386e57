#!/usr/bin/env node
import { createHash } from 'node:crypto';
import { existsSync, readFileSync, readdirSync, renameSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Script } from 'node:vm';

/**
 * Starts the program, which is built into one file beside this one, with what V8 made of it when it was built: compiling it anew takes
 * longer than all else at a start. Where V8 is another one, or is run with other options, it takes no notice of that and compiles.
 * The name of the file tells what is in it, so nothing that was kept is ever taken for another program.
 */
const folder = dirname(fileURLToPath(import.meta.url));
const name = readdirSync(folder).find((each) => /^program-.+\.cjs$/.test(each));
if (name === undefined) throw new Error(`${folder} holds no program: build it with “npm run build”`);
const filename = join(folder, name);
const compiled = `${filename}.compiled`;
/** Bytes of a digest, which stands before what was kept. */
const DIGEST = 32;
const kept = existsSync(compiled) ? readFileSync(compiled) : Buffer.alloc(0);
// V8 believes what it is given: of a file that is damaged it would run anything.
const isWhole = kept.length > DIGEST && digestOf(kept.subarray(DIGEST)).equals(kept.subarray(0, DIGEST));
const script = new Script(
  // As Node.js itself wraps it.
  `(function (exports, require, module, __filename, __dirname) { ${withoutFirst(readFileSync(filename, 'utf8'))}\n})`,
  { filename, ...(isWhole ? { cachedData: kept.subarray(DIGEST) } : {}) },
);
// The build says so, once, and ends it: functions that were used by then are kept compiled, too. Options of V8 that are set later on count.
if (process.env.FIRMGATE_KEEP_COMPILED === '1')
  process.once('SIGTERM', () => {
    const data = script.createCachedData();
    writeFileSync(`${compiled}.new`, Buffer.concat([digestOf(data), data]));
    renameSync(`${compiled}.new`, compiled);
  });
const run = script.runInThisContext() as (...of: unknown[]) => void;
const program = { exports: {} };
run(program.exports, createRequire(filename), program, filename, folder);

/** SHA-256. */
function digestOf(data: Uint8Array): Buffer {
  return createHash('sha256').update(data).digest();
}

/** Without the line that a shell reads; in as many letters. */
function withoutFirst(source: string): string {
  return source.startsWith('#!') ? `//${source.slice(2)}` : source;
}
