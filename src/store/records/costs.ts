/** A node of a plan, of EXPLAIN (FORMAT JSON). */
export interface PlanNode {
  readonly 'Node Type': string;
  readonly 'Total Cost': number;
  readonly 'Plan Rows': number;
  readonly 'Parent Relationship'?: string;
  readonly Filter?: string;
  readonly Plans?: readonly PlanNode[];
}

/**
 * What a statement is expected to cost, by its plan, in the planner's own units: what the planner says, and what it leaves out.
 */
export function costOf(plan: PlanNode): number {
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
const RISK = 0.02;
