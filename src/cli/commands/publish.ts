import { checkRulebook } from '../../core/check/index.ts';
import { deskClient } from '../credentials.ts';
import { baseOf, noteBase } from '../folder-base.ts';
import type { Output } from '../output.ts';
import { readRulebook } from '../rulebook-files.ts';
import { wholeNumber } from '../values.ts';
import { check } from './check.ts';
import { showFirst } from './preview.ts';

interface PublishOptions {
  readonly message?: string;
  readonly base?: string;
  readonly draft?: string;
  readonly despite?: string;
  readonly takeBack?: string[];
  readonly yes?: boolean;
  /** The digest of what was looked at. */
  readonly preview?: string;
}

/**
 * `firmgate publish [paths]`: shows what it would change, and with --yes puts it in force. Checked here first, so that errors show with
 * their source lines.
 */
export async function publish(
  output: Output,
  paths: readonly string[],
  options: PublishOptions = {},
): Promise<void> {
  const { base, message, despite, takeBack, draft: named } = options;
  const draft = named === undefined ? null : await (await deskClient()).draft(named);
  const noted = draft === null ? baseOf(paths) : { base: draft.base };
  const files = draft?.files ?? readRulebook(paths);
  if (draft === null && !checkRulebook(files).ok) {
    check(output, paths);
    return;
  }
  const madeFrom = base === undefined ? noted?.base : wholeNumber('--base', base, 0);
  const about = {
    ...(message === undefined ? {} : { message }),
    ...(madeFrom === undefined ? {} : { base: madeFrom }),
    ...(despite === undefined ? {} : { despite }),
    ...(takeBack === undefined ? {} : { takeBack }),
  };
  const client = await deskClient(output);
  const { preview } = options;
  if (options.yes !== true && preview === undefined) {
    await showFirst(output, client, { files, ...(takeBack === undefined ? {} : { takeBack }) });
    return;
  }
  const published = await client.publish({ files, ...about, preview: preview ?? 'make' });
  if (draft === null && noted !== null) noteBase(paths[0]!, { ...noted, base: published.version });
  output.data(published);
  output.line(
    published.changed
      ? `${output.good('✓')} published as version ${published.version}: it holds from the next request on`
      : `${output.good('✓')} version ${published.version} is in force already, with the very same files`,
  );
  for (const name of published.setAside) output.line(`  set aside, out of reach: ${name}`);
  for (const note of published.notes) output.line(`  ${note}`);
}
