import type { Expectation, GivenValue, GivenValues, Rulebook, Trial } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import { sameValue } from '../types/values.ts';
import type { Choice } from './choice.ts';
import type { WhyAsked, Rehearsal, TrialPort, TrialSession } from './port.ts';
import type { Failure, Verdict } from './verdict.ts';

/**
 * Runs trials one expectation after the other. Never throws for what a trial says: a record that is not there, or
 * an identity that may not sign in, is a failed expectation with words. Cost: a few questions to the port for each.
 */
export async function* runTrials(
  rulebook: Rulebook,
  trials: readonly Trial[],
  port: TrialPort,
): AsyncGenerator<Verdict> {
  for (const trial of trials) {
    const obstacle = trial.given.length === 0 ? null : await port.give(trial.given);
    for (const part of trial.parts) {
      const session = await port.session(part.identity, part.at);
      for (const expectation of part.expectations) {
        const judge = new Judge(rulebook, port, session);
        const failure =
          obstacle === null
            ? await judge.judge(expectation)
            : { expected: 'the records that are given can be put in place', actual: obstacle, why: null };
        yield {
          trial: trial.title,
          identity: part.identity,
          expectation: expectation.text,
          span: expectation.span,
          passed: failure === null,
          ...(failure === null ? {} : { failure }),
        };
      }
    }
    if (trial.given.length > 0) await port.takeBack();
  }
}

/**
 * Asks of test identities and the visitor whether invariants hold on the records that are there. Nothing that
 * is found is a proof: it holds for these callers and these records.
 */
export async function* tryInvariants(
  rulebook: Rulebook,
  { invariants, identities }: Pick<Choice, 'invariants' | 'identities'>,
  port: TrialPort,
): AsyncGenerator<Verdict> {
  for (const identity of invariants.length === 0 ? [] : identities) {
    const session = await port.session(identity, null);
    // Somebody who may not sign in does nothing at all.
    if (session === null) continue;
    for (const invariant of invariants) {
      const { title, text, span, operation, collection } = invariant;
      const { found, notCovered, idle } = await session.against(invariant);
      const expected = `nobody may ${operation} a record of ${collection} for whom the condition is not true of it`;
      const failure =
        found === null
          ? null
          : {
              expected,
              actual: found.actual,
              untold: 'a step against it was found',
              why: await session.why(found.question),
            };
      yield {
        trial: title,
        identity,
        expectation: text,
        span,
        passed: failure === null,
        ...(notCovered === null ? {} : { notCovered }),
        ...(idle ? { idle } : {}),
        ...(failure === null ? {} : { failure }),
      };
    }
  }
}

/** Thrown inside a judgement when a name of the trial cannot be found in the data. */
class CannotJudge extends Error {}

class Judge {
  readonly #rulebook: Rulebook;
  readonly #port: TrialPort;
  readonly #session: TrialSession | null;

  constructor(rulebook: Rulebook, port: TrialPort, session: TrialSession | null) {
    this.#rulebook = rulebook;
    this.#port = port;
    this.#session = session;
  }

