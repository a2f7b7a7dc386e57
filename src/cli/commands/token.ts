import { identityToken } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';

/** `firmgate token IDENTITY`: prints nothing but the token, so that it can be put into a variable. */
export async function token(output: Output, identity: string, options: { minutes: string }): Promise<void> {
  const minutes = Number(options.minutes);
  if (!Number.isInteger(minutes) || minutes < 1 || minutes > 1440) {
    throw new Misuse('--minutes takes a whole number from 1 to 1440');
  }
  const made = await identityToken(identity, minutes * 60);
  output.data({ token: made, identity, minutes });
  output.line(made);
}
