import type { Caller } from '../core/decide/caller.ts';
import type { Why } from '../core/explain/why.ts';
import type { Operation, Rulebook } from '../core/ir/rulebook.ts';
import { Access } from '../core/sql/access.ts';
import type { Rehearsal } from '../core/trial/port.ts';
import type { Value } from '../core/types/types.ts';
import { arrive, type Credentials } from './callers.ts';
import type { Database, Executor } from './connection.ts';
import { explanation, type WhyQuestion } from './explanation.ts';
import { rolledBackAnew } from './roll-back.ts';
import { mayShare } from './shares/change.ts';
import { StoreSession } from './trials/port.ts';

export interface WhyAnswer {
  readonly why: Why;
  /** What the very functions that serve requests say, in the same snapshot; what they would write is taken back. */
  readonly served: { readonly allowed: boolean; readonly note: string | null };
}

/**
 * Explains one answer, and asks the serving side for the same one. Null where the caller may not sign in; `no record`
 * where there is none with this id. All of it in one snapshot, which begins with `enter`, and is taken back.
 */
export async function answerWhy(
  database: Database,
  rulebook: Rulebook,
  credentials: Credentials,
  question: WhyQuestion,
  options: { readonly name: string; readonly showSensitive: boolean },
  enter: (on: Executor) => Promise<unknown> = async () => undefined,
): Promise<WhyAnswer | 'signed out' | 'no record'> {
  return rolledBackAnew(
    database,
    async (on) => {
      await enter(on);
      const arrival = await arrive(on, rulebook, credentials, { at: question.at, toEvaluate: true });
      if (arrival === null) return 'signed out';
      const { caller, now } = arrival;
      const why = await explanation(on, rulebook, caller, now, question, options);
      if (why === null) return 'no record';
      return { why, served: await servedAnswer(on, rulebook, caller, now, question, options.name) };
    },
    { isolationLevel: 'repeatable read' },
  );
}

async function servedAnswer(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  { operation, collection, id, values, fields }: WhyQuestion,
  name: string,
): Promise<WhyAnswer['served']> {
  const session = new StoreSession(on, new Access(rulebook, caller, now), name);
  if (operation === 'read') {
    const seen = await session.read(collection, id!);
    return { allowed: seen !== null && fields.every((field) => seen.shown.has(field)), note: null };
  }
  if (operation === 'share') {
    const access = new Access(rulebook, caller, now);
    const may = await mayShare(on, access, collection, id!);
    return { allowed: may.read && may.share, note: null };
  }
  const rehearsal = await rehearse(session, operation, collection, id, values);
  // What is not about rules (a value that is taken, say) is told beside the answer that rules give.
  if (rehearsal.kind === 'failed')
    return { allowed: true, note: `rules allow it, and yet it fails: ${rehearsal.reason}` };
  return { allowed: rehearsal.kind === 'done', note: null };
}

function rehearse(
  session: StoreSession,
  operation: Operation,
  collection: string,
  id: string | null,
  values: ReadonlyMap<string, Value>,
): Promise<Rehearsal> {
  switch (operation) {
    case 'create':
      return session.create(collection, values);
    case 'update':
      return session.update(collection, id!, values);
    case 'delete':
      return session.delete(collection, id!);
    default:
      return session.act(collection, id!, operation, values);
  }
}
