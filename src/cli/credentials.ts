import { existsSync } from 'node:fs';
import { DeskClient, type UnlockDocument } from '../client/desk.ts';
import {
  DESK_AUDIENCE,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../service/identity/development.ts';
import { Misuse } from './exit.ts';
import type { Output } from './output.ts';
import { developmentKeyFile, serviceUrl } from './settings.ts';
import { signedIn } from './signed-in.ts';

/** A command’s own tokens live for as long as a command may take. */
const COMMAND_SECONDS = 300;

/** A token for a test identity, signed with the development key. */
export async function identityToken(identity: string, seconds: number): Promise<string> {
  return developmentToken(await signingKey(), identity, RECORDS_AUDIENCE, seconds);
}

/** A client that calls as a test identity; null: as the visitor. */
export async function clientAs(identity: string | null): Promise<DeskClient> {
  if (identity === null) return new DeskClient({ url: serviceUrl() });
  return new DeskClient({ url: serviceUrl(), token: await identityToken(identity, COMMAND_SECONDS) });
}

/**
 * A client for the desk: with FIRMGATE_DESK_TOKEN (a key), or as whoever has signed in, or else with the development key. Says so where an unlock is
 * under way: nobody should forget that what they do now holds at once.
 */
export async function deskClient(output?: Output): Promise<DeskClient> {
  const client = new DeskClient({ url: serviceUrl(), ...(await deskCredentials()) });
  const unlock = output === undefined ? null : await client.currentUnlock();
  if (unlock !== null) output!.note(unlockWords(unlock));
  return client;
}

async function deskCredentials(): Promise<{ token: string } | { session: string }> {
  const given = process.env.FIRMGATE_DESK_TOKEN;
  if (given !== undefined) return { token: given };
  const kept = signedIn();
  if (kept !== null) return { session: kept.session };
  return {
    token: await developmentToken(await signingKey(), 'command line', DESK_AUDIENCE, COMMAND_SECONDS),
  };
}

/** Such as “unlocked for 24 more minutes: the spring rules”. */
export function unlockWords({ reason, ends }: UnlockDocument): string {
  const minutes = Math.max(1, Math.ceil((Date.parse(ends) - Date.now()) / 60_000));
  return `unlocked for ${minutes === 1 ? 'one more minute' : `${minutes} more minutes`}: ${reason}`;
}

async function signingKey() {
  const file = developmentKeyFile();
  if (!existsSync(file)) {
    throw new Misuse(
      `there is no development key at ${file}: sign in with “firmgate sign-in EMAIL”, or use a key in FIRMGATE_DESK_TOKEN; for development, start the service with “firmgate serve --development”`,
    );
  }
  return developmentKey(file);
}
