import { Decider } from '../../evaluate/decider.ts';
import type { Invariant, Rulebook } from '../../ir/rulebook.ts';
import { fieldOf } from '../../types/schema.ts';
import { violationBy, violationOf, type Violation } from '../violations.ts';
import { exampleOf, isRuledOut, type Solve } from './examples.ts';
import { recordSaid, saidOf, sentWords } from './said.ts';
import { mentionedBy } from './mentioned.ts';
import { searchAtRandom } from './random.ts';
import { waysOf } from './ways.ts';
import { smallest, type Found } from './worlds.ts';

export type { Solve };

/** What is known of an invariant. Only `proved` is a proof; `not decided` says nothing at all. */
export type Proof =
  /** `idle`: nobody may ever do what it speaks of, so that it holds whatever the condition. */
  | { readonly result: 'proved'; readonly idle?: true }
  | { readonly result: 'refuted'; readonly example: Example }
  | { readonly result: 'not decided'; readonly why: string };

/** An identity and a record that speak against an invariant, in lines of the language. */
export interface Example {
  readonly caller: string;
  /** What they do. */
  readonly step: string;
  readonly record: string;
  /** All other records that have a part in it. */
  readonly others: readonly string[];
  /** What may have been meant; null: nothing comes to mind. */
  readonly hint: string | null;
}

/**
 * Small worlds, made at random, in which an example is looked for where the solver has found none: about a second. Fewer where
 * each record is tried with many requests.
 */
const WORLDS = 4_000;
const WORLDS_OF_CHANGES = 300;

/**
 * Proves an invariant for all identities, all records and all steps that there could ever be, or finds the smallest example
 * against it: a step that the closures carry out. Within a time limit that `solve` keeps: what takes longer, or cannot be put to
 * a solver, is looked for among random identities and records; where none of these speaks against it, it is not decided. What
 * a proof is about, `proofScope` says.
 */
export async function prove(rulebook: Rulebook, invariant: Invariant, solve: Solve): Promise<Proof> {
  const proof = await searchProof(rulebook, invariant, solve);
  if (proof.result === 'proved')
    return (await isIdle(rulebook, invariant, solve)) ? { ...proof, idle: true } : proof;
  if (proof.result !== 'refuted') return proof;
  const { found, step } = proof;
  return { result: 'refuted', example: wordsOf(rulebook, invariant, found, step) };
}

/** The same with what was found as it is: a small world, who asks in it, and the step that they can take. */
export async function searchProof(
  rulebook: Rulebook,
  invariant: Invariant,
  solve: Solve,
): Promise<
  | Exclude<Proof, { result: 'refuted' }>
  | { readonly result: 'refuted'; readonly found: Found; readonly step: Violation }
> {
  const against = (found: Found) => stepAgainst(rulebook, invariant, found) !== null;
  const refuted = (large: Found) => {
    const found = asSpokenOf(rulebook, smallest(rulebook, large, against));
    return { result: 'refuted', found, step: stepAgainst(rulebook, invariant, found)! } as const;
  };
  let undecided: string | null = null;
  for (const way of waysOf(rulebook, invariant)) {
    const answer = await exampleOf(rulebook, invariant.collection, way.ask, against, solve);
    if (answer === 'none') continue;
    if ('record' in answer) return refuted(answer);
    undecided ??= `${answer.undecided} (${way.name})`;
  }
  if (undecided === null) return { result: 'proved' };
  const { operation } = invariant;
  const worlds =
    operation === 'read' || operation === 'delete' || operation === 'share' ? WORLDS : WORLDS_OF_CHANGES;
  const found = searchAtRandom(rulebook, invariant, worlds, against);
  if (found !== null) return refuted(found);
  const why = `${undecided}, and nobody in ${worlds} small random worlds speaks against it`;
  return { result: 'not decided', why };
}

/**
 * The solver is told of every field that could be sent: of these, an example tells those that conditions speak of, and references to
 * other records in it.
 */
function asSpokenOf(rulebook: Rulebook, found: Found): Found {
  const spoken = mentionedBy(rulebook, rulebook.schema.keys());
  const isTold = (name: string, field: string) =>
    spoken.get(name)?.has(field) === true ||
    (fieldOf(rulebook.schema, name, field)?.type.kind === 'ref' &&
      found.records.get(name)!.some((record) => (record[field] ?? null) !== null));
  const mentioned = [...found.mentioned].map(([name, fields]): [string, Set<string>] => [
    name,
    new Set([...fields].filter((field) => isTold(name, field))),
  ]);
  return { ...found, mentioned: new Map(mentioned) };
}

/** Is there no way at all to do what the invariant speaks of? Where the solver does not come to it, that is not said. */
async function isIdle(rulebook: Rulebook, invariant: Invariant, solve: Solve): Promise<boolean> {
  const never: Invariant = { ...invariant, only: { kind: 'constant', value: false } };
  for (const { ask } of waysOf(rulebook, never)) if (!(await isRuledOut(ask, solve))) return false;
  return true;
}

/** What every proof is about, and what it is not. */
export const proofScope =
  'A proof is about one step of one caller under the rules: what two steps reach together, and what is done without rules (first sign-in, invitations, provisioning, staff, publishing, import) is no part of it.';

/** A step of this caller in this world that the closures allow, and of which the condition is not true. */
function stepAgainst(
  rulebook: Rulebook,
  invariant: Invariant,
  { caller, record, world, sent }: Found,
): Violation | null {
  const decider = new Decider(rulebook, caller, world);
  const about = invariant.operation === 'create' ? null : record;
  return (
    (sent && violationBy(decider, invariant, about, sent)) ?? violationOf(decider, invariant, about).violation
  );
}

function wordsOf(
  rulebook: Rulebook,
  { collection, operation }: Invariant,
  found: Found,
  step: Violation,
): Example {
  const { record } = found;
  const { caller, others, name, words } = saidOf(rulebook, found);
  const { question, decision, side } = step;
  const made = operation === 'create';
  const what =
    question.collection === collection && !step.along ? 'it' : `a record of ${question.collection}`;
  const sent = sentWords(rulebook, question, name);
  const given = sent.length === 0 && question.operation === 'update' ? ['nothing sent'] : sent;
  const along =
    operation === 'update' ? ', and that clears a field of the record' : ', and the record goes along';
  return {
    caller,
    step: `may ${question.operation} ${made ? `a record of ${collection}` : what}${given.length === 0 ? '' : ` with ${given.join(', ')}`}${step.along ? along : ''}${side === 'after' && !made ? ': it is about the record after that' : ''}`,
    record: recordSaid(`a record of ${collection}`, words(collection, made ? decision.after! : record)),
    others,
    hint:
      side === 'after' && !made
        ? 'the condition holds before it and not after: where only the record as it was is meant, write old. before the field'
        : null,
  };
}
