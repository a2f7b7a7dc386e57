import { spawn, type ChildProcess } from 'node:child_process';

/** A service that is measured, in a process of its own. */
export interface Server {
  readonly name: string;
  readonly url: string;
  readonly process: ChildProcess;
  /** Where the collection is found. */
  readonly path: string;
}

export async function start(
  name: string,
  path: string,
  args: readonly string[],
  env: Record<string, string>,
): Promise<Server> {
  const child = spawn(process.execPath, args, {
    env: { ...process.env, NODE_ENV: 'production', ...env },
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  const found = await new Promise<string>((resolve, reject) => {
    let said = '';
    const listen = (piece: Buffer) => {
      said += piece.toString();
      const match = /listens on (http:\/\/[\d.:]+)/.exec(said);
      if (match !== null) resolve(match[1]!);
    };
    child.stdout.on('data', listen);
    child.stderr.on('data', listen);
    child.once('exit', () => reject(new Error(`${name} did not start: ${said}`)));
  });
  return { name, url: found, process: child, path };
}

/** The gated service on the records of the benchmark. */
export async function startGated(root: string, url: string, issuersFile: string): Promise<Server> {
  const program = `${root}/dist/program/main.js`;
  const options = ['--port', '0', '--log', 'error', '--issuers', issuersFile, '--database', url];
  const server = await start('gated', '/v1/records/hives', [program, 'serve', ...options], {});
  // It listens before it has looked at the database.
  while (
    (await fetch(`${server.url}/v1/health`)).status !== 200 ||
    (await fetch(`${server.url}/v1/me`)).status !== 200
  )
    await new Promise((resolve) => setTimeout(resolve, 50));
  return server;
}
