import { existsSync } from 'node:fs';
import { GateClient } from '../client/index.ts';
import {
  DESK_AUDIENCE,
  RECORDS_AUDIENCE,
  developmentKey,
  developmentToken,
} from '../service/identity/development.ts';
import { Misuse } from './exit.ts';
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

/** A client for the desk: with FIRMGATE_DESK_TOKEN, or else with the development key. */
export async function deskClient(): Promise<GateClient> {
  const given = process.env.FIRMGATE_DESK_TOKEN;
  const token =
    given ?? (await developmentToken(await signingKey(), 'command line', DESK_AUDIENCE, COMMAND_SECONDS));
  return new GateClient({ url: serviceUrl(), token });
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