  /** What is wrong, or null where the expectation is met. */
  async judge(expectation: Expectation): Promise<Failure | null> {
    if (this.#session === null) return judgeSignedOut(expectation);
    try {
      return await this.#judgeAs(this.#session, expectation);
    } catch (error) {
      if (!(error instanceof CannotJudge)) throw error;
      return { expected: expectation.text, actual: error.message, why: null };
    }
  }

  async #judgeAs(session: TrialSession, expectation: Expectation): Promise<Failure | null> {
    const { collection } = expectation;
    switch (expectation.kind) {
      case 'reads none': {
        const count = await session.count(collection);
        if (count === 0) return null;
        const some = await session.others(collection, []);
        return this.#readFailure(
          session,
          collection,
          some[0],
          `no record of ${collection}`,
          `reads ${count}: ${listed(some, count)}`,
          `reads ${count}`,
        );
      }
      case 'reads':
        return this.#judgeReads(session, expectation);
      case 'reads only where': {
        const count = await session.count(collection);
        const expected = 'at least one record, and only such';
        if (count === 0) return { expected, actual: `reads no record of ${collection}`, why: null };
        const outside = await session.outside(collection, expectation.where);
        if (outside.length === 0) return null;
        return this.#readFailure(
          session,
          collection,
          outside[0],
          expected,
          `also reads ${listed(outside, outside.length)}`,
          'also reads others',
        );
      }
      case 'read': {
        const id = await this.#find(collection, expectation.label);
        const seen = await session.read(collection, id);
        if ((seen !== null) === expectation.allowed) return null;
        return this.#failure(
          session,
          { operation: 'read', collection, id, values: new Map() },
          expectation.allowed ? 'it is readable' : 'it is not readable',
          seen === null ? 'it is not readable' : 'it is readable',
        );
      }
      case 'withheld':
      case 'shows':
        return this.#judgeFields(session, expectation);
      case 'update': {
        const id = await this.#find(collection, expectation.label);
        const values = await this.#values(session, expectation.values);
        const { action } = expectation;
        const rehearsal =
          action === null
            ? await session.update(collection, id, values)
            : await session.act(collection, id, action, values);
        const failure = await this.#judgeWrite(session, expectation, rehearsal, {
          operation: action ?? 'update',
          collection,
          id,
          values,
        });
        if (failure !== null || rehearsal.kind !== 'done') return failure;
        return this.#judgeGiving(session, collection, expectation.giving, rehearsal.values);
      }
      case 'delete': {
        const id = await this.#find(collection, expectation.label);
        const rehearsal = await session.delete(collection, id);
        const failure = await this.#judgeWrite(session, expectation, rehearsal, {
          operation: 'delete',
          collection,
          id,
          values: new Map(),
        });
        return failure ?? judgeTakes(expectation.takes, rehearsal);
      }
      case 'share': {
        const { label, target, operations } = expectation;
        const id = await this.#find(collection, label);
        const rehearsal = await session.share(collection, id, target, operations);
        return this.#judgeWrite(session, expectation, rehearsal, {
          operation: 'share',
          collection,
          id,
          values: new Map(),
        });
      }
      case 'create': {
        const values = await this.#values(session, expectation.values);
        const rehearsal = await session.create(collection, values);
        const failure = await this.#judgeWrite(session, expectation, rehearsal, {
          operation: 'create',
          collection,
          id: null,
          values,
        });
        if (failure !== null || rehearsal.kind !== 'done') return failure;
        return this.#judgeGiving(session, expectation.collection, expectation.giving, rehearsal.values);
      }
    }
  }

  async #judgeReads(
    session: TrialSession,
    expectation: Expectation & { kind: 'reads' },
  ): Promise<Failure | null> {
    const { collection, labels } = expectation;
    const ids: string[] = [];
    for (const label of labels) {
      const id = await this.#find(collection, label);
      ids.push(id);
      if ((await session.read(collection, id)) !== null) continue;
      return this.#failure(
        session,
        { operation: 'read', collection, id, values: new Map() },
        `${label} is readable`,
        `${label} is not readable`,
      );
    }
    if (!expectation.only) return null;
    const others = await session.others(collection, ids);
    if (others.length === 0) return null;
    const count = (await session.count(collection)) - new Set(ids).size;
    return this.#readFailure(
      session,
      collection,
      others[0],
      'nothing else is readable',
      `also reads ${count}: ${listed(others, count)}`,
      `also reads ${count}`,
    );
  }

  async #judgeFields(
    session: TrialSession,
    expectation: Expectation & { kind: 'withheld' | 'shows' },
  ): Promise<Failure | null> {
    const { collection, kind, fields, label } = expectation;
    const id = await this.#find(collection, label);
    const seen = await session.read(collection, id);
    const question = { operation: 'read', collection, id, values: new Map(), fields } as const;
    const expected =
      kind === 'shows'
        ? `${label} is readable, with ${fields.join(', ')}`
        : `${label} is readable, without ${fields.join(', ')}`;
    if (seen === null) return this.#failure(session, question, expected, `${label} is not readable at all`);
    const wrong = fields.filter((field) => seen.shown.has(field) !== (kind === 'shows'));
    if (wrong.length === 0) return null;
    return this.#failure(
      session,
      { ...question, fields: wrong },
      expected,
      `${wrong.join(', ')} ${wrong.length === 1 ? 'is' : 'are'} ${kind === 'shows' ? 'withheld' : 'shown'}`,
    );
  }

  async #judgeWrite(
    session: TrialSession,
    expectation: Expectation & { allowed: boolean },
    rehearsal: Rehearsal,
    question: WhyAsked,
  ): Promise<Failure | null> {
    const verb = question.operation;
    if (expectation.allowed) {
      if (rehearsal.kind === 'done') return null;
      return this.#failure(session, question, `the ${verb} is allowed`, rehearsal.reason);
    }
    if (rehearsal.kind === 'denied') return null;
    // “may not” is about rules: a value that is taken, say, would hide a rule that lets the write through.
    const actual =
      rehearsal.kind === 'done'
        ? `the ${verb} is allowed`
        : `it was not a rule that stopped it: ${rehearsal.reason}`;
    return this.#failure(session, question, `a rule is lacking for the ${verb}`, actual);
  }

  async #judgeGiving(
    session: TrialSession,
    collection: string,
    giving: GivenValues,
    values: ReadonlyMap<string, Value>,
  ): Promise<Failure | null> {
    const { fields } = collectionOf(this.#rulebook.schema, collection);
    for (const [name, wanted] of await this.#values(session, giving)) {
      const found = values.get(name) ?? null;
      if (sameValue(fields.get(name)!.type, wanted, found)) continue;
      return {
        expected: `${name} = ${JSON.stringify(wanted)}`,
        actual: `${name} = ${JSON.stringify(found)}`,
        untold: `${name} has another value`,
        why: null,
      };
    }
    return null;
  }

  async #find(collection: string, label: string): Promise<string> {
    const ids = await this.#port.find(collection, label);
    if (ids.length === 1) return ids[0]!;
    const problem = ids.length === 0 ? 'there is no such record' : 'more than one record has this label';
    throw new CannotJudge(`${collection} “${label}”: ${problem}`);
  }

  async #values(session: TrialSession, given: GivenValues): Promise<Map<string, Value>> {
    const values = new Map<string, Value>();
    for (const [field, each] of given) values.set(field, await this.#value(session, each));
    return values;
  }

  async #value(session: TrialSession, given: GivenValue): Promise<Value> {
    switch (given.kind) {
      case 'value':
        return given.value;
      case 'now':
        return session.now;
      case 'me':
        return session.me;
      case 'identity':
        return this.#port.person(given.name);
      case 'label':
        return this.#find(given.collection, given.label);
    }
  }

  async #readFailure(
    session: TrialSession,
    collection: string,
    label: string | undefined,
    expected: string,
    actual: string,
    untold: string,
  ): Promise<Failure> {
    const ids = label === undefined ? [] : await this.#port.find(collection, label);
    if (ids.length !== 1) return { expected, actual, untold, why: null };
    const question = { operation: 'read', collection, id: ids[0]!, values: new Map() } as const;
    return { ...(await this.#failure(session, question, expected, actual)), untold };
  }

  async #failure(
    session: TrialSession,
    question: WhyAsked,
    expected: string,
    actual: string,
  ): Promise<Failure> {
    return { expected, actual, why: await session.why(question) };
  }
}

