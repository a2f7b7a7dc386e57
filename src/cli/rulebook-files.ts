import { readFileSync, readdirSync, statSync } from 'node:fs';
import { join, relative } from 'node:path';
import type { Source } from '../core/language/source.ts';
import { Misuse } from './exit.ts';

/**
 * All `.gate` files of some folders and the folders below them, or single files, as one rulebook. A file goes by its
 * name in its folder, and by its whole path where several folders are given. One that is not valid UTF-8 is refused
 * whole: what would be read instead of a broken letter is not what was written.
 */
export function readRulebook(paths: readonly string[]): Source[] {
  return readFiles(paths).map((file) => file.source);
}

/** The same, each with the path under which it was found. */
export function readFiles(paths: readonly string[]): { readonly path: string; readonly source: Source }[] {
  const [only] = paths.length === 1 ? paths : [];
  const sources = paths.flatMap((path) =>
    filesAt(path).map((file) => ({
      path: file,
      source: {
        name: only === undefined || file === path ? file : relative(path, file),
        text: readText(file),
      },
    })),
  );
  if (sources.length === 0) throw new Misuse(`there are no .gate files in ${paths.join(', ')}`);
  return sources;
}

function filesAt(path: string): string[] {
  try {
    return statSync(path).isDirectory() ? gateFiles(path) : [path];
  } catch {
    throw new Misuse(`there is no file or folder ${path}`);
  }
}

function gateFiles(folder: string): string[] {
  return readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && entry.name.endsWith('.gate'))
    .map((entry) => join(entry.parentPath, entry.name))
    .toSorted();
}

function readText(name: string): string {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: false }).decode(readFileSync(name));
  } catch (error) {
    if (error instanceof TypeError) throw new Misuse(`${name} is not valid UTF-8 (L006): save it as UTF-8`);
    throw new Misuse(`${name} cannot be read: ${(error as Error).message}`);
  }
}
