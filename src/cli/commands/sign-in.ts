import { text } from 'node:stream/consumers';
import { createInterface } from 'node:readline/promises';
import { Writable } from 'node:stream';
import { DeskClient, GateProblem } from '../../client/desk.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { serviceUrl } from '../settings.ts';
import { keepSession, signedIn } from '../signed-in.ts';

interface Options {
  readonly link?: string;
}

/**
 * `firmgate sign-in EMAIL`, with the password; `firmgate sign-in [EMAIL] --link LINK`, with a one-time link, choosing one. The
 * password comes from the terminal, unseen, or from standard input; never from an argument, which others on the machine could see.
 */
export async function signIn(output: Output, email: string | undefined, { link }: Options): Promise<void> {
  if (link === undefined && email === undefined)
    throw new Misuse('say who signs in: firmgate sign-in EMAIL; or with a one-time link: --link LINK');
  const secret = link?.split('#')[1];
  if (link !== undefined && !secret)
    throw new Misuse('--link takes the whole link, with the part behind the #, in quotes');
  const client = new DeskClient({ url: serviceUrl() });
  const password = await readPassword(output, secret === undefined ? 'Password' : 'A new password');
  const { session, document } =
    secret === undefined
      ? await client.beginSession(email!, password)
      : await client.joinWith(secret, password, email);
  keepSession({ session, name: document.name });
  output.data({ name: document.name, level: document.level });
  output.line(`${output.good('✓')} signed in to ${serviceUrl()} as ${document.name}, ${document.level}`);
  output.line(
    '  Commands at the desk go by this session from now on, until firmgate sign-out, or it ends by itself.',
  );
}

/** `firmgate sign-out`: the session ends, here and at the service. */
export async function signOut(output: Output): Promise<void> {
  const kept = signedIn();
  if (kept === null) throw new Misuse(`nobody is signed in to ${serviceUrl()}: firmgate sign-in EMAIL`);
  try {
    await new DeskClient({ url: serviceUrl(), session: kept.session }).signOut();
  } catch (error) {
    // One that has ended already is gone as well.
    if (!(error instanceof GateProblem)) throw error;
  }
  keepSession(null);
  output.data({ signedOut: kept.name });
  output.line(`${output.good('✓')} ${kept.name} is signed out of ${serviceUrl()}`);
}

async function readPassword(output: Output, prompt: string): Promise<string> {
  if (process.stdin.isTTY !== true) return (await text(process.stdin)).replace(/\r?\n$/, '');
  output.note(`${prompt}, which is not shown:`);
  const unseen = new Writable({ write: (_, __, done) => done() });
  const lines = createInterface({ input: process.stdin, output: unseen, terminal: true });
  try {
    return await lines.question('');
  } finally {
    lines.close();
  }
}
