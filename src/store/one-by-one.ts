import type { Database } from './connection.ts';
import { remembered } from '../core/decide/remembered.ts';
import { DatabaseUnavailable } from './failures.ts';

/**
 * Work of one kind, one after the other in this process, by groups that do not wait for each other. Whoever waits does so without a
 * connection, so that some are left for whoever works; more than `most` are turned away (`DatabaseUnavailable`). What another process does
 * meanwhile, a lock of the database decides.
 */
export class OneByOne {
  /** Of each database by itself, as in tests there are many in one process. */
  readonly #queues = new WeakMap<object, Map<string, { last: Promise<void>; length: number }>>();
  readonly #most: number;
  readonly #tooMany: string;

  constructor(most: number, tooMany: string) {
    this.#most = most;
    this.#tooMany = tooMany;
  }

  async run<T>(database: Database, work: () => Promise<T>, group = ''): Promise<T> {
    const end = await this.turn(database, group);
    try {
      return await work();
    } finally {
      end();
    }
  }

  /** Waits for its turn, which lasts until what is answered is called. */
  async turn(database: Database, group = ''): Promise<() => void> {
    const queues = remembered(this.#queues, database.client as object, () => new Map());
    const queue = remembered(queues, group, () => ({ last: Promise.resolve(), length: 0 }));
    if (queue.length >= this.#most) throw new DatabaseUnavailable(this.#tooMany);
    queue.length++;
    const { last } = queue;
    let end = () => {};
    queue.last = new Promise<void>((resolve) => {
      end = () => {
        queue.length--;
        resolve();
      };
    });
    await last;
    return end;
  }
}
