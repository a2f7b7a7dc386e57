import { LRUCache } from 'lru-cache';
import type { RightsPlan } from '../../core/analysis/rights.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access, SelectList } from '../../core/sql/access.ts';
import { standingOf, type Caller } from '../../core/decide/caller.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { Slot, filled, sql, type Fragment } from '../../core/sql/fragment.ts';
import {
  countSql,
  formulations,
  listSql,
  readSql,
  selectionOf,
  walkedSql,
  withSlots,
  type Form,
  type Formulation,
  type ListQuestion,
} from '../../core/sql/list.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Reader } from '../connection.ts';
import { tallies } from '../tallies.ts';
import { costOf, isAtRisk, type PlanNode } from './costs.ts';

/** A statement with its slots open, and how its answer is read. */
interface Kept {
  readonly statement: Fragment;
  readonly reading: SelectList;
}

/**
 * The statement of a list, in the way that PostgreSQL's planner expects to be cheapest on the data as they are. That is
 * asked once for each version of the rulebook and shape of question, and asked anew from time to time, as data grow.
 * Every way has the same answer, so a poor guess costs time alone. Where there is no filter of the caller's, the
 * statement itself is kept, too, and only filled. Cost of asking: a planning for each formulation.
 */
export async function listStatement(on: Reader, access: Access, question: ListQuestion): Promise<Kept> {
  const { forms, statements } = rememberedOf(access);
  const isTheirs = access.caller.shared !== undefined;
  if (isTheirs && question.filter === null) {
    // Kept by caller: each guess that is right asks as the very caller of before.
    const key = `walk ${shapeOf(access, question)}`;
    const walked = statements.get(key) ?? opened(access, question, walkedSql);
    if (walked !== null) {
      statements.set(key, walked);
      return filledFor(access, question, walked);
    }
  }
  const shape = formShapeOf(access, question, () => listSql(access, question, 'rows'));
  let form = forms.get(shape);
  if (form === undefined) {
    form = await cheapest(on, formulations(access, question));
    forms.set(shape, form);
    statements.delete(`list ${shape}`);
  }
  // By that shape no statement is kept for whom something is shared: others have the same text with other values in it.
  if (question.filter !== null || isTheirs)
    return { statement: listSql(access, question, form), reading: selectionOf(access, question) };
  const chosen = form;
  const make = () => opened(access, question, (...asked) => listSql(...asked, chosen))!;
  const kept = remembered<string, Kept>(statements, `list ${shape}`, make);
  return filledFor(access, question, kept);
}

/** A statement with slots in place of what a caller and a moment say; null where there is none. */
function opened(
  access: Access,
  question: ListQuestion,
  statementOf: (access: Access, question: ListQuestion) => Fragment | null,
): Kept | null {
  const open = access.withSlots();
  const statement = statementOf(open, withSlots(question));
  return statement === null ? null : { statement, reading: selectionOf(open, question) };
}

function filledFor(access: Access, question: ListQuestion, kept: Kept): Kept {
  const after = question.after as readonly Value[] | null;
  return { ...kept, statement: filled(kept.statement, (slot) => access.valueOf(slot, after ?? [])) };
}

/** The statement that counts what a list would hold. */
export async function countStatement(
  on: Reader,
  access: Access,
  question: Pick<ListQuestion, 'collection' | 'filter'>,
): Promise<Fragment> {
  const { forms } = rememberedOf(access);
  const all = countSql(access, question);
  const shape = formShapeOf(access, question, () => all[0]!.statement);
  let form = forms.get(shape);
  if (form === undefined) {
    form = await cheapest(on, all);
    forms.set(shape, form);
  }
  return all.find((each) => each.form === form)!.statement;
}

/** The statement that reads one record, kept for everybody of the same roles. */
export function readStatement(
  access: Access,
  collection: string,
  id: string,
  lock: boolean,
  rights?: RightsPlan,
): Kept {
  const { statements } = rememberedOf(access);
  const shape = `${lock ? 'lock' : 'read'} ${shapeOf(access, { collection, filter: null, rights })}`;
  let kept = statements.get(shape);
  if (kept === undefined) {
    kept = readSql(access.withSlots(), collection, new Slot('after', '0'), lock, rights);
    statements.set(shape, kept);
  }
  return { ...kept, statement: filled(kept.statement, (slot) => access.valueOf(slot, [id])) };
}

