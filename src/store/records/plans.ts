import { LRUCache } from 'lru-cache';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { sql, type Fragment } from '../../core/sql/fragment.ts';
import type { Formulation } from '../../core/sql/list.ts';
import { run, type Executor } from '../connection.ts';

/**
 * Of the ways to put a question, the one that PostgreSQL's planner expects to be cheapest on the data as they are. It is
 * asked once for each version of the rulebook and shape of question, and asked anew from time to time, as data grow.
 * Every way has the same answer, so a poor guess costs time alone. Cost of asking: a planning for each formulation.
 */
export async function cheapest(
  on: Executor,
  rulebook: Rulebook,
  formulations: readonly Formulation[],
): Promise<Fragment> {
  const [first] = formulations;
  if (formulations.length === 1) return first!.statement;
  const choices = choicesOf(rulebook);
  const known = choices.get(first!.statement.text);
  if (known !== undefined) return formulations.find((each) => each.name === known)!.statement;
  let best = { cost: Infinity, formulation: first! };
  for (const formulation of formulations) {
    const cost = await expectedCost(on, formulation.statement);
    if (cost < best.cost) best = { cost, formulation };
  }
  choices.set(first!.statement.text, best.formulation.name);
  return best.formulation.statement;
}

/** Shapes that are remembered of one rulebook, and for how long: ten minutes. */
const SHAPES = 1_000;
const KEPT_MS = 600_000;

const remembered = new WeakMap<Rulebook, LRUCache<string, Formulation['name']>>();

function choicesOf(rulebook: Rulebook): LRUCache<string, Formulation['name']> {
  let choices = remembered.get(rulebook);
  if (choices === undefined) {
    choices = new LRUCache({ max: SHAPES, ttl: KEPT_MS });
    remembered.set(rulebook, choices);
  }
  return choices;
}

/** A node of a plan, of EXPLAIN (FORMAT JSON). */
interface PlanNode {
  readonly 'Total Cost': number;
  readonly 'Plan Rows': number;
  readonly 'Parent Relationship'?: string;
  readonly Plans?: readonly PlanNode[];
}

async function expectedCost(on: Executor, statement: Fragment): Promise<number> {
  const [row] = await run<{ 'QUERY PLAN': readonly { readonly Plan: PlanNode }[] }>(
    on,
    sql`explain (format json) ${statement}`,
  );
  const { Plan: plan } = row!['QUERY PLAN'][0]!;
  return plan['Total Cost'] + lookups(plan);
}

/**
 * The planner takes an array that it does not know for ten items; how many rows it expects of the search that fills
 * it stands in the plan, so the look-ups that it left out are added here, each for a page read at random.
 */
function lookups(node: PlanNode): number {
  const own = node['Parent Relationship'] === 'InitPlan' ? Math.max(0, node['Plan Rows'] - 10) * LOOKUP : 0;
  return (node.Plans ?? []).reduce((sum, each) => sum + lookups(each), own);
}

/** PostgreSQL's own random_page_cost. */
const LOOKUP = 4;
