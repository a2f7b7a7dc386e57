import cluster, { type Worker } from 'node:cluster';
import { createInterface } from 'node:readline';
import type { Address } from '../../service/config.ts';
import { metricsOfAll, metricsServer, metricsUrl } from '../../service/metrics.ts';
import { listen } from '../../service/start.ts';
import type { Output } from '../output.ts';
import { EXIT, EndedWith } from '../exit.ts';

/** What a process tells the one that watches over it. */
export const READY = 'ready';
/** And what it is told: to finish what is under way, and to take nothing new. */
export const RETIRE = 'retire';
/** To say what it has counted: it answers with `told`. */
export const TELL = 'tell';

/** One of the processes does what is to be done once for all of them, and says so where it is the first of all. */
export const PART = 'FIRMGATE_PART';
export type ItsPart = 'first' | 'keeps house' | 'serves';

/** How long a process may take to be ready, and to finish what is under way. */
const READY_MS = 60_000;
const TELL_MS = 2_000;
const RETIRE_MS = 30_000;
/** A process that ended by itself is followed by another after so long, doubled each time that it ends soon. */
const PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 10_000;

/**
 * Serves with several processes on one port (node:cluster): each is the whole service, and they share nothing but the database. One that
 * ends by itself is followed by another. On SIGHUP they are replaced one by one, each new one being ready before the one before it takes nothing
 * new; so nobody is refused meanwhile. Their lines of the log come out whole, in one stream.
 */
export async function serveByProcesses(
  output: Output,
  count: number,
  metrics: Address | null,
): Promise<void> {
  cluster.setupPrimary({ silent: true });
  const processes = new Processes(output, count);
  const watched = metrics === null ? null : metricsServer(() => metricsOfEach().then(metricsOfAll));
  const told = new Promise<void>((resolve) => {
    process.once('SIGINT', resolve);
    process.once('SIGTERM', resolve);
    process.on('SIGHUP', () => void processes.replace());
  });
  try {
    if (watched !== null) {
      await listen(watched, metrics!, '--metrics');
      output.note(`Metrics are at ${metricsUrl(watched)}`);
    }
    await Promise.race([processes.open(), told]);
    await told;
  } finally {
    watched?.close();
    await processes.close();
  }
}

class Processes {
  readonly #output: Output;
  /** Those that serve, each in its place; null where one has ended. */
  readonly #places: (Worker | null)[];
  #isOpen = false;
  #isClosing = false;
  /** What is done with the places, one thing after the other: so that no place is filled twice. */
  #work: Promise<void> = Promise.resolve();

  constructor(output: Output, count: number) {
    this.#output = output;
    this.#places = Array.from({ length: count }, () => null);
  }

  /** The first alone brings the database up to date, and says what is wrong with the settings; then the others. */
  open(): Promise<void> {
    return this.#inTurn(async () => {
      // Where the database is away, they wait for it as one process does, and answer 503 meanwhile.
      await this.#begin(0, null);
      this.#isOpen = true;
      const others = [...this.#places.keys()].slice(1);
      await Promise.all(others.map((place) => this.#begin(place, null)));
      this.#output.note(`${this.#places.length} processes serve; SIGHUP replaces them one by one`);
    });
  }

  /** Replaces each by a new one. Asked twice, it is done twice. */
  replace(): Promise<void> {
    return this.#inTurn(async () => {
      for (const place of this.#places.keys()) {
        if (this.#isClosing) return;
        const before = this.#places[place] ?? null;
        try {
          await this.#begin(place, READY_MS);
        } catch {
          // Nothing is lost by a new one that cannot be begun.
          this.#output.note('a new process did not become ready; the one before it goes on');
          continue;
        }
        if (before !== null) await retired(before);
      }
    });
  }

  async close(): Promise<void> {
    this.#isClosing = true;
    const all = Object.values(cluster.workers ?? {}).filter((worker) => worker !== undefined);
    await Promise.all(
      all.map((worker) => {
        worker.process.kill('SIGTERM');
        return ended(worker, RETIRE_MS);
      }),
    );
  }

  #inTurn(work: () => Promise<void>): Promise<void> {
    const done = this.#work.then(work);
    // Whoever comes next waits for this, however it ends.
    this.#work = done.catch(() => undefined);
    return done;
  }

  /** Begins a process in a place, and waits until it is ready: so long at most, or for as long as it takes. Throws what it ended with. */
  async #begin(place: number, most: number | null): Promise<void> {
    // Whoever ends them all would not know of one more.
    if (this.#isClosing) throw new EndedWith(EXIT.well);
    const part: ItsPart = place > 0 ? 'serves' : this.#isOpen ? 'keeps house' : 'first';
    const worker = cluster.fork({ [PART]: part });
    // One that has just ended cannot be told anything: that it has ended is seen to anyway.
    worker.on('error', () => undefined);
    passOn(worker);
    await ready(worker, most);
    this.#places[place] = worker;
    worker.once('exit', () => {
      if (this.#places[place] !== worker) return;
      this.#places[place] = null;
      if (!this.#isClosing) void this.#inTurn(() => this.#follow(place));
    });
  }

  /** Of one that has ended by itself. */
  async #follow(place: number): Promise<void> {
    for (let pause = PAUSE_MS; ; pause = Math.min(2 * pause, LONGEST_PAUSE_MS)) {
      if (this.#isClosing || this.#places[place] !== null) return;
      this.#output.note('a process has ended; another follows');
      await new Promise((resolve) => setTimeout(resolve, pause));
      try {
        return await this.#begin(place, null);
      } catch {
        // It says itself why, in the log.
      }
    }
  }
}

/** What each has counted; one that does not answer in time is left out. */
async function metricsOfEach(): Promise<object[][]> {
  const all = Object.values(cluster.workers ?? {}).filter((worker) => worker?.isConnected() === true);
  const told = await Promise.all(
    all.map(
      (worker) =>
        new Promise<object[]>((resolve) => {
          const listen = (message: unknown) => {
            const said = (message as { told?: object[] } | null)?.told;
            if (said !== undefined) done(said);
          };
          const done = (said: object[]) => {
            clearTimeout(late);
            worker!.off('message', listen);
            resolve(said);
          };
          const late = setTimeout(() => done([]), TELL_MS);
          worker!.on('message', listen);
          worker!.send(TELL);
        }),
    ),
  );
  return told.filter((each) => each.length > 0);
}

/** Lines as they are, each whole. */
function passOn(worker: Worker): void {
  for (const name of ['stdout', 'stderr'] as const)
    createInterface({ input: worker.process[name]! }).on('line', (line) => process[name].write(`${line}\n`));
}

function ready(worker: Worker, most: number | null): Promise<void> {
  return new Promise((resolve, reject) => {
    const late = most === null ? undefined : setTimeout(() => worker.process.kill('SIGKILL'), most);
    worker.on('message', (message: unknown) => {
      if (message !== READY) return;
      clearTimeout(late);
      resolve();
    });
    worker.once('exit', (code) => {
      clearTimeout(late);
      reject(new EndedWith(code === 0 || code === null ? EXIT.failed : code));
    });
  });
}

async function retired(worker: Worker): Promise<void> {
  worker.send(RETIRE);
  await ended(worker, RETIRE_MS);
}

async function ended(worker: Worker, ms: number): Promise<void> {
  if (worker.isDead()) return;
  const late = setTimeout(() => worker.process.kill('SIGKILL'), ms);
  await new Promise((resolve) => worker.once('exit', resolve));
  clearTimeout(late);
}
