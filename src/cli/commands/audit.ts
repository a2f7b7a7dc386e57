import { stringify } from 'csv-stringify/sync';
import { detailWords } from '../../client/audit-words.ts';
import type { AuditQuery } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { moment, wholeNumber } from '../values.ts';

interface Filters {
  readonly by?: string;
  readonly action?: string;
  readonly subject?: string;
  readonly since?: string;
  readonly until?: string;
}

/** `firmgate audit list`: newest first. */
export async function auditList(
  output: Output,
  options: Filters & { readonly limit: string; readonly before?: string },
): Promise<void> {
  const client = await deskClient(output);
  const limit = wholeNumber('--limit', options.limit, 1, 500);
  const before = options.before === undefined ? undefined : wholeNumber('--before', options.before, 1);
  const page = await client.audit({
    ...filtersOf(options),
    limit,
    ...(before === undefined ? {} : { before }),
  });
  output.data(page);
  if (page.entries.length === 0) {
    output.line('No entry fits.');
    return;
  }
  output.table(
    ['', 'when (UTC)', 'who', 'from', 'did', 'to', 'detail', 'reason'],
    page.entries.map((entry) => [
      String(entry.seq),
      entry.at.slice(0, 19).replace('T', ' '),
      entry.actor,
      entry.from ?? '',
      entry.action,
      entry.subject,
      detailWords(entry.detail),
      entry.reason ?? '',
    ]),
  );
  if (page.next !== null) output.line(output.paint.faint(`\nolder ones: --before ${page.next}`));
}

/** `firmgate audit export`: oldest first, newline-delimited JSON or CSV. */
export async function auditExport(
  output: Output,
  options: Filters & { readonly csv?: boolean },
): Promise<void> {
  const client = await deskClient(output);
  let header = options.csv === true;
  let count = 0;
  for await (const entry of client.exportAudit(filtersOf(options))) {
    count++;
    if (options.csv === true) {
      const row = { ...entry, detail: JSON.stringify(entry.detail) };
      process.stdout.write(stringify([row], { header, record_delimiter: '\r\n', escape_formulas: true }));
      header = false;
    } else process.stdout.write(`${JSON.stringify(entry)}\n`);
  }
  // As the service closes it: whoever keeps the file can see that it is whole.
  const end = options.csv === true ? `end,${count} entries,,,,,,,,\r\n` : `{"end":{"entries":${count}}}\n`;
  process.stdout.write(end);
}

/** `firmgate audit verify`: 1 where anything was changed, cut out, put in, or cut off. */
export async function auditVerify(output: Output, options: { readonly head?: string }): Promise<void> {
  const found = await (await deskClient(output)).verifyAudit(options.head);
  output.data(found);
  const head = `${found.head.seq}:${found.head.hash}`;
  if (found.faults.length === 0) {
    output.line(`${output.good('✓')} ${found.entries} entries, each bound to the one before`);
    output.line(`  ${head}`);
    output.line('  Note this head elsewhere: with --head it also shows a trail that was made anew.');
    return;
  }
  for (const { seq, what } of found.faults) output.line(`${output.paint.bad('✗')} entry ${seq} ${what}`);
  throw new CheckFailed();
}

function filtersOf({ by, action, subject, since, until }: Filters): Omit<AuditQuery, 'limit' | 'before'> {
  const given = {
    actor: by,
    action,
    subject,
    since: moment('--since', since),
    until: moment('--until', until),
  };
  return Object.fromEntries(Object.entries(given).filter(([, each]) => each !== undefined));
}
