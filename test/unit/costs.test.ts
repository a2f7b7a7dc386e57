import { expect, test } from 'vitest';
import { costOf, type PlanNode } from '../../src/store/records/costs.ts';

/** What is added to the planner’s own cost, by plans as it writes them. */
const node = (type: string, cost: number, rows = 1, more: Partial<PlanNode> = {}): PlanNode => ({
  'Node Type': type,
  'Total Cost': cost,
  'Plan Rows': rows,
  ...more,
});
const added = (plan: PlanNode) => costOf(plan) - plan['Total Cost'];

test('a plan costs what the planner says', () => {
  expect(costOf(node('Seq Scan', 100))).toBe(100);
  expect(added(node('Seq Scan', 100, 50, { Filter: '(open)' }))).toBe(0);
  expect(added(node('Sort', 100, 50, { Plans: [node('Seq Scan', 90, 50)] }))).toBe(0);
});

test('a set of ids that is worked out first costs a look-up for each beyond ten', () => {
  const first = (rows: number) => node('Index Scan', 20, rows, { 'Parent Relationship': 'InitPlan' });
  expect(added(node('Bitmap Heap Scan', 100, 1, { Plans: [first(25)] }))).toBe(60);
  expect(added(node('Bitmap Heap Scan', 100, 1, { Plans: [first(10)] }))).toBe(0);
  expect(added(node('Bitmap Heap Scan', 100, 1, { Plans: [first(3)] }))).toBe(0);
  expect(added(node('Bitmap Heap Scan', 100, 1, { Plans: [node('Index Scan', 20, 25)] }))).toBe(0);
  expect(
    added(node('Limit', 100, 1, { Plans: [node('Sort', 90, 1, { Plans: [first(25), first(12)] })] })),
  ).toBe(68);
});

test('a set of ids that a filter goes by costs half of it for each row', () => {
  const set = (rows: number, name = '$0') =>
    node('Seq Scan', 20, rows, {
      'Parent Relationship': 'InitPlan',
      'Subplan Name': `InitPlan 1 (returns ${name})`,
    });
  const looked = (rows: number) => 4 * (rows - 10);
  const filtered = (cost: number, filter: string, ...below: PlanNode[]) =>
    node('Seq Scan', cost, 1, { Filter: filter, Plans: below });
  // 400 is what 10,000 rows cost, each of which is compared with 2,000 of 4,010 ids.
  expect(added(filtered(400, '(keeper = ANY ($0))', set(4_010)))).toBeCloseTo(
    looked(4_010) + 10_000 * 2_000 * 0.0025,
  );
  expect(added(filtered(400, '((yard = ANY ($0)) OR (size > 3))', set(4_010)))).toBeCloseTo(
    looked(4_010) + 50_000,
  );
  expect(
    added(filtered(400, '((yard = ANY ($0)) OR (size = ANY ($1)))', set(1_010), set(3_010, '$1'))),
  ).toBeCloseTo(looked(1_010) + looked(3_010) + 50_000);
  expect(added(filtered(400, '(size > $0)', set(4_010)))).toBe(looked(4_010));
  expect(added(filtered(400, '(keeper = ANY ($0))', set(10)))).toBe(0);
  // Where it is worked out further up, and where it is not known at all.
  expect(
    added(node('Sort', 500, 1, { Plans: [filtered(400, '(keeper = ANY ($0))'), set(4_010)] })),
  ).toBeCloseTo(looked(4_010) + 50_000);
  expect(added(filtered(400, '(keeper = ANY ($7))', set(4_010)))).toBe(looked(4_010));
  // Below a limit a tenth of it is read, and what is at risk counts besides.
  const limited = node('Limit', 40, 1, { Plans: [filtered(400, '(keeper = ANY ($0))', set(4_010))] });
  expect(added(limited)).toBeCloseTo(looked(4_010) + 5_000 + 8);
  const scan = filtered(400, '(keeper = ANY ($0))');
  expect(added(node('Limit', 40, 1, { Plans: [set(4_010), scan] })), 'the set beside it').toBeCloseTo(
    looked(4_010) + 5_000 + 8,
  );
  expect(added(node('Append', 40, 1, { Plans: [set(4_010), scan] })), 'no limit').toBeCloseTo(
    looked(4_010) + 50_000,
  );
  expect(added(node('Limit', 40, 1, { Plans: [set(4_010)] })), 'nothing below').toBe(looked(4_010));
  expect(added(node('Limit', 0, 1, { Plans: [set(4_010), filtered(0, '(keeper = ANY ($0))')] }))).toBe(
    looked(4_010),
  );
});

test('a search that stops early is at risk where it meets a filter on the way, and nothing that takes in all rows', () => {
  const filtered = node('Index Scan', 1_000, 5, { Filter: '(keeper = $1)' });
  const limit = (...below: PlanNode[]) => node('Limit', 100, 1, { Plans: below });
  expect(added(limit(filtered))).toBe(20);
  expect(added(limit(node('Index Scan', 1_000, 5)))).toBe(0);
  expect(added(limit(node('Nested Loop', 500, 5, { Plans: [node('Index Scan', 20), filtered] })))).toBe(10);
  for (const whole of ['Sort', 'Aggregate', 'Materialize', 'Hash'])
    expect(added(limit(node(whole, 1_100, 5, { Plans: [filtered] })))).toBe(0);
  expect(added(limit({ ...filtered, 'Parent Relationship': 'InitPlan' }))).toBe(0);
  expect(added(node('Nested Loop', 100, 1, { Plans: [filtered] }))).toBe(0);
  // One limit inside another: each is looked at by itself.
  expect(added(limit(node('Append', 50, 1, { Plans: [limit(filtered), limit(filtered)] })))).toBe(40);
});

test('what looks into texts on the way to a limit is more of a risk than what the planner knows of', () => {
  const limited = (filter: string, ...between: string[]) =>
    node('Limit', 10, 1, {
      Plans: [
        between.reduce(
          (below, type) => node(type, 1_000, 1, { Plans: [below] }),
          node('Index Scan', 1_000, 1, { Filter: filter }),
        ),
      ],
    });
  expect(added(limited('(open)'))).toBe(20);
  for (const filter of [
    "(strpos(notes, 'x'::text) > 0)",
    "starts_with(notes, 'x'::text)",
    `("right"(notes, 1) = 'x'::text)`,
    "(open AND (lower(notes) = 'x'::text))",
    '(length(notes) > 3)',
  ])
    expect(added(limited(filter)), filter).toBe(200);
  // A column that is called so is none, and what is sorted is read whole in any case.
  expect(added(limited('(strength > 3)'))).toBe(20);
  expect(added(limited('(lower > 3)'))).toBe(20);
  expect(added(limited("(strpos(notes, 'x'::text) > 0)", 'Nested Loop'))).toBe(200);
  expect(added(limited("(strpos(notes, 'x'::text) > 0)", 'Sort'))).toBe(0);
});
