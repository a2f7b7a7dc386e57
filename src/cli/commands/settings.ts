import { deskClient } from '../credentials.ts';
import type { Output } from '../output.ts';

const ways = { 'mail server': 'by the mail server', outbox: 'into the folder' } as const;

/** `firmgate settings`: with what the service was started. */
export async function settings(output: Output): Promise<void> {
  const found = await (await deskClient()).settings();
  output.data(found);
  const { issuers, letters, development, shares } = found;
  if (development)
    output.line(output.paint.bad('! tokens for test identities are accepted: never in production'));
  if (issuers.length === 0) output.line('no issuer: nobody comes with a token of an application’s own');
  else
    output.table(
      ['issuer', 'audience', 'keys from', 'person', 'newcomers', 'by address'],
      issuers.map(({ issuer, audience, keys, person, newcomers, byAddress }) => [
        issuer,
        audience,
        keys,
        person,
        newcomers,
        byAddress,
      ]),
    );
  const listed = (all: readonly string[]) => (all.length === 0 ? 'none' : all.join(', '));
  output.table(
    ['what', 'how'],
    [
      [
        'letters',
        letters === null ? 'none go out' : `${ways[letters.by]} ${letters.to}, from ${letters.from}`,
      ],
      ['invited people arrive at', found.welcome === '' ? 'nowhere' : found.welcome],
      ['other origins', listed(found.origins)],
      ['proxies', listed(found.proxies)],
      ['records that one person may share', String(shares.byOne)],
      ['records shared with one target', String(shares.withOne)],
      ['people who share with one target', String(shares.sharers)],
      ['discarded is kept', `${found.discardedDays} days`],
      ['clocks may differ by', `${found.leeway} s`],
      ['processes', String(found.processes)],
    ],
  );
}
