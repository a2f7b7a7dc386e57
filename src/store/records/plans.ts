import { LRUCache } from 'lru-cache';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import { sql, type Fragment } from '../../core/sql/fragment.ts';
import type { Form, Formulation, ListQuestion } from '../../core/sql/list.ts';
import { run, type Executor } from '../connection.ts';

/**
 * Of the ways to put a question, the one that PostgreSQL's planner expects to be cheapest on the data as they are. It is
 * asked once for each version of the rulebook and shape of question, and asked anew from time to time, as data grow.
 * Every way has the same answer, so a poor guess costs time alone. Cost of asking: a planning for each formulation.
 */
export async function cheapestForm(
  on: Executor,
  access: Access,
  question: Question,
  write: () => readonly Formulation[],
): Promise<Form> {
  const forms = formsOf(access.rulebook);
  const shape = shapeOf(access, question);
  const known = forms.get(shape);
  if (known !== undefined) return known;
  const all = write();
  let best: { cost: number; form: Form } = { cost: Infinity, form: all[0]!.form };
  for (const { form, statement } of all.length === 1 ? [] : all) {
    const cost = await expectedCost(on, statement);
    if (cost < best.cost) best = { cost, form };
  }
  forms.set(shape, best.form);
  return best.form;
}

type Question = Pick<ListQuestion, 'collection' | 'filter'> & Partial<ListQuestion>;

/** All that makes the text of a question, without the values of the caller. Roles tell which rules it comes from. */
function shapeOf({ caller }: Access, { collection, filter, order, after, limit }: Question): string {
  const who = caller.person === null ? null : [...caller.roles].toSorted();
  const from = after?.map((value) => value === null);
  return JSON.stringify([who, collection, filter, order, from, limit]);
}

/** Shapes that are remembered of one rulebook, and for how long: ten minutes. */
const SHAPES = 1_000;
const KEPT_MS = 600_000;

const remembered = new WeakMap<Rulebook, LRUCache<string, Form>>();

function formsOf(rulebook: Rulebook): LRUCache<string, Form> {
  let forms = remembered.get(rulebook);
  if (forms === undefined) {
    forms = new LRUCache({ max: SHAPES, ttl: KEPT_MS });
    remembered.set(rulebook, forms);
  }
  return forms;
}

/** A node of a plan, of EXPLAIN (FORMAT JSON). */
interface PlanNode {
  readonly 'Node Type': string;
  readonly 'Total Cost': number;
  readonly 'Plan Rows': number;
  readonly 'Parent Relationship'?: string;
  readonly Filter?: string;
  readonly Plans?: readonly PlanNode[];
}

async function expectedCost(on: Executor, statement: Fragment): Promise<number> {
  const [row] = await run<{ 'QUERY PLAN': readonly { readonly Plan: PlanNode }[] }>(
    on,
    sql`explain (format json) ${statement}`,
  );
  const { Plan: plan } = row!['QUERY PLAN'][0]!;
  return plan['Total Cost'] + LOOKUP * lookups(plan) + RISK * atRisk(plan);
}

/**
 * The planner takes an array that it does not know for ten items; how many rows it expects of the search that fills
 * it stands in the plan, so the look-ups that it left out are added, each for a page read at random.
 */
function lookups(node: PlanNode): number {
  const own = node['Parent Relationship'] === 'InitPlan' ? Math.max(0, node['Plan Rows'] - 10) : 0;
  return (node.Plans ?? []).reduce((sum, each) => sum + lookups(each), own);
}

/** PostgreSQL's own random_page_cost. */
const LOOKUP = 4;

/**
 * A search that goes through rows in order and stops when enough of them passed a filter is cheap only if those that
 * pass are many and lie everywhere. Where they do not, it reads everything: that is what is at risk.
 */
function atRisk(node: PlanNode): number {
  const below = node.Plans ?? [];
  const own = node['Node Type'] === 'Limit' ? below.filter(stopsEarly) : [];
  const wholes = own.reduce((sum, each) => sum + each['Total Cost'], 0);
  return below.reduce((sum, each) => sum + atRisk(each), wholes);
}

/** Is a filter met on the way, before anything that takes in all of its rows? */
function stopsEarly(node: PlanNode): boolean {
  if (gathering.has(node['Node Type']) || node['Parent Relationship'] === 'InitPlan') return false;
  return node.Filter !== undefined || (node.Plans ?? []).some(stopsEarly);
}

const gathering: ReadonlySet<string> = new Set(['Sort', 'Aggregate', 'Limit', 'Materialize', 'Hash']);

/**
 * How much of what is at risk counts. Measured on a million records (docs/performance.md): with more, searches that do
 * find rows everywhere are put in slower forms; with less, a caller who may read nothing waits for the whole table.
 */
const RISK = 0.0065;
