import type { Difference } from '../core/analysis/differences.ts';
import type { Output } from './output.ts';

const signs = { new: '+', changed: '~', gone: '-' } as const;

/** The differences, each with a sign and in words. */
export function tell(
  output: Output,
  differences: readonly Pick<Difference, 'what' | 'how' | 'words'>[],
  nothing: string,
): void {
  if (differences.length === 0) output.line(nothing);
  for (const { what, how, words } of differences) output.line(`${signs[how]} ${what}\n    ${words}`);
}
