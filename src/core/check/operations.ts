import type { OperationClause } from '../language/ast.ts';
import { actionKey, builtIn, isBuiltIn } from '../ir/rulebook.ts';
import type { Collection } from '../types/schema.ts';
import type { Findings } from './context.ts';
import type { Known } from './known.ts';
import { unknownOperation } from './roles.ts';

/** The operations that are about single fields. */
export const takesFields: ReadonlySet<string> = new Set(['read', 'create', 'update']);

/** Is it one that every collection has, or an action of the collection? And has it a field list only where it takes one? */
export function knownOperation(
  { operation, fields, span }: OperationClause,
  collection: Collection,
  known: Known,
  findings: Findings,
): void {
  if (!isBuiltIn(operation) && !known.actions.has(actionKey(collection.name, operation))) {
    const actions = [...known.actions.values()].filter((each) => each.collection === collection.name);
    const names = [...builtIn, ...actions.map((each) => each.name)];
    unknownOperation({ text: operation, span }, collection.name, names, findings);
  } else if (fields !== null && !takesFields.has(operation)) {
    const why =
      operation === 'delete' || operation === 'share'
        ? `a record is ${operation === 'delete' ? 'deleted' : 'shared'} whole: ${operation}`
        : `what it sets is declared: “${operation}”`;
    findings.add('R001', `${why} takes no field list`, fields.span);
  }
}

/** A sentence has one condition for all its operations, so every one of them must have the side that it names. */
export function sidesOf(clauses: readonly OperationClause[]): { old: boolean; new: boolean } {
  const changes = (operation: string) => operation === 'update' || !isBuiltIn(operation);
  const each = clauses.map((clause) => clause.operation);
  return {
    old: each.every((one) => one === 'delete' || changes(one)),
    new: each.every((one) => one === 'create' || changes(one)),
  };
}
