import { existsSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { z } from 'zod';
import { serviceUrl } from './settings.ts';

/** What a folder of rulebook files was made from: kept beside them, written where they are taken from the service. */
const FILE = '.firmgate-base.json';

const baseSchema = z.object({
  /** Whose version it is: a folder may be published to several services. */
  service: z.string(),
  base: z.int().min(0),
  draft: z.object({ name: z.string(), tag: z.string() }).optional(),
});

export type FolderBase = Omit<z.infer<typeof baseSchema>, 'service'>;

/** Null where nothing is noted, for this service, or where it is no folder. */
export function baseOf(paths: readonly string[]): FolderBase | null {
  const [folder] = paths;
  if (folder === undefined || paths.length !== 1 || !isFolder(folder)) return null;
  const path = join(folder, FILE);
  if (!existsSync(path)) return null;
  try {
    const { service, ...base } = baseSchema.parse(JSON.parse(readFileSync(path, 'utf8')));
    return service === serviceUrl() ? base : null;
  } catch {
    // A note that cannot be read says nothing.
    return null;
  }
}

export function noteBase(folder: string, base: FolderBase): void {
  writeFileSync(join(folder, FILE), `${JSON.stringify({ service: serviceUrl(), ...base }, null, 2)}\n`);
}

function isFolder(path: string): boolean {
  try {
    return statSync(path).isDirectory();
  } catch {
    return false;
  }
}