async function cheapest(on: Reader, all: readonly Formulation[]): Promise<Form> {
  const costs = new Map<Form, number>();
  for (const { form, statement, expected = statement, otherwise = form } of all.length === 1 ? [] : all) {
    const plan = await expectedPlan(on, expected);
    costs.set(isAtRisk(plan) ? form : otherwise, costOf(plan));
  }
  const [best = all[0]!.form] = [...costs.keys()].toSorted(
    (one, other) => costs.get(one)! - costs.get(other)!,
  );
  tallies.planned.set(best, (tallies.planned.get(best) ?? 0) + 1);
  return best;
}

type Question = Pick<ListQuestion, 'collection' | 'filter'> & Partial<ListQuestion>;

/** All that makes the text of a question, without the values of the caller. Roles tell which rules it comes from. */
function shapeOf(
  { caller }: Access,
  { collection, filter, order, after, limit, fields, rights, summed }: Question,
): string {
  // Names of the rulebook and of roles have no blanks in them; what differs in number has its own mark.
  let shape = `${whoseOf(caller)} of ${collection} ${limit ?? ''} ${typeof rights} ${summed}`;
  for (const { field, descending } of order ?? []) shape += ` ${field}${descending ? '-' : '+'}`;
  for (const value of after ?? []) shape += value === null ? ' ?' : ' !';
  if (fields !== undefined) shape += ` (${fields.join(' ')})`;
  return `${shape} ${JSON.stringify(filter, withoutLiterals)}`;
}

/** Whose statement it is: everybody’s of the same standing, or theirs alone with whom something is shared. */
function whoseOf(caller: Caller): string {
  const standing = standingOf(caller);
  return caller.shared === undefined
    ? standing
    : `${standing} ${remembered(numbers, caller, () => ++numbered)}`;
}

const numbers = new WeakMap<Caller, number>();
let numbered = 0;

/**
 * For whom nothing is shared, the shape. For others the text of the statement, without its values, is the shape of their own: what
 * is remembered by it is the form alone.
 */
function formShapeOf(access: Access, question: Question, plain: () => Fragment): string {
  return access.caller.shared === undefined ? shapeOf(access, question) : plain().text;
}

/** Which form is best, is asked for filters of a kind and not for each value in them; of lists their length counts, in twenties. */
function withoutLiterals(_: string, part: unknown): unknown {
  const { kind, type, values } = (part ?? {}) as { kind?: unknown; type?: unknown; values?: unknown };
  if (kind === 'literal') return { kind, type };
  return Array.isArray(values) ? { ...(part as object), values: Math.ceil(values.length / 20) } : part;
}

/** How long a choice is remembered: ten minutes. */
const CHOICE_MS = 600_000;
/** Characters of statements, and of shapes, that are kept of one rulebook. */
const KEPT_CHARACTERS = 8_000_000;

interface Remembered {
  readonly forms: LRUCache<string, Form>;
  /** Statements of lists and of single records. */
  readonly statements: LRUCache<string, Kept>;
}

const ofRulebooks = new WeakMap<Rulebook, Remembered>();

/** Bounded by what they take, as a collection may have hundreds of fields. */
function rememberedOf({ rulebook }: Access): Remembered {
  return remembered(ofRulebooks, rulebook, () => ({
    forms: new LRUCache({
      maxSize: KEPT_CHARACTERS,
      sizeCalculation: (_, shape) => shape.length + 100,
      ttl: CHOICE_MS,
    }),
    statements: new LRUCache({
      maxSize: KEPT_CHARACTERS,
      sizeCalculation: ({ statement }, shape) => statement.text.length + shape.length + 1_000,
    }),
  }));
}

export async function expectedCost(on: Reader, statement: Fragment): Promise<number> {
  return costOf(await expectedPlan(on, statement));
}

async function expectedPlan(on: Reader, statement: Fragment): Promise<PlanNode> {
  const [row] = await run<{ 'QUERY PLAN': readonly { readonly Plan: PlanNode }[] }>(
    on,
    sql`explain (format json) ${statement}`,
  );
  return row!['QUERY PLAN'][0]!.Plan;
}
