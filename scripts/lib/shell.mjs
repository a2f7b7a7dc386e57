// Running other programs, with Node alone: this must work before anything is installed.
import { spawn, spawnSync } from 'node:child_process';

export const root = new URL('../..', import.meta.url).pathname.replace(/\/$/, '');

/** Ends the script with words that say what to do next. */
export function stop(message) {
  console.error(`\n${message}`);
  process.exit(1);
}

/** Runs a program to its end; answers what it printed. Throws with what it said where it fails. */
export function capture(command, args, options = {}) {
  const result = spawnSync(command, args, { cwd: root, encoding: 'utf8', ...options });
  if (result.error) throw result.error;
  if (result.status !== 0)
    throw new Error(`${command} ${args[0] ?? ''} failed:\n${result.stdout}${result.stderr}`);
  return result.stdout;
}

/** Does a program answer at all? */
export function answers(command, args = ['--version']) {
  return spawnSync(command, args, { stdio: 'ignore' }).status === 0;
}

/** Runs a program with its output shown; answers its exit code. A signal to us is for the program to handle. */
export function show(command, args, env = {}) {
  return new Promise((resolve, reject) => {
    const child = spawn(command, args, { cwd: root, stdio: 'inherit', env: { ...process.env, ...env } });
    const pass = (signal) => child.kill(signal);
    const ignore = () => undefined;
    process.on('SIGINT', ignore);
    process.on('SIGTERM', pass);
    child.once('error', reject);
    child.once('exit', (code, signal) => {
      process.off('SIGINT', ignore);
      process.off('SIGTERM', pass);
      resolve(code ?? (signal === 'SIGINT' ? 0 : 1));
    });
  });
}

/** Runs a program beside others; answers its exit code, and all that it said. */
export function collected(command, args) {
  return new Promise((resolve, reject) => {
    const child = spawn(command, args, { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] });
    let said = '';
    child.stdout.on('data', (piece) => (said += piece));
    child.stderr.on('data', (piece) => (said += piece));
    child.once('error', reject);
    child.once('close', (code) => resolve({ code: code ?? 1, said }));
  });
}

/** Runs one step of the set-up and says how it went, in one line. */
export async function step(title, work) {
  const began = Date.now();
  const done = await work();
  const seconds = ((Date.now() - began) / 1000).toFixed(1);
  console.log(`✓ ${done ?? title} (${seconds} s)`);
}
