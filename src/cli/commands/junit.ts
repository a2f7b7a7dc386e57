import builders, { type Builder } from 'junit-report-builder';
import { whyLines } from '../../core/explain/text.ts';
import type { Why } from '../../core/explain/why.ts';
import type { TrialReport } from '../../client/desk.ts';

/** A report of trials as JUnit XML, which build servers read: a suite for each trial, a case for each expectation. */
export function junitReport(report: TrialReport): string {
  // The package is CommonJS: what it calls its default is all of it, whatever its types say.
  const builder = (builders as unknown as Builder).newBuilder();
  for (const title of new Set(report.verdicts.map((verdict) => verdict.trial))) {
    const suite = builder.testSuite().name(title);
    for (const verdict of report.verdicts.filter((each) => each.trial === title)) {
      const { identity, expectation, file, line, failure } = verdict;
      const testCase = suite
        .testCase()
        .className(title)
        .name(`as ${identity ?? 'visitor'}: ${expectation}`)
        .file(`${file}:${line}`);
      if (failure === undefined) continue;
      const why = failure.why === null ? '' : whyLines(failure.why as Why, plain).join('\n');
      testCase.failure(`expected ${failure.expected}, actual ${failure.actual}\n${why}`, 'expectation');
    }
  }
  return builder.build();
}

const asItIs = (text: string) => text;
const plain = { yes: asItIs, no: asItIs, faint: asItIs, strong: asItIs };
