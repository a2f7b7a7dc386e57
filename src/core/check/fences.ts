import { suggestion } from '../diagnostics/suggest.ts';
import type { FenceSentence, OperationClause, RulesDeclaration } from '../language/ast.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Fence, Operation } from '../ir/rulebook.ts';
import type { Collection } from '../types/schema.ts';
import { checkCondition } from './conditions.ts';
import { writtenAt, type Findings } from './context.ts';
import type { Known } from './known.ts';
import { knownOperation, sidesOf } from './operations.ts';

const never: Condition = { kind: 'constant', value: false };

/** All fences of all `rules` blocks, in the order of the files; one with an error is left out. */
export function checkFences(
  declarations: readonly RulesDeclaration[],
  known: Known,
  findings: Findings,
): Fence[] {
  const fences: Fence[] = [];
  for (const [declaration, name] of declarations.flatMap((each) =>
    [...new Set(each.collections.map(({ text }) => text))].map((text) => [each, text] as const),
  )) {
    const collection = known.schema.get(name);
    // A collection that does not exist is told of by its rules.
    if (collection === undefined) continue;
    for (const sentence of declaration.fences) {
      const fence = checkFence(sentence, collection, known, findings);
      if (fence === null) continue;
      const place = fences.filter((each) => each.collection === collection.name).length + 1;
      const written = writtenAt(known.sources, sentence.core);
      fences.push({ ...fence, id: `${collection.name}/fence-${place}`, text: written });
    }
  }
  return fences;
}

function checkFence(
  sentence: FenceSentence,
  collection: Collection,
  known: Known,
  findings: Findings,
): Omit<Fence, 'id' | 'text'> | null {
  const before = findings.diagnostics.length;
  for (const role of sentence.but) {
    if (known.roles.has(role.text)) continue;
    const hint = suggestion(role.text, known.roles);
    findings.add('N003', `nobody declared a role “${role.text}”`, role.span, hint);
  }
  const operations = checkConcerned(sentence.operations, collection, known, findings);
  const scope = { ...known.scopeOf(), record: collection.name, ...sidesOf(sentence.operations) };
  const when = sentence.unless === null ? never : checkCondition(sentence.unless, scope, findings);
  if (when !== null && sentence.unless !== null && when.kind === 'constant' && !when.value) {
    findings.add(
      'R011',
      'this can never be true, so nobody could pass',
      sentence.unless.span,
      'leave “unless” out to say so',
    );
  }
  if (when === null || findings.diagnostics.length > before) return null;
  const exempt = new Set(sentence.but.map((role) => role.text));
  return {
    collection: collection.name,
    exempt,
    operations,
    when,
    because: sentence.because,
    span: sentence.span,
  };
}

/** The fields that each operation is about; without a list, the record. */
export function checkConcerned(
  clauses: readonly OperationClause[],
  collection: Collection,
  known: Known,
  findings: Findings,
): Map<Operation, ReadonlySet<string> | null> {
  const operations = new Map<Operation, ReadonlySet<string> | null>();
  for (const clause of clauses) {
    const { operation, fields, span } = clause;
    knownOperation(clause, collection, known, findings);
    if (operations.has(operation)) {
      findings.add(
        'R007',
        `“${operation}” stands twice in one sentence`,
        span,
        'put the fields into one list',
      );
    }
    if (fields === null) {
      operations.set(operation, null);
      continue;
    }
    const named = new Set<string>();
    for (const name of fields.names) {
      const field = collection.fields.get(name.text);
      if (field === undefined) {
        const hint = suggestion(name.text, collection.fields.keys());
        findings.add('N002', `${collection.name} has no field “${name.text}”`, name.span, hint);
      } else if (!fields.all && (operation === 'read' ? name.text === 'id' : field.system)) {
        const why =
          operation === 'read' ? 'the id comes with every readable record' : 'callers never supply it';
        findings.add(
          'R003',
          `“${name.text}” cannot stand here: ${why}`,
          name.span,
          'take it out of the list',
        );
      }
      named.add(name.text);
    }
    const others = [...collection.fields.keys()].filter((field) => !named.has(field));
    operations.set(operation, fields.all ? new Set(others) : named);
  }
  return operations;
}
