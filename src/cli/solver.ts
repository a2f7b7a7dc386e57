import type { Solve } from '../core/analysis/prove/index.ts';

/** A solver, and how to let go of it. */
export interface Solver {
  readonly solve: Solve;
  close(): void;
}

/**
 * The SMT solver z3, as WebAssembly: loaded only when it is asked for, since it takes a third of a second and 150 MB.
 * `seconds`: for each question; what takes longer is answered “unknown”.
 */
export async function openSolver(seconds: number): Promise<Solver> {
  const { init } = await import('z3-solver');
  const { Z3, em } = (await init()) as { Z3: LowLevel; em: Memory };
  return {
    async solve(text) {
      const config = Z3.mk_config();
      const context = Z3.mk_context(config);
      // The package would put the text on the stack of this thread, and give it free while the solver's own thread still
      // reads it: now and then another question would be answered than was asked. On the heap it stays as it is.
      const bytes = Buffer.from(`(set-option :timeout ${seconds * 1_000})\n${text}\0`);
      const place = em._malloc(bytes.length);
      try {
        new Uint8Array(em.HEAPU32.buffer).set(bytes, place);
        return await em.async_call(() => em._async_Z3_eval_smtlib2_string(context, place));
      } finally {
        em._free(place);
        // Each context that is not given back keeps its memory.
        Z3.del_context(context);
        Z3.del_config(config);
      }
    },
    close() {
      const { runningWorkers = [], unusedWorkers = [] } = em.PThread ?? {};
      const workers = [...runningWorkers, ...unusedWorkers];
      em.PThread?.terminateAllThreads?.();
      // One that was about to end by itself may say so now. The package would tell of it on standard error.
      for (const worker of workers) worker.onmessage = () => undefined;
    },
  };
}

/** The few functions of the solver that are used here. */
interface LowLevel {
  mk_config(): unknown;
  mk_context(config: unknown): unknown;
  del_context(context: unknown): void;
  del_config(config: unknown): void;
}

interface SolverThread {
  onmessage: (message: unknown) => void;
}

/** What the solver's WebAssembly module shows of itself. */
interface Memory {
  readonly HEAPU32: Uint32Array;
  readonly PThread?: {
    readonly runningWorkers?: readonly SolverThread[];
    readonly unusedWorkers?: readonly SolverThread[];
    terminateAllThreads?: () => void;
  };
  _malloc(bytes: number): number;
  _free(place: number): void;
  async_call(work: () => void): Promise<string>;
  _async_Z3_eval_smtlib2_string(context: unknown, text: number): void;
}
