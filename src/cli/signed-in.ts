import { chmodSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { z } from 'zod';
import { serviceUrl } from './settings.ts';

/** A session of somebody who has signed in at the command line, by the service that it is with. */
const fileSchema = z.record(z.string(), z.object({ session: z.string().min(1), name: z.string() }));

/** In the user's own state folder (XDG Base Directory Specification): what a session opens is for nobody else's eyes. */
function file(): string {
  const folder = process.env.XDG_STATE_HOME || join(homedir(), '.local', 'state');
  return join(folder, 'firmgate', 'signed-in.json');
}

function all(): z.infer<typeof fileSchema> {
  try {
    return fileSchema.parse(JSON.parse(readFileSync(file(), 'utf8')));
  } catch {
    // None yet, or none that could be read: to sign in makes a new one.
    return {};
  }
}

/** Who has signed in with the service that commands speak to; null where nobody has. */
export function signedIn(): { readonly session: string; readonly name: string } | null {
  return all()[serviceUrl()] ?? null;
}

/** Keeps the session, readable for this user alone, or forgets it. */
export function keepSession(kept: { readonly session: string; readonly name: string } | null): void {
  const { [serviceUrl()]: _, ...others } = all();
  const sessions = kept === null ? others : { ...others, [serviceUrl()]: kept };
  if (Object.keys(sessions).length === 0) {
    rmSync(file(), { force: true });
    return;
  }
  mkdirSync(dirname(file()), { recursive: true, mode: 0o700 });
  writeFileSync(file(), `${JSON.stringify(sessions, null, 2)}\n`, { mode: 0o600 });
  // One that was there keeps its mode when it is written.
  chmodSync(file(), 0o600);
}
