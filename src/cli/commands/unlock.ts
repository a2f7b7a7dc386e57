import { deskClient, unlockWords } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { wholeNumber } from '../values.ts';

/** `firmgate unlock [REASON]`: the right to change what is in force, for a while; without a reason, says whether it is there. */
export async function unlock(
  output: Output,
  words: readonly string[],
  options: { minutes?: string },
): Promise<void> {
  const client = await deskClient();
  if (words.length === 0) {
    if (options.minutes !== undefined)
      throw new Misuse('say what it is for: firmgate unlock REASON --minutes 15');
    const current = await client.currentUnlock();
    output.data({ unlock: current });
    output.line(current === null ? 'locked: what is in force cannot be changed' : unlockWords(current));
    return;
  }
  const minutes =
    options.minutes === undefined ? undefined : wholeNumber('--minutes', options.minutes, 1, 60);
  const begun = await client.unlock(words.join(' '), minutes);
  output.data({ unlock: begun });
  output.line(`${output.good('✓')} ${unlockWords(begun)}`);
  output.line('  Each change is in the audit trail with this reason. “firmgate lock” ends it sooner.');
}

/** `firmgate lock` */
export async function lock(output: Output): Promise<void> {
  await (await deskClient()).lock();
  output.data({ unlock: null });
  output.line(`${output.good('✓')} locked`);
}
