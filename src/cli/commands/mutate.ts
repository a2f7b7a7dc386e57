import type { MutateDocument } from '../../client/desk.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { readRulebook } from '../rulebook-files.ts';
import { check } from './check.ts';

interface Options {
  readonly only?: readonly string[];
  readonly most?: string;
}

/** `firmgate mutate [paths]`: which faults in the rules would the trials not find? */
export async function mutate(output: Output, paths: readonly string[], options: Options): Promise<void> {
  const files = paths.length === 0 ? null : readRulebook(paths);
  if (files !== null && !checkRulebook(files).ok) {
    check(output, paths);
    return;
  }
  if (options.most !== undefined && !/^[1-9]\d*$/.test(options.most))
    throw new Misuse(`“${options.most}” is not a number of faults`);
  const request = {
    ...(files === null ? {} : { files }),
    ...(options.only === undefined ? {} : { collections: [...options.only] }),
    ...(options.most === undefined ? {} : { most: Number(options.most) }),
  };
  const client = await deskClient(output);
  const report = await withProgress((show) => client.mutate(request, show));
  output.data(report);
  print(output, report);
  const isTold = report.faults.some(({ foundBy }) => foundBy !== 'nobody');
  if (!isTold || report.failing.length > 0 || report.faults.some(({ foundBy }) => foundBy === 'sweep'))
    throw new CheckFailed();
}

function print(output: Output, { faults, failing, possible, milliseconds }: MutateDocument): void {
  if (faults.length === 0) {
    output.line('There are no rules to plant a fault in.');
    return;
  }
  const by = (who: MutateDocument['faults'][number]['foundBy']) =>
    faults.filter((fault) => fault.foundBy === who);
  const unguarded = by('sweep');
  for (const { kind, file, line, was, now, by: answer } of unguarded) {
    output.line(
      `${output.paint.bad('✗')} ${output.paint.strong(kind)}  ${output.paint.faint(`${file}:${line}`)}`,
    );
    output.line(`      was  ${oneLine(was)}`);
    output.line(`      now  ${oneLine(now)}`);
    output.line(`      ${output.paint.faint(`no trial tells; a sweep sees: ${answer}`)}`);
  }
  const counted = [
    ['the checker', by('check').length],
    ['trials', by('trials').length],
    ['invariants', by('invariants').length],
    ['only a sweep', unguarded.length],
  ] as const;
  const seen = faults.length - by('nobody').length;
  output.line(
    `\n${faults.length} of ${possible} possible faults planted; found by ${counted.map(([who, count]) => `${who}: ${count}`).join(', ')}`,
  );
  const none = by('nobody').length;
  if (none > 0)
    output.line(
      output.paint.faint(`${none} changed no answer to any test identity on the records that there are`),
    );
  if (failing.length > 0)
    output.line(
      output.paint.bad(
        `${failing.length} ${failing.length === 1 ? 'fails' : 'fail'} without any fault, and ${failing.length === 1 ? 'finds' : 'find'} none where that is so: ${failing.map((title) => `“${title}”`).join(', ')}`,
      ),
    );
  const ended = `in ${milliseconds} ms; nothing was published`;
  if (seen === 0)
    output.line(
      `? none of them changes an answer that was looked at: that says nothing of the trials; ${ended}`,
    );
  else if (unguarded.length === 0)
    output.line(
      `${output.good(`✓ the checker, trials and invariants find every one of the ${seen} that change an answer`)}, ${ended}`,
    );
  else
    output.line(
      `${output.paint.bad(`✗ ${unguarded.length} of the ${seen} that change an answer pass all trials and invariants`)}, ${ended}`,
    );
}

function oneLine(text: string): string {
  const line = text.replace(/\s+/g, ' ');
  return line === '' ? '(nothing)' : line.length > 110 ? `${line.slice(0, 107)}…` : line;
}
