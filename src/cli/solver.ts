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
  const { Z3, em } = (await init()) as {
    Z3: LowLevel;
    em: { PThread?: { terminateAllThreads?: () => void } };
  };
  return {
    async solve(text) {
      const config = Z3.mk_config();
      const context = Z3.mk_context(config);
      try {
        return await Z3.eval_smtlib2_string(context, `(set-option :timeout ${seconds * 1_000})\n${text}`);
      } finally {
        // Each context that is not given back keeps its memory.
        Z3.del_context(context);
        Z3.del_config(config);
      }
    },
    close() {
      em.PThread?.terminateAllThreads?.();
    },
  };
}

/** The few functions of the solver that are used here. */
interface LowLevel {
  mk_config(): unknown;
  mk_context(config: unknown): unknown;
  del_context(context: unknown): void;
  del_config(config: unknown): void;
  eval_smtlib2_string(context: unknown, text: string): Promise<string>;
}
