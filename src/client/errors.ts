import type { ProblemDocument, ProblemType } from './schemas/problems.ts';

/** The service answered with a problem (RFC 9457). */
export class GateProblem extends Error {
  override readonly name: string = 'GateProblem';
  readonly problem: ProblemDocument;

  constructor(problem: ProblemDocument, message: string = problem.title) {
    super(message);
    this.problem = problem;
  }

  /** What kind of problem it is: the last part of its `type`, which never changes its meaning. */
  get type(): ProblemType {
    return this.problem.type.slice(this.problem.type.lastIndexOf('/') + 1) as ProblemType;
  }

  get status(): number {
    return this.problem.status;
  }

  /** The fields that it is about, where it says so. */
  get fields(): readonly string[] {
    const named = (this.problem.errors ?? []).flatMap(({ field }) => field ?? []);
    return this.problem.fields ?? [...new Set(named)];
  }
}

/**
 * The program was written for another version of the rulebook, and asked for something that is not open to its caller in the one
 * that is in force: a field that is gone, an action that goes by another name.
 */
export class GateOutdated extends GateProblem {
  override readonly name = 'GateOutdated';
  readonly writtenFor: number;
  readonly inForce: number;

  constructor(problem: ProblemDocument, writtenFor: number, inForce: number) {
    super(
      problem,
      `this program was written for version ${writtenFor} of the rulebook, and version ${inForce} is in force, in which not everything that it asks for is open to its caller: write its types anew, with “firmgate types” (${problem.title})`,
    );
    this.writtenFor = writtenFor;
    this.inForce = inForce;
  }
}

/** No answer came: the service is not there, or what answered is not it. */
export class GateUnreachable extends Error {
  override readonly name = 'GateUnreachable';
}
