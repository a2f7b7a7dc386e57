import { Decider } from '../../evaluate/decide.ts';
import { compilePredicate } from '../../evaluate/closures.ts';
import {
  actionGrants,
  covering,
  fieldFences,
  promotesItself,
  recordFences,
  type Grants,
} from '../../evaluate/combine.ts';
import { rolesFor } from '../../evaluate/caller.ts';
import { shareableCollections } from '../../evaluate/shares.ts';
import { maysOf } from '../../ir/conditions.ts';
import { actionKey, type Invariant, type Rulebook } from '../../ir/rulebook.ts';
import { PEOPLE } from '../../types/schema.ts';
import { CannotEncode } from './declarations.ts';
import { Encoder } from './encode.ts';
import { readModel, recordWords } from './model.ts';
import { searchAtRandom } from './random.ts';
import { smallest, type Found } from './worlds.ts';

/** Answers SMT-LIB 2.6: the solver’s lines, one for each command that answers. */
export type Solve = (text: string) => Promise<string>;

/** What is known of an invariant. Only `proved` is a proof; `not decided` says nothing at all. */
export type Proof =
  | { readonly result: 'proved' }
  | { readonly result: 'refuted'; readonly example: Example }
  | { readonly result: 'not decided'; readonly why: string };

/** An identity and a record that speak against an invariant, in lines of the language. */
export interface Example {
  readonly caller: string;
  readonly record: string;
  /** All other records that have a part in it. */
  readonly others: readonly string[];
}

/** Sizes of the worlds in which an example is looked for: records of each collection. */
const SIZES = [1, 2, 3];

/** Small worlds, made at random, in which an example is looked for where the solver has found none: about a second. */
const WORLDS = 4_000;

/**
 * Proves an invariant for all identities and records that there could ever be, or finds the smallest example against it.
 * An example is told only when the closures agree with it. Within a time limit that `solve` keeps: what takes longer, or
 * cannot be put to a solver, is looked for among random identities and records; where none of these speaks against it, it
 * is not decided.
 */
export async function prove(rulebook: Rulebook, invariant: Invariant, solve: Solve): Promise<Proof> {
  const shared = sharedBeyondProof(rulebook, invariant);
  const against = (found: Found) => speaksAgainst(rulebook, invariant, found);
  const refuted = (found: Found): Proof => ({
    result: 'refuted',
    example: exampleOf(rulebook, invariant, smallest(rulebook, found, against)),
  });
  const answer = await askSolver(rulebook, invariant, solve, against);
  if (answer === 'proved')
    return shared === null ? { result: 'proved' } : { result: 'not decided', why: shared };
  if ('record' in answer) return refuted(answer);
  const found = searchAtRandom(rulebook, invariant, WORLDS, against);
  if (found !== null) return refuted(found);
  const why = `${answer.undecided}, and nobody in ${WORLDS} small random worlds speaks against it`;
  return { result: 'not decided', why };
}

/**
 * A proof is over rules and fences. Where records that it is about can be shared, somebody may do with one what another
 * person may: that is a third party that no question to the solver has. It may still be refuted. Null where nothing is shared.
 */
function sharedBeyondProof(rulebook: Rulebook, { collection, operation, only }: Invariant): string | null {
  const shareable = shareableCollections(rulebook);
  const reading = [
    collection,
    ...[...rulebook.rules, ...rulebook.fences].flatMap(({ when }) =>
      maysOf(when).map((may) => may.collection),
    ),
    ...maysOf(only).map((may) => may.collection),
  ];
  const touched = reading.find((each) => shareable.has(each));
  if (touched === undefined || operation === 'create') return null;
  return `the rules keep to it, but records of ${touched} can be shared, and what is shared is not part of the proof: fence it, or let a sweep and the trials watch it`;
}

