import { defineConfig } from 'vitest/config';
import {
  BaseSequencer,
  type Reporter,
  type TestModule,
  type TestSpecification,
  type Vitest,
} from 'vitest/node';

const tests = JSON.parse(process.env.MUTANTS_TESTS ?? '[]') as string[];

/** In the order in which they are named: the quick ones first, since the first that fails is enough. */
class AsNamed extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const place = ({ moduleId }: TestSpecification) => tests.findIndex((each) => moduleId.endsWith(each));
    return files.toSorted((one, other) => place(one) - place(other));
  }
}

/**
 * A break by which a file of tests cannot be loaded, or cannot be made ready, is noticed by all of them; but as none of them runs, it would be
 * taken for one that none notices. So it is told as what it is.
 */
class TellsOfFiles implements Reporter {
  #vitest: Vitest | null = null;

  onInit(vitest: Vitest): void {
    this.#vitest = vitest;
  }

  onTestModuleEnd(file: TestModule): void {
    for (const error of file.errors()) this.#vitest!.state.catchError(error, 'Unhandled Error');
  }
}

/** The tests that mutants of one folder are tried against: see scripts/mutants.mjs, which names them. */
export default defineConfig({
  test: {
    include: tests,
    // Proofs and the shrinking of rulebooks take long, and say nothing about what they run on.
    ...(process.env.MUTANTS_WITHOUT ? { testNamePattern: `^(?!.*(${process.env.MUTANTS_WITHOUT}))` } : {}),
    testTimeout: 120_000,
    hookTimeout: 60_000,
    fileParallelism: false,
    isolate: false,
    bail: 1,
    reporters: [new TellsOfFiles()],
    sequence: { sequencer: AsNamed },
  },
});
