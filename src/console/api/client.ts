import { DeskClient, GateProblem } from '../../client/desk.ts';

/** The console reaches the service through the client alone, with the session of the browser. */
export const gate = new DeskClient({ url: '' });

/** Did the service answer that nobody is signed in? */
export function isSignedOut(error: unknown): boolean {
  return error instanceof GateProblem && error.problem.status === 401;
}

/** An error as words: what happened, and what to do next. */
export function describeError(error: unknown): { title: string; detail: string } {
  if (error instanceof GateProblem) {
    const { title, detail, errors = [] } = error.problem;
    const spots = errors.map(({ message, column, hint }) => {
      const place = column === undefined ? '' : `at character ${column}: `;
      return `${place}${message}${hint === undefined ? '' : ` — ${hint}`}`;
    });
    return { title, detail: spots.length === 0 ? detail : spots.join('; ') };
  }
  return {
    title: 'The service does not answer',
    detail: 'Check that it is running; this page tries again when you ask it to.',
  };
}
