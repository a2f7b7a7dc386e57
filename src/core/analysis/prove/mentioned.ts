import { nodesOf, pathsOf, type Condition, type Operand } from '../../ir/conditions.ts';
import type { Rulebook } from '../../ir/rulebook.ts';
import type { Found } from './worlds.ts';

/** All conditions and values of a rulebook that decide something. */
export function conditionsOf(rulebook: Rulebook): (Condition | Operand)[] {
  return [
    ...[...rulebook.rules, ...rulebook.fences].map((each) => each.when),
    ...rulebook.invariants.map((each) => each.only),
    ...rulebook.rules.flatMap((rule) => rule.stamps.map(({ value }) => value)),
    ...[...rulebook.actions.values()].flatMap(({ sets }) =>
      [...sets.values()].flatMap((set) => (set.kind === 'value' ? [set.operand] : [])),
    ),
    ...[...rulebook.roles.values()].flatMap(({ when }) => when ?? []),
    ...[...rulebook.attributes.values()].flatMap(({ source }) =>
      source.kind === 'value'
        ? [source.operand]
        : source.kind === 'every'
          ? [source.where, source.operand]
          : [],
    ),
  ];
}

/** The fields that have a part in it: those of the conditions about these collections, and all that these lead to. */
export function mentionedBy(rulebook: Rulebook, collections: Iterable<string>): Found['mentioned'] {
  const mentioned = new Map<string, Set<string>>();
  const about = new Set(collections);
  const add = (condition: Condition | Operand) => {
    for (const { steps } of pathsOf(condition))
      for (const step of steps) {
        if (rulebook.schema.get(step.collection)?.fields.has(step.field) === true)
          mentioned.set(step.collection, (mentioned.get(step.collection) ?? new Set()).add(step.field));
      }
    for (const node of nodesOf(condition)) if (node.kind === 'may') about.add(node.collection);
  };
  // The set grows while it is gone through: rules may ask what other rules say.
  for (const name of about) {
    for (const each of [...rulebook.rules, ...rulebook.fences]) if (each.collection === name) add(each.when);
    for (const each of rulebook.invariants) if (each.collection === name) add(each.only);
  }
  for (const each of conditionsOf({ ...rulebook, rules: [], fences: [], invariants: [] })) add(each);
  for (const fields of mentioned.values()) fields.delete('id');
  return mentioned;
}