/** Proved, an example that the closures bear out, or why neither. */
async function askSolver(
  rulebook: Rulebook,
  invariant: Invariant,
  solve: Solve,
  against: (found: Found) => boolean,
): Promise<'proved' | Found | { readonly undecided: string }> {
  try {
    const open = new Encoder(rulebook, null).question(invariant);
    const [answer] = (await solve(open.text)).trim().split('\n');
    if (answer === 'unsat') return 'proved';
    let why =
      answer === 'sat' ? 'the solver’s example is no real one' : 'the solver came to no answer in time';
    for (const size of SIZES) {
      const encoder = new Encoder(rulebook, size);
      const { text, get } = encoder.question(invariant);
      const told = (await solve(`${text}\n(get-value (${get.join(' ')}))`)).trim();
      if (!told.startsWith('sat')) {
        if (!told.startsWith('unsat')) why = 'the solver came to no answer in time';
        continue;
      }
      const found = readModel(
        rulebook,
        encoder.declarations,
        invariant.collection,
        get,
        told.slice('sat'.length),
      );
      if (found !== null && against(found)) return found;
      why = 'an example was found that the rules, asked again, do not bear out';
    }
    return { undecided: why };
  } catch (error) {
    if (!(error instanceof CannotEncode)) throw error;
    return { undecided: `${error.message} cannot be put to the solver` };
  }
}

/** Do the rules really let this caller do it, where the condition is not true? Asked of the closures. */
function speaksAgainst(rulebook: Rulebook, invariant: Invariant, { caller, record, world }: Found): boolean {
  const { operation, collection, fields, only } = invariant;
  const decider = new Decider(rulebook, caller, world);
  const side = { record, look: world.look };
  const passes = (grants: Grants, rules: Grants['rules'] | null, fences: Grants['fences']) => {
    const holds = decider.holds(record, { ...decider.around(grants), old: side, new: side });
    return (rules === null || rules.some(holds)) && fences.every(holds);
  };
  const may = (operationOf: string, field: string | null): boolean => {
    const action = rulebook.actions.get(actionKey(collection, operationOf));
    if (action !== undefined) {
      const { own, updating } = actionGrants(rulebook, caller, action);
      return (
        passes(own, own.rules, recordFences(own, operationOf)) && passes(updating, null, updating.fences)
      );
    }
    const grants = decider.grants(collection, operationOf);
    const fences = recordFences(grants, operationOf);
    if (field === null) return passes(grants, grants.rules, fences);
    const own =
      collection === PEOPLE ? promotesItself(rulebook, caller, collection, record.id as string, [field]) : [];
    const about = [...fences, ...fieldFences(grants, operationOf, field)];
    return (
      (operationOf === 'read' || own.length === 0) &&
      passes(grants, covering(grants.rules, operationOf, field), about)
    );
  };
  if (!may('read', null) || !(fields ?? [null]).some((field) => may(operation, field))) return false;
  const roles = rolesFor(rulebook, caller, operation, collection);
  return compilePredicate(only)(record, { ...decider.around({ roles }), old: side, new: side }) !== true;
}

function exampleOf(rulebook: Rulebook, { collection }: Invariant, found: Found): Example {
  const { caller, record, records, mentioned } = found;
  const names = new Map<string, string>();
  for (const [of, all] of records)
    for (const [index, each] of all.entries()) names.set(each.id as string, `${of} ${index + 1}`);
  if (caller.person !== null) names.set(caller.person.id, 'me');
  names.set(record.id as string, record.id === caller.person?.id ? 'me' : 'the record');
  const name = (_: string, id: string) => names.get(id) ?? 'a record';
  const words = (of: string, each: typeof record) => recordWords(rulebook, of, each, mentioned, name);
  const roles = [...caller.roles].toSorted().join(', ');
  const others = [...records].flatMap(([of, all]) =>
    mentioned.has(of)
      ? all
          .filter((each) => each.id !== record.id && each.id !== caller.person?.id)
          .map((each) => `${names.get(each.id as string)!}: ${words(of, each)}`)
      : [],
  );
  const me =
    caller.person === null ? null : records.get(PEOPLE)!.find((each) => each.id === caller.person!.id)!;
  const own = me === null || !mentioned.has(PEOPLE) ? '' : ` (${words(PEOPLE, me)})`;
  return {
    caller:
      caller.person === null
        ? 'a visitor'
        : `a person ${roles === '' ? 'without any role' : `with ${roles}`}${own}`,
    record: `a record of ${collection}: ${words(collection, record)}`,
    others,
  };
}
