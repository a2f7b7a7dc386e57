import type { Progress } from '../client/desk.ts';

/** Nothing is said of what takes less. */
const SILENT_MILLISECONDS = 1_000;

/**
 * Shows on a terminal how far a report is, on one line of standard error that is wiped away at the end. Where standard
 * error is no terminal nothing is written.
 */
export class ProgressLine {
  readonly #began = performance.now();
  #shown = false;

  readonly show = ({ done, total, doing }: Progress): void => {
    if (!process.stderr.isTTY || performance.now() - this.#began < SILENT_MILLISECONDS) return;
    this.#shown = true;
    const width = (process.stderr.columns ?? 80) - 1;
    process.stderr.write(`\r\u001B[K${`${done} of ${total}  ${doing}`.slice(0, width)}`);
  };

  end(): void {
    if (this.#shown) process.stderr.write('\r\u001B[K');
  }
}

/** Does the work with a progress line, which is gone afterwards, however it ended. */
export async function withProgress<T>(work: (show: (progress: Progress) => void) => Promise<T>): Promise<T> {
  const line = new ProgressLine();
  try {
    return await work(line.show);
  } finally {
    line.end();
  }
}
