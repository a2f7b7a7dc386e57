import { GateProblem, GateUnreachable } from '../client/desk.ts';
import { ConfigError } from '../service/config.ts';
import type { Output } from './output.ts';

/** Exit codes: 0 all well, 1 a check failed, 2 misuse, 3 service not reachable. */
export const EXIT = { well: 0, failed: 1, misuse: 2, unreachable: 3 } as const;

/** The command was called wrongly; the message says how to call it. */
export class Misuse extends Error {
  override readonly name = 'Misuse';
}

/** A check that the command is for has failed; everything was said already. */
export class CheckFailed extends Error {
  override readonly name = 'CheckFailed';
}

/** Another process has ended with this code, and has said why. */
export class EndedWith extends Error {
  readonly code: number;

  constructor(code: number) {
    super('another process has ended');
    this.code = code;
  }
}

/** Says what went wrong and what to do next, and answers the exit code. */
export function explainFailure(error: unknown, output: Output): number {
  if (error instanceof CheckFailed) return EXIT.failed;
  if (error instanceof EndedWith) return error.code;
  if (error instanceof GateProblem) {
    output.problem(error.problem);
    return error.problem.status === 503 ? EXIT.unreachable : EXIT.failed;
  }
  if (error instanceof GateUnreachable) {
    output.error(
      error.message,
      'Is the service running? Start it with “firmgate serve”, or name it in FIRMGATE_URL.',
    );
    return EXIT.unreachable;
  }
  if (error instanceof Misuse || error instanceof ConfigError) {
    output.error(error.message);
    return EXIT.misuse;
  }
  throw error;
}
