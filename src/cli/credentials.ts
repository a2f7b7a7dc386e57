import { existsSync } from 'node:fs';
import { GateClient, type UnlockDocument } from '../client/index.ts';
import {
  DESK_AUDIENCE,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../service/identity/development.ts';
import { Misuse } from './exit.ts';
import type { Output } from './output.ts';
import { developmentKeyFile, serviceUrl } from './settings.ts';

/** A command’s own tokens live for as long as a command may take. */
const COMMAND_SECONDS = 300;

/** A token for a test identity, signed with the development key. */
export async function identityToken(identity: string, seconds: number): Promise<string> {
  return developmentToken(await signingKey(), identity, RECORDS_AUDIENCE, seconds);
}

/** A client that calls as a test identity; null: as the visitor. */
export async function clientAs(identity: string | null): Promise<GateClient> {
  if (identity === null) return new GateClient({ url: serviceUrl() });
  return new GateClient({ url: serviceUrl(), token: await identityToken(identity, COMMAND_SECONDS) });
}

/**
 * A client for the desk: with FIRMGATE_DESK_TOKEN (a key), or else with the development key. Says so where an unlock is
 * under way: nobody should forget that what they do now holds at once.
 */
export async function deskClient(output?: Output): Promise<GateClient> {
  const given = process.env.FIRMGATE_DESK_TOKEN;
  const token =
    given ?? (await developmentToken(await signingKey(), 'command line', DESK_AUDIENCE, COMMAND_SECONDS));
  const client = new GateClient({ url: serviceUrl(), token });
  const unlock = output === undefined ? null : await client.currentUnlock();
  if (unlock !== null) output!.note(unlockWords(unlock));
  return client;
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
      `there is no development key at ${file}: start the service with “firmgate serve --development”, or name the key in FIRMGATE_DEVELOPMENT_KEY`,
    );
  }
  return developmentKey(file);
}
