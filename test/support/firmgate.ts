import { execFile } from 'node:child_process';
import { join } from 'node:path';
import type { World } from './world.ts';

/** What a run of the command line came to. */
export interface Run {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}

/** The command line as people run it, against a world; `extra`: more of its environment. */
export function firmgateOf(world: () => World, extra: Readonly<Record<string, string>> = {}) {
  return (...args: string[]): Promise<Run> => {
    const env = {
      ...process.env,
      NO_COLOR: '1',
      FIRMGATE_URL: world().service.url,
      FIRMGATE_DEVELOPMENT_KEY: join(world().folder, 'development-key.json'),
      ...extra,
    };
    return new Promise((resolve) => {
      execFile('./firmgate', args, { env }, (error, out, err) =>
        resolve({ code: error === null ? 0 : Number(error.code), out, err }),
      );
    });
  };
}
