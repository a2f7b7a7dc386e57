import { LRUCache } from 'lru-cache';
import type { RightsPlan } from '../../core/analysis/rights.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access, SelectList } from '../../core/sql/access.ts';
import { standingOf } from '../../core/decide/caller.ts';
import { Slot, filled, sql, type Fragment } from '../../core/sql/fragment.ts';
import {
  countSql,
  formulations,
  listSql,
  readSql,
  selectionOf,
  withSlots,
  type Form,
  type Formulation,
  type ListQuestion,
} from '../../core/sql/list.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Reader } from '../connection.ts';
import { tallies } from '../tallies.ts';
import { costOf, type PlanNode } from './costs.ts';

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
  const shape = formShapeOf(access, question, () => listSql(access, question, 'rows'));
  const { forms, statements } = rememberedOf(access);
  let form = forms.get(shape);
  if (form === undefined) {
    form = await cheapest(on, formulations(access, question));
    forms.set(shape, form);
    statements.delete(`list ${shape}`);
  }
  if (question.filter !== null) {
    return { statement: listSql(access, question, form), reading: selectionOf(access, question) };
  }
  let kept = statements.get(`list ${shape}`);
  if (kept === undefined) {
    const open = access.withSlots();
    kept = {
      statement: listSql(open, withSlots(question), form),
      reading: selectionOf(open, question),
    };
    statements.set(`list ${shape}`, kept);
  }
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
  let best: { cost: number; form: Form } = { cost: Infinity, form: all[0]!.form };
  for (const { form, statement, expected = statement } of all.length === 1 ? [] : all) {
    const cost = await expectedCost(on, expected);
    if (cost < best.cost) best = { cost, form };
  }
  tallies.planned.set(best.form, (tallies.planned.get(best.form) ?? 0) + 1);
  return best.form;
}

type Question = Pick<ListQuestion, 'collection' | 'filter'> & Partial<ListQuestion>;

/** All that makes the text of a question, without the values of the caller. Roles tell which rules it comes from. */
function shapeOf(
  { caller }: Access,
  { collection, filter, order, after, limit, fields, rights, summed }: Question,
): string {
  // Names of the rulebook and of roles have no blanks in them; what differs in number has its own mark.
  let shape = `${standingOf(caller)} of ${collection} ${limit ?? ''}${rights === undefined ? '' : ' rights'}${summed === true ? ' summed' : ''}`;
  for (const { field, descending } of order ?? []) shape += ` ${field}${descending ? '-' : '+'}`;
  for (const value of after ?? []) shape += value === null ? ' ?' : ' !';
  if (fields !== undefined) shape += ` (${fields.join(' ')})`;
  return filter === null ? shape : `${shape} ${JSON.stringify(filter, withoutLiterals)}`;
}

/**
 * For whom nothing is shared, the shape. For others the text of the statement, without its values, is the shape of their own: what
 * is remembered by it is the form alone.
 */
function formShapeOf(access: Access, question: Question, plain: () => Fragment): string {
  return access.caller.shared === undefined ? shapeOf(access, question) : plain().text;
}

/** Which form is best, is asked for filters of a kind and not for each value in them. */
function withoutLiterals(_: string, part: unknown): unknown {
  const { kind, type, values } = (part ?? {}) as { kind?: unknown; type?: unknown; values?: unknown };
  if (kind === 'literal') return { kind, type };
  return kind === 'among' && Array.isArray(values)
    ? { ...(part as object), values: values.length > 20 }
    : part;
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

const remembered = new WeakMap<Rulebook, Remembered>();

/** What is shared with a caller is theirs alone: no statement that is made of it serves anybody else. */
function rememberedOf({ rulebook, caller }: Access): Remembered {
  let known = remembered.get(rulebook);
  if (known === undefined) {
    known = {
      forms: new LRUCache({
        maxSize: KEPT_CHARACTERS,
        sizeCalculation: (_, shape) => shape.length + 100,
        ttl: CHOICE_MS,
      }),
      statements: keptStatements(),
    };
    remembered.set(rulebook, known);
  }
  return caller.shared === undefined ? known : { forms: known.forms, statements: keptStatements() };
}

/** Bounded by what they take, as a collection may have hundreds of fields. */
function keptStatements(): LRUCache<string, Kept> {
  return new LRUCache({
    maxSize: KEPT_CHARACTERS,
    sizeCalculation: ({ statement }, shape) => statement.text.length + shape.length + 1_000,
  });
}

async function expectedCost(on: Reader, statement: Fragment): Promise<number> {
  const [row] = await run<{ 'QUERY PLAN': readonly { readonly Plan: PlanNode }[] }>(
    on,
    sql`explain (format json) ${statement}`,
  );
  return costOf(row!['QUERY PLAN'][0]!.Plan);
}
