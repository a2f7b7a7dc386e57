import { execFile } from 'node:child_process';
import { join } from 'node:path';
import type { World } from './world.ts';

/** What a run of the command line came to. */
export interface Run {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}

/** The command line as people run it, against a world; `extra`: more of its environment. `with`: with standard input. */
export function firmgateOf(world: () => World, extra: Readonly<Record<string, string>> = {}) {
  const go = (input: string | null, args: readonly string[]): Promise<Run> => {
    const { FIRMGATE_DESK_TOKEN: _, ...inherited } = process.env;
    const env = {
      ...inherited,
      NO_COLOR: '1',
      FIRMGATE_URL: world().service.url,
      FIRMGATE_DEVELOPMENT_KEY: join(world().folder, 'development-key.json'),
      // Whoever is signed in on this machine is not who runs the tests.
      XDG_STATE_HOME: world().folder,
      ...extra,
    };
    return new Promise((resolve) => {
      const child = execFile('./firmgate', args, { env }, (error, out, err) =>
        resolve({ code: error === null ? 0 : Number(error.code), out, err }),
      );
      if (input !== null) child.stdin!.end(`${input}\n`);
    });
  };
  return Object.assign((...args: string[]) => go(null, args), {
    with: (input: string, ...args: string[]) => go(input, args),
  });
}
