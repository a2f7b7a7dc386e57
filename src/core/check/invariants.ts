import { suggestion } from '../diagnostics/suggest.ts';
import type { InvariantDeclaration } from '../language/ast.ts';
import type { Invariant } from '../ir/rulebook.ts';
import { checkCondition } from './conditions.ts';
import { withoutRepeats, writtenAt, type Findings } from './context.ts';
import type { Known } from './known.ts';
import { knownOperation } from './operations.ts';
import { unknownCollection } from './schema.ts';

/** All invariants: of every step that does the operation to a record, the condition is true. */
export function checkInvariants(
  declarations: readonly InvariantDeclaration[],
  known: Known,
  findings: Findings,
): Invariant[] {
  const declared = withoutRepeats(
    declarations,
    ({ title }) => ({ text: title.value, span: title.span }),
    'invariant',
    findings,
  );
  const invariants: Invariant[] = [];
  for (const { title, operation, collection: name, only, span } of declared.values()) {
    const collection = known.schema.get(name.text);
    if (collection === undefined) {
      unknownCollection(name, known.schema.keys(), findings);
      continue;
    }
    knownOperation(operation, collection, known, findings);
    for (const field of operation.fields?.names ?? []) {
      if (collection.fields.has(field.text)) continue;
      const hint = suggestion(field.text, collection.fields.keys());
      findings.add('N002', `${collection.name} has no field “${field.text}”`, field.span, hint);
    }
    const scope = { ...known.scopeOf(), record: collection.name, ...sidesFor(operation.operation) };
    const condition = checkCondition(only, scope, findings);
    if (condition === null) continue;
    const named = operation.fields?.names.map((field) => field.text) ?? null;
    const all = [...collection.fields.keys()];
    invariants.push({
      title: title.value,
      operation: operation.operation,
      collection: collection.name,
      fields: operation.fields?.all === true ? all.filter((field) => !named!.includes(field)) : named,
      only: condition,
      text: writtenAt(known.sources, span),
      span,
    });
  }
  return invariants;
}

/** What is read, deleted or shared is judged as it is; what is made, as it becomes. */
function sidesFor(operation: string): { old: boolean; new: boolean } {
  const changes = operation !== 'read' && operation !== 'delete' && operation !== 'share';
  return { old: operation !== 'create', new: changes };
}
