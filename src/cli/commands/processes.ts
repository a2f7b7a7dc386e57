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
 * ends by itself is followed by another. On SIGHUP each is followed by a new one, one after the other, the next being ready before the last
 * takes nothing new; so nobody is refused meanwhile. Their lines of the log come out whole, in one stream.
 */
export async function serveByProcesses(
  output: Output,
  count: number,
  metrics: Address | null,
): Promise<void> {
  cluster.setupPrimary({ silent: true });
  const house = new House(output, count);
  const watched = metrics === null ? null : metricsServer(() => metricsOfEach().then(metricsOfAll));
  if (watched !== null) {
    await listen(watched, metrics!);
    output.note(`How it is doing is told at ${metricsUrl(watched)}`);
  }
  await house.open();
  await new Promise<void>((resolve) => {
    process.once('SIGINT', resolve);
    process.once('SIGTERM', resolve);
    process.on('SIGHUP', () => void house.renew());
  });
  watched?.close();
  await house.close();
}

class House {
  readonly #output: Output;
  readonly #count: number;
  /** Those that serve, each in its place. */
  readonly #places: (Worker | null)[];
  #isOpen = false;
  #isClosing = false;
  #renewing: Promise<void> = Promise.resolve();

  constructor(output: Output, count: number) {
    this.#output = output;
    this.#count = count;
    this.#places = Array.from({ length: count }, () => null);
  }

  /** The first alone brings the database up to date, and says what is wrong with the settings; then the others. */
  async open(): Promise<void> {
    await this.#begin(0);
    this.#isOpen = true;
    const others = [...this.#places.keys()].slice(1);
    await Promise.all(others.map((place) => this.#begin(place)));
    this.#output.note(`${this.#count} processes serve; send SIGHUP to follow each with a new one`);
  }

  /** Follows each with a new one. Asked twice, it is done twice. */
  renew(): Promise<void> {
    this.#renewing = this.#renewing.then(async () => {
      for (let place = 0; place < this.#count && !this.#isClosing; place++) {
        const before = this.#places[place] ?? null;
        try {
          await this.#begin(place);
        } catch {
          // The old one goes on: nothing is lost by a new one that cannot be begun.
          this.#output.note('a new process did not become ready; the one before it goes on');
          this.#places[place] = before;
          continue;
        }
        if (before !== null) await retired(before);
      }
    });
    return this.#renewing;
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

  /** Begins a process in a place, and waits until it is ready. Throws what it ended with. */
  async #begin(place: number): Promise<void> {
    const part: ItsPart = place > 0 ? 'serves' : this.#isOpen ? 'keeps house' : 'first';
    const worker = cluster.fork({ [PART]: part });
    passOn(worker);
    await ready(worker);
    this.#places[place] = worker;
    worker.once('exit', () => {
      if (this.#places[place] === worker && !this.#isClosing) void this.#follow(place);
    });
  }

  /** Of one that has ended by itself. */
  async #follow(place: number): Promise<void> {
    this.#places[place] = null;
    for (let pause = PAUSE_MS; !this.#isClosing; pause = Math.min(2 * pause, LONGEST_PAUSE_MS)) {
      this.#output.note('a process has ended; another follows');
      await new Promise((resolve) => setTimeout(resolve, pause));
      try {
        return await this.#begin(place);
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

function ready(worker: Worker): Promise<void> {
  return new Promise((resolve, reject) => {
    const late = setTimeout(() => worker.process.kill('SIGKILL'), READY_MS);
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
