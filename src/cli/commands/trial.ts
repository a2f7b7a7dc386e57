import { writeFileSync } from 'node:fs';
import type { TrialReport, VerdictDocument } from '../../client/desk.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { whyLines } from '../../core/explain/text.ts';
import type { Why } from '../../core/explain/why.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { readRulebook } from '../rulebook-files.ts';
import { check } from './check.ts';
import { junitReport } from './junit.ts';

interface Options {
  readonly only?: string;
  readonly as?: string;
  readonly junit?: string;
  readonly lines?: boolean;
}

/** `firmgate trial [paths]`: as test identities, against the live data, all rolled back. */
export async function trial(output: Output, paths: readonly string[], options: Options): Promise<void> {
  const files = paths.length === 0 ? null : readRulebook(paths);
  if (files !== null && !checkRulebook(files).ok) {
    check(output, paths);
    return;
  }
  const client = await deskClient(output);
  const { only, as } = options;
  const request = {
    ...(files === null ? {} : { files }),
    ...(only === undefined ? {} : { only }),
    ...(as === undefined ? {} : { as }),
  };
  const report = await withProgress((show) => client.trials(request, show));
  if (options.junit !== undefined) writeFileSync(options.junit, junitReport(report));
  if (options.lines === true) {
    for (const verdict of report.verdicts) process.stdout.write(`${JSON.stringify(verdict)}\n`);
  } else {
    output.data(report);
    printReport(output, report, only !== undefined || as !== undefined);
  }
  if (report.failed > 0 || report.verdicts.length === 0) throw new CheckFailed();
}

/** Identities that one line names: an invariant is asked of all. */
const NAMED = 8;

function printReport(output: Output, report: TrialReport, chosen: boolean): void {
  for (const title of new Set(report.verdicts.map((verdict) => verdict.trial))) {
    const verdicts = report.verdicts.filter((verdict) => verdict.trial === title);
    const failed = verdicts.filter((verdict) => !verdict.passed);
    const mark = failed.length === 0 ? output.good('✓') : output.paint.bad('✗');
    const names = [...new Set(verdicts.map((verdict) => verdict.identity ?? 'visitor'))];
    const identities = names.length <= NAMED ? names.join(', ') : `${names.length} identities`;
    output.line(
      `${mark} ${output.paint.strong(title)} ${output.paint.faint(`${verdicts.length - failed.length} of ${verdicts.length} · ${identities}`)}`,
    );
    for (const verdict of failed) printFailure(output, verdict);
    if (verdicts.every(({ idle }) => idle === true))
      output.line(
        `    ${output.paint.faint('that is no test of it: none of them can do this to any record that is there')}`,
      );
    const open = new Set(verdicts.flatMap(({ notCovered }) => notCovered ?? []));
    for (const each of open)
      output.line(`    ${output.paint.faint(`nothing was found, and not everything was covered: ${each}`)}`);
  }
  for (const each of report.left) output.line(output.paint.faint(`not tried: ${each}`));
  if (report.verdicts.length === 0) {
    if (chosen) output.line('No trial is chosen by that: look at their titles, and at whom they are about.');
    else output.line('There are no trials. Write some: trial "…" { as IDENTITY { reads … } }');
    return;
  }
  const summary = `${report.passed} expectations met, ${report.failed} not, in ${report.milliseconds} ms; everything was rolled back`;
  output.line(`\n${report.failed === 0 ? output.good(summary) : output.paint.bad(summary)}`);
}

function printFailure(output: Output, { identity, expectation, file, line, failure }: VerdictDocument): void {
  output.line(
    `    as ${identity ?? 'visitor'}: ${output.paint.strong(expectation)}  ${output.paint.faint(`${file}:${line}`)}`,
  );
  output.line(`      expected  ${failure!.expected}`);
  output.line(`      actual    ${output.paint.bad(failure!.actual)}`);
  if (failure!.why === null) return;
  for (const each of whyLines(failure!.why as Why, output.whyPaint))
    output.line(each === '' ? '' : `      ${each}`);
}
