import type { Reporter, TestModule } from 'vitest/node';

/** Ends a run with the plain line `N passed, N failed, N skipped`, which every CI can read. */
export default class ClosingLine implements Reporter {
  onTestRunEnd(modules: readonly TestModule[]): void {
    const counts = { passed: 0, failed: 0, skipped: 0 };
    for (const module of modules) {
      for (const test of module.children.allTests()) {
        const { state } = test.result();
        if (state === 'pending') counts.failed++;
        else counts[state]++;
      }
      // A file that could not even be read has no tests, and is a failure all the same.
      if (!module.ok() && [...module.children.allTests('failed')].length === 0) counts.failed++;
    }
    process.stdout.write(`\n${counts.passed} passed, ${counts.failed} failed, ${counts.skipped} skipped\n`);
  }
}
