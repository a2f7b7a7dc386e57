import { homedir } from 'node:os';
import { existsSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';

/** Where things are, unless an option or a variable says otherwise. */

export const DEFAULT_PORT = 7430;

/** How long the solver may take for one question of a preview, in seconds. */
export const SECONDS_EACH = '2';

/** The folder of the checkout that holds the demo’s settings: here, or any folder above. */
export function stateFolder(): string {
  if (process.env.FIRMGATE_STATE !== undefined) return resolve(process.env.FIRMGATE_STATE);
  for (let folder = process.cwd(); ; folder = dirname(folder)) {
    if (existsSync(join(folder, '.firmgate'))) return join(folder, '.firmgate');
    if (dirname(folder) === folder) return join(homedir(), '.firmgate');
  }
}

export function serviceUrl(): string {
  return process.env.FIRMGATE_URL ?? `http://127.0.0.1:${DEFAULT_PORT}`;
}

/** The file of the development signing key. */
export function developmentKeyFile(): string {
  return process.env.FIRMGATE_DEVELOPMENT_KEY ?? join(stateFolder(), 'development-key.json');
}
