import { problemTypes, type ProblemDocument, type ProblemType } from '../../client/schemas/problems.ts';

/** Thrown by routes; the one error handler answers it as problem details (RFC 9457). */
export class Problem extends Error {
  override readonly name = 'Problem';
  readonly type: ProblemType;
  readonly members: Pick<ProblemDocument, 'fields' | 'errors'>;
  readonly headers: Readonly<Record<string, string>>;

  constructor(
    type: ProblemType,
    members: Pick<ProblemDocument, 'fields' | 'errors'> = {},
    headers: Readonly<Record<string, string>> = {},
  ) {
    super(type);
    this.type = type;
    this.members = members;
    this.headers = headers;
  }

  get status(): number {
    return problemTypes[this.type].status;
  }

  document(request: string | undefined): ProblemDocument {
    const { status, title, next } = problemTypes[this.type];
    return {
      type: `/problems/${this.type}`,
      title,
      status,
      detail: next,
      ...this.members,
      ...(request === undefined ? {} : { request }),
    };
  }
}

/** Thrown to leave a piece of work whose caller has hung up: nobody is there to be answered. */
export class CallerGone extends Error {
  override readonly name = 'CallerGone';
}
