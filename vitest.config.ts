import { defineConfig } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** The files that take longest, in that order: one that came last would run by itself, with the other workers idle. */
const LONGEST = [
  'docs/docs',
  'console/bench',
  'agreement/agreement',
  'agreement/outcomes',
  'api/while-publishing',
  'cli/cli',
  'cli/changes',
  'cli/people',
  'unit/prove',
  'console/console',
  'api/shares',
  'api/sweep',
  'agreement/proofs',
  'console/from-nothing',
];

class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const place = ({ moduleId }: TestSpecification) => {
      const at = LONGEST.findIndex((name) => moduleId.endsWith(`/test/${name}.test.ts`));
      return at === -1 ? LONGEST.length : at;
    };
    return (await super.sort(files)).toSorted((one, other) => place(one) - place(other));
  }
}

/** `unit` starts nothing; `service` needs PostgreSQL (TEST_DATABASE_URL); `console` needs Chromium as well; `large` has a script of its own. */
export default defineConfig({
  test: {
    reporters: ['default', './test/support/closing-line.ts'],
    // One more than the cores that CI has: browsers, PostgreSQL and commands are waited for.
    maxWorkers: 3,
    // Worlds share nothing but the program: files of tests may share that, too, and load it once.
    isolate: false,
    sequence: { sequencer: LongestFirst },
    testTimeout: 600_000,
    hookTimeout: 300_000,
    // For hangs; a browser beside two other workers may take seconds.
    expect: { poll: { timeout: 90_000 } },
    projects: [
      { extends: true, test: { name: 'unit', include: ['test/{unit,decide}/**/*.test.ts'] } },
      {
        extends: true,
        test: {
          name: 'service',
          include: ['test/{agreement,api,cli,client,docs,faults,scenario}/**/*.test.ts'],
        },
      },
      { extends: true, test: { name: 'console', include: ['test/console/**/*.test.ts'] } },
      { extends: true, test: { name: 'large', include: ['test/large/**/*.test.ts'] } },
    ],
  },
});