/** All that goes along is named, and nothing that does not. */
function judgeTakes(
  takes: (Expectation & { kind: 'delete' })['takes'],
  rehearsal: Rehearsal,
): Failure | null {
  if (takes === null || rehearsal.kind !== 'done') return null;
  const words = (all: Iterable<readonly [string, readonly string[]]>) =>
    [...all].flatMap(([collection, labels]) => labels.map((label) => `${collection} “${label}”`)).toSorted();
  const wanted = words(takes.map(({ collection, labels }) => [collection, labels]));
  const found = words(rehearsal.along ?? []);
  if (JSON.stringify(wanted) === JSON.stringify(found)) return null;
  return {
    expected: `it takes along ${wanted.join(', ')}`,
    actual: found.length === 0 ? 'it takes nothing along' : `it takes along ${found.join(', ')}`,
    ...(found.length === 0 ? {} : { untold: 'it takes other records along' }),
    why: null,
  };
}

/** Somebody who cannot sign in reads and changes nothing: what may not happen does not, all else fails. */
function judgeSignedOut(expectation: Expectation): Failure | null {
  const nothingExpected =
    expectation.kind === 'reads none' || ('allowed' in expectation && !expectation.allowed);
  if (nothingExpected) return null;
  return {
    expected: expectation.text,
    actual: 'the identity is deactivated: every request of theirs is answered with 401',
    why: null,
  };
}

function listed(labels: readonly string[], count: number): string {
  return labels.join(', ') + (count > labels.length ? ', …' : '');
}
