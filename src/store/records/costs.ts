/** A node of a plan, of EXPLAIN (FORMAT JSON). */
export interface PlanNode {
  readonly 'Node Type': string;
  readonly 'Total Cost': number;
  readonly 'Plan Rows': number;
  readonly 'Parent Relationship'?: string;
  readonly Filter?: string;
  /** Of a search that is done once, before: “InitPlan 1 (returns $0)”. */
  readonly 'Subplan Name'?: string;
  readonly Plans?: readonly PlanNode[];
}

/**
 * What a statement is expected to cost, by its plan, in the planner's own units: what the planner says, and what it leaves out.
 */
export function costOf(plan: PlanNode): number {
  return plan['Total Cost'] + LOOKUP * lookups(plan) + atRisk(plan) + compared(plan, setsOf(plan));
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

/** How many items each array is expected to have, by the parameter that it is in the plan. */
function setsOf(plan: PlanNode): Map<string, number> {
  const name = /\(returns (\$\d+)\)$/.exec(plan['Subplan Name'] ?? '')?.[1];
  // What is no such part of the plan stands under no parameter's name.
  return new Map([
    [name ?? '', plan['Plan Rows']],
    ...(plan.Plans ?? []).flatMap((each) => [...setsOf(each)]),
  ]);
}

/**
 * In a filter each row is compared with half of the array, which the planner takes for five items: with thousands of them and thousands of
 * rows that is all that counts. How many rows there are the plan does not tell, but what they cost. Below a limit as much of it counts as
 * the planner expects to be read.
 */
function compared(node: PlanNode, sets: ReadonlyMap<string, number>): number {
  const items = [...(node.Filter ?? '').matchAll(/ANY \((\$\d+)\)/g)].reduce(
    (sum, [, name]) => sum + Math.max(0, (sets.get(name!) ?? 0) - 10),
    0,
  );
  const below = node.Plans ?? [];
  const own = ((node['Total Cost'] / A_ROW) * items * COMPARED) / 2;
  const all = below.reduce((sum, each) => sum + compared(each, sets), own);
  const [only] = below.filter((each) => each['Parent Relationship'] !== 'InitPlan');
  const isPart = node['Node Type'] === 'Limit' && only !== undefined && only['Total Cost'] > 0;
  return isPart ? all * Math.min(1, node['Total Cost'] / only['Total Cost']) : all;
}

/** PostgreSQL's own cpu_operator_cost. */
const COMPARED = 0.0025;

/** About what a row costs that is read one after the other and filtered. */
const A_ROW = 0.04;

/**
 * A search that goes through rows in order and stops when enough of them passed a filter is cheap only if those that
 * pass are many and lie everywhere. Where they do not, it reads everything: that is what is at risk.
 */
function atRisk(node: PlanNode): number {
  const below = node.Plans ?? [];
  const own = node['Node Type'] === 'Limit' ? below.filter((each) => stopsEarly(each, isFilter)) : [];
  const wholes = own.reduce(
    (sum, each) => sum + each['Total Cost'] * (stopsEarly(each, looksIntoTexts) ? RISK_OF_TEXTS : RISK),
    0,
  );
  return below.reduce((sum, each) => sum + atRisk(each), wholes);
}

/** Might it read on and on, since nothing passes? */
export function isAtRisk(plan: PlanNode): boolean {
  return atRisk(plan) > 0;
}

/** Is such a filter met on the way, before anything that takes in all of its rows? */
function stopsEarly(node: PlanNode, is: (filter: string) => boolean): boolean {
  if (gathering.has(node['Node Type']) || node['Parent Relationship'] === 'InitPlan') return false;
  if (node.Filter !== undefined && is(node.Filter)) return true;
  return (node.Plans ?? []).some((each) => stopsEarly(each, is));
}

const isFilter = () => true;

function looksIntoTexts(filter: string): boolean {
  return /(?:\b(?:strpos|starts_with|lower|length)|"right")\(/.test(filter);
}

const gathering: ReadonlySet<string> = new Set(['Sort', 'Aggregate', 'Limit', 'Materialize', 'Hash']);

/**
 * How much of what is at risk counts. Measured on a million records (docs/performance.md): with more, searches that do
 * find rows everywhere are put in slower forms; with less, a caller who may read nothing waits for the whole table.
 */
const RISK = 0.02;

/**
 * And where it looks into texts: the planner knows nothing of them, takes one row of three for one that passes, and whoever searches mostly
 * searches for what is rare. Through two references on a million records: 50 ms in place of 700 where there is nothing to find, and no more
 * where there is something in most rows.
 */
const RISK_OF_TEXTS = 0.2;
