import { checkRulebook } from '../../core/check/index.ts';
import { deskClient } from '../credentials.ts';
import type { Output } from '../output.ts';
import { readRulebook } from '../rulebook-files.ts';
import { wholeNumber } from '../values.ts';
import { check } from './check.ts';

/** `firmgate publish [paths]`: checked here first, so that errors show with their source lines. */
export async function publish(
  output: Output,
  paths: readonly string[],
  options: {
    readonly message?: string;
    readonly base?: string;
    readonly despite?: string;
    readonly takeBack?: string[];
  } = {},
): Promise<void> {
  const files = readRulebook(paths);
  if (!checkRulebook(files).ok) {
    check(output, paths);
    return;
  }
  const { base, message, despite, takeBack } = options;
  const about = {
    ...(message === undefined ? {} : { message }),
    ...(base === undefined ? {} : { base: wholeNumber('--base', base, 0) }),
    ...(despite === undefined ? {} : { despite }),
    ...(takeBack === undefined ? {} : { takeBack }),
  };
  const client = await deskClient(output);
  const published = await client.publish({ files, ...about });
  output.data(published);
  output.line(
    published.changed
      ? `${output.good('✓')} published as version ${published.version}: it holds from the next request on`
      : `${output.good('✓')} version ${published.version} is in force already, with the very same files`,
  );
  for (const name of published.setAside) output.line(`  set aside, out of reach: ${name}`);
  for (const note of published.notes) output.line(`  ${note}`);
}
