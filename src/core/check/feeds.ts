import type { Span } from '../language/span.ts';
import { collectionsRead, nodesOf, pathsOf, type Condition, type Operand } from '../ir/conditions.ts';
import type { Action, Attribute, Role, Rule } from '../ir/rulebook.ts';
import type { Findings } from './context.ts';
import type { Known } from './known.ts';

/**
 * Nobody promotes themself: where the records of a collection make up a role or an attribute, whoever may write them
 * decides what people may do. That is an error until the rulebook accepts it with a reason.
 */
export function refuseSelfPromotion(
  roles: ReadonlyMap<string, Role>,
  attributes: ReadonlyMap<string, Attribute>,
  rules: readonly Rule[],
  accepted: ReadonlySet<string>,
  known: Known,
  findings: Findings,
): void {
  const sources: [string, readonly (Condition | Operand)[]][] = [
    ...[...roles.values()].map(
      ({ name, when }) => [name, when === null ? [] : [when]] as [string, Condition[]],
    ),
    ...[...attributes.values()].map((each) => [each.name, nodesOfSource(each)] as [string, Condition[]]),
  ];
  for (const [name, nodes] of sources) {
    for (const [collection, fields] of fed(nodes, attributes.get(name))) {
      const writer = writerOf(collection, fields, negates(nodes), rules, known.actions);
      if (writer === null || accepted.has(`${collection} ${name}`)) continue;
      findings.add(
        'R014',
        `the records of ${collection} make up “${name}”, and this lets callers write them`,
        writer,
        `if that is meant, say so: accept ${collection} feeds ${name} because "…"`,
      );
    }
  }
}

function nodesOfSource({ source }: Attribute): readonly (Condition | Operand)[] {
  if (source.kind === 'claim') return [];
  return source.kind === 'every' ? [source.operand, source.where] : [source.operand];
}

/** The collections that are looked at, each with the fields that matter. */
function fed(nodes: readonly (Condition | Operand)[], attribute?: Attribute): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>();
  const add = (collection: string, fields: readonly string[]) =>
    found.set(collection, new Set([...(found.get(collection) ?? []), ...fields]));
  if (attribute?.source.kind === 'every') add(attribute.source.range.collection, []);
  for (const node of nodes) {
    for (const collection of collectionsRead(node)) add(collection, []);
    for (const path of pathsOf(node)) {
      for (const step of path.root === 'me' ? path.steps.slice(1) : path.steps)
        add(step.collection, [step.field]);
    }
    for (const part of nodesOf(node)) {
      if (part.kind === 'within') add(part.parent.collection, [part.parent.field]);
    }
  }
  return found;
}

/** Could a record that is no longer there give somebody more? */
function negates(nodes: readonly (Condition | Operand)[]): boolean {
  return nodes.some((node) => [...nodesOf(node)].some(({ kind }) => kind === 'not' || kind === 'count'));
}

function writerOf(
  collection: string,
  fields: ReadonlySet<string>,
  removing: boolean,
  rules: readonly Rule[],
  actions: ReadonlyMap<string, Action>,
): Span | null {
  for (const rule of rules) {
    if (rule.collection !== collection) continue;
    for (const [operation, covered] of rule.operations) {
      const set = [...(actions.get(`${collection}.${operation}`)?.sets.keys() ?? [])];
      const stamped =
        operation === 'read' || operation === 'delete' ? [] : rule.stamps.map((stamp) => stamp.field);
      const writes =
        operation === 'create' ||
        (operation === 'delete' && removing) ||
        (operation !== 'read' && [...covered, ...set, ...stamped].some((field) => fields.has(field)));
      if (writes) return rule.span;
    }
  }
  return null;
}
