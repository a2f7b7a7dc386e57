import { GateProblem, type ShareDocument, type ShareRequest } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { moment } from '../values.ts';
import { open, recordId } from './records.ts';

interface ShareOptions {
  readonly as: string;
  readonly with?: string;
  readonly role?: string;
  readonly audience?: 'people' | 'everybody';
  readonly for?: NonNullable<ShareRequest['for']>;
  readonly until?: string;
}

/** `firmgate records share COLLECTION RECORD --as IDENTITY --with PERSON` */
export async function recordsShare(
  output: Output,
  name: string,
  record: string,
  options: ShareOptions,
): Promise<void> {
  const { role, audience } = options;
  if ([options.with, role, audience].filter((each) => each !== undefined).length !== 1)
    throw new Misuse('say with whom: one of --with PERSON, --role ROLE, --audience people or everybody');
  const desk = await open(name, options.as);
  const person =
    options.with === undefined
      ? undefined
      : (desk.overview.identities.find((each) => each.name === options.with)?.id ??
        (await personCalled(options.with)));
  const until = moment('--until', options.until);
  const shared = await desk.client.share(name, await recordId(desk, desk.collection, record), {
    ...(person === undefined ? {} : { person }),
    ...(role === undefined ? {} : { role }),
    ...(audience === undefined ? {} : { audience }),
    ...(options.for === undefined ? {} : { for: options.for }),
    ...(until === undefined ? {} : { until }),
  });
  output.data(shared);
  const ends = shared.ends === null ? '' : `, until ${shared.ends.slice(0, 16)}Z`;
  output.line(
    `${output.good('✓')} shared with ${await target(shared)} for ${shared.operations.join(', ')}${ends}`,
  );
}

async function personCalled(text: string): Promise<string> {
  try {
    return (await (await deskClient()).person(text)).id;
  } catch (error) {
    if (!(error instanceof GateProblem) || error.problem.status !== 404) throw error;
    throw new Misuse(
      `nobody is called “${text}”: name a test identity, or somebody by address or id; for all people or everybody use --audience`,
    );
  }
}

/** `firmgate records shares COLLECTION RECORD --as IDENTITY` */
export async function recordsShares(
  output: Output,
  name: string,
  record: string,
  options: { as: string },
): Promise<void> {
  const desk = await open(name, options.as);
  await print(output, await desk.client.shares(name, await recordId(desk, desk.collection, record)));
}

/** `firmgate shares list` */
export async function sharesList(
  output: Output,
  options: { collection?: string; by?: string; with?: string },
): Promise<void> {
  const { collection, by } = options;
  const asked = { collection, by, with: options.with };
  await print(output, await (await deskClient(output)).everyShare(asked));
}

/** `firmgate shares take ID` */
export async function sharesTake(output: Output, share: string): Promise<void> {
  await (await deskClient(output)).removeShare(share);
  output.data({ taken: share });
  output.line(`${output.good('✓')} taken back: it gives nothing from the next request on`);
}

async function print(output: Output, shares: readonly ShareDocument[]): Promise<void> {
  output.data({ shares });
  if (shares.length === 0) {
    output.line('Nothing is shared.');
    return;
  }
  const names = new Map<string, string>();
  for (const { sharer, person } of shares)
    for (const id of [sharer, person]) if (id !== null && !names.has(id)) names.set(id, await nameOf(id));
  output.table(
    ['id', 'record', 'by', 'with', 'for', 'until'],
    shares.map((share) => [
      share.id,
      `${share.collection} ${share.record}`,
      names.get(share.sharer)!,
      share.person === null ? (share.role ?? share.audience!) : names.get(share.person)!,
      share.operations.join(', '),
      share.ends === null ? '' : share.ends.slice(0, 16).replace('T', ' '),
    ]),
  );
}

async function target({ person, role, audience }: ShareDocument): Promise<string> {
  return person === null ? (role ?? audience!) : nameOf(person);
}

async function nameOf(id: string): Promise<string> {
  const { email } = await (await deskClient()).person(id);
  return email ?? id;
}
