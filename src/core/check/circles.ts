import type { Condition } from '../ir/conditions.ts';
import { maysOf } from '../ir/conditions.ts';
import type { Fence, Rule } from '../ir/rulebook.ts';
import { limits } from '../language/limits.ts';
import type { Findings } from './context.ts';

/**
 * Rules may follow another collection's (`me may read hive`), over any number of steps; where they come back to where
 * they began there is no answer, so that is an error. What is asked for is an operation on a collection; updating and
 * deleting ask for reading, too.
 */
export function refuseCircles(rules: readonly Rule[], fences: readonly Fence[], findings: Findings): void {
  const asks = new Map<string, Set<string>>();
  const spans = new Map<string, Rule['span']>();
  const add = (from: string, to: string) => asks.set(from, (asks.get(from) ?? new Set()).add(to));
  for (const { collection, operations, when, span } of [...rules, ...fences]) {
    for (const operation of operations.keys()) {
      const from = `${operation} ${collection}`;
      if (operation === 'update' || operation === 'delete' || operation === 'share')
        add(from, `read ${collection}`);
      for (const to of asked(when)) {
        add(from, to);
        spans.set(from, span);
      }
    }
  }
  const steps = new Map<string, number>();
  for (const start of asks.keys()) visit(start, []);

  /** How many rules follow each other from here on. */
  function visit(node: string, path: readonly string[]): number {
    const again = path.indexOf(node);
    if (again !== -1) {
      const circle = [...path.slice(again), node];
      const span = circle.map((each) => spans.get(each)).find((each) => each !== undefined);
      findings.add('R012', `these rules follow each other in a circle: ${circle.join(' → ')}`, span!);
      return 0;
    }
    const known = steps.get(node);
    if (known !== undefined) return known;
    let far = 0;
    for (const next of asks.get(node) ?? []) far = Math.max(far, visit(next, [...path, node]) + 1);
    steps.set(node, far);
    if (far === limits.following + 1 && spans.has(node)) {
      const message = `rules follow each other over more than ${limits.following} steps from here`;
      findings.add('R016', message, spans.get(node)!, 'say it with a path instead');
    }
    return far;
  }
}

function asked(when: Condition): string[] {
  return [...maysOf(when)].map((may) => `${may.operation} ${may.collection}`);
}
