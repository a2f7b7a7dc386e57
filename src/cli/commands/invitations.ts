import { readFileSync } from 'node:fs';
import { deskClient } from '../credentials.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { moment, wholeNumber } from '../values.ts';

interface SendOptions {
  readonly file?: string;
  readonly roles?: string[];
  readonly until?: string;
  readonly days: string;
}

/** `firmgate invitations send ADDRESSES…`: 1 where a line was bad; all good ones are sent all the same. */
export async function invitationsSend(
  output: Output,
  addresses: readonly string[],
  options: SendOptions,
): Promise<void> {
  const { file, roles } = options;
  const listed = file === undefined ? '' : readFileSync(file === '-' ? 0 : file, 'utf8');
  if (listed !== '' && addresses.length > 0)
    throw new Misuse('give addresses, or a file of them with --file, not both');
  const list = listed === '' ? addresses.join('\n') : listed;
  if (list.trim() === '') throw new Misuse('give addresses, or a file of them with --file');
  const until = moment('--until', options.until);
  const client = await deskClient(output);
  const request = {
    list,
    days: wholeNumber('--days', options.days, 1, 90),
    ...(roles === undefined ? {} : { roles }),
    ...(until === undefined ? {} : { until }),
  };
  const report = await withProgress((show) => client.invite(request, show));
  output.data(report);
  output.line(
    `${output.good('✓')} ${report.sent} ${report.sent === 1 ? 'letter is' : 'letters are'} on the way`,
  );
  if (report.bad.length === 0) return;
  for (const { line, text, why } of report.bad)
    output.line(`${output.paint.bad('✗')} line ${line}: ${text === '' ? why : `${text}: ${why}`}`);
  throw new CheckFailed();
}

interface ListOptions {
  readonly state?: 'open' | 'accepted' | 'expired' | 'revoked';
  readonly limit: string;
  readonly after?: string;
}

/** `firmgate invitations list [SEARCH]` */
export async function invitationsList(
  output: Output,
  search: string | undefined,
  options: ListOptions,
): Promise<void> {
  const { state, after } = options;
  const page = await (
    await deskClient(output)
  ).invitations({
    ...(search === undefined ? {} : { search }),
    ...(state === undefined ? {} : { state }),
    ...(after === undefined ? {} : { after }),
    limit: wholeNumber('--limit', options.limit, 1, 500),
  });
  output.data(page);
  if (page.invitations.length === 0) {
    output.line('No invitation fits.');
    return;
  }
  output.table(
    ['id', 'address', 'state', 'roles', 'by', 'until'],
    page.invitations.map(({ id, email, state: now, roles, ends, created_by: by, expires_at: expires }) => [
      id,
      email,
      now,
      roles.join(', ') + (ends === null ? '' : ` until ${ends.slice(0, 10)}`),
      by,
      expires.slice(0, 10),
    ]),
  );
  if (page.next !== null) output.line(output.paint.faint(`\nolder ones: --after ${page.next}`));
}

/** `firmgate invitations revoke ID` */
export async function invitationsRevoke(output: Output, id: string): Promise<void> {
  await (await deskClient(output)).revokeInvitation(id);
  output.data({ revoked: id });
  output.line(`${output.good('✓')} taken back: its link opens nothing`);
}

interface LetterOptions {
  readonly subject?: string;
  readonly body?: string;
  readonly save?: boolean;
}

/** `firmgate invitations letter`: the letter as somebody would get it; with --save, the one that goes out from now on. */
export async function invitationsLetter(output: Output, options: LetterOptions): Promise<void> {
  const client = await deskClient(output);
  const now = await client.letter();
  const letter = {
    subject: options.subject ?? now.subject,
    body:
      options.body === undefined ? now.body : readFileSync(options.body === '-' ? 0 : options.body, 'utf8'),
  };
  if (options.save === true) await client.saveLetter(letter);
  const preview = await client.previewLetter(letter);
  output.data({ saved: options.save === true, letter, preview });
  output.line(`${output.paint.faint('Subject:')} ${preview.subject}\n`);
  output.line(preview.text);
  if (options.save === true) output.line(`${output.good('✓')} saved`);
}
