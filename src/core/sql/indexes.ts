import type { Condition, Operand, PathOperand } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { fieldOf } from '../types/schema.ts';
import type { Type } from '../types/types.ts';

/**
 * The fields by which the rules for reading find records: those that must have a certain value. An index on each, with
 * the id behind it, serves a page in the order of the ids. Of references and unique fields there is one already.
 */
export function searchedFields(rulebook: Pick<Rulebook, 'rules' | 'schema'>): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>();
  const visit = (condition: Condition): void => {
    switch (condition.kind) {
      case 'and':
      case 'or':
        condition.operands.forEach(visit);
        return;
      case 'some':
        visit(condition.body);
        return;
      case 'equal':
        pair(condition.left, condition.right);
        pair(condition.right, condition.left);
        return;
      case 'among':
      case 'member':
      case 'holds':
        if (isPath(condition.operand)) add(condition.operand);
        return;
      case 'as':
      case 'at most':
      case 'constant':
      case 'contains':
      case 'ends with':
      case 'has role':
      case 'less':
      case 'may':
      case 'missing':
      case 'not':
      case 'starts with':
      case 'within':
      // What must not be, or lies between two values, is seldom found by an index.
    }
  };
  const pair = (path: Operand, other: Operand): void => {
    if (isPath(path) && !isPath(other)) add(path);
  };
  const add = ({ steps }: PathOperand): void => {
    const { collection, field } = steps.at(-1)!;
    const known = fieldOf(rulebook.schema, collection, field);
    if (known === null || known.system || known.unique || !short.has(known.type.kind)) return;
    found.set(collection, (found.get(collection) ?? new Set()).add(field));
  };
  for (const rule of rulebook.rules) if (rule.operations.has('read')) visit(rule.when);
  return found;
}

/** An index refuses long texts, and then the record; and references have one of their own. */
const short: ReadonlySet<Type['kind']> = new Set([
  'one of',
  'integer',
  'decimal',
  'boolean',
  'date',
  'timestamp',
  'uuid',
]);

/** A field of a record that is looked for, rather than of the caller. */
function isPath(operand: Operand): operand is PathOperand {
  return operand.kind === 'path' && operand.root !== 'me';
}
