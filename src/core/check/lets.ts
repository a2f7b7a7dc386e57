import type { Expression, LetDeclaration } from '../language/ast.ts';
import { suggestion } from '../diagnostics/suggest.ts';
import type { Condition, Operand } from '../ir/conditions.ts';
import type { Schema } from '../types/schema.ts';
import { simpleTypes, typeName, type Type } from '../types/types.ts';
import { checkCondition, checkOperandOf } from './conditions.ts';
import { Findings, withoutRepeats } from './context.ts';
import { recordOperand } from './paths.ts';
import { plainScope, type Scope } from './scope.ts';

/** A let, and whether errors were found in it already: then they are not told again wherever it is used. */
interface CheckedLet {
  readonly declaration: LetDeclaration;
  readonly faulty: boolean;
}

/** Makes the scope of a rule's condition, in which roles and lets are known. */
export type ScopeMaker = () => Scope;

/** Names that are called like a let and are none. */
const functions: ReadonlySet<string> = new Set(['lower', 'length', 'count']);

/** Checks each let by itself, also where nothing uses it; answers the maker of scopes in which they are known. */
export function checkLets(
  declarations: readonly LetDeclaration[],
  schema: Schema,
  roles: ReadonlySet<string>,
  attributes: ReadonlyMap<string, Type>,
  zone: string,
  findings: Findings,
): ScopeMaker {
  const declared = withoutRepeats(declarations, (each) => each.name, 'let', findings);
  const plain = new Map([...declared].map(([name, declaration]) => [name, { declaration, faulty: false }]));
  const lets = new Map<string, CheckedLet>();
  for (const [name, declaration] of declared) {
    const own = new Findings();
    if (functions.has(name)) {
      own.add(
        'N006',
        `“${name}” is a function of the language`,
        declaration.name.span,
        'choose another name',
      );
    }
    const variables = new Map<string, Operand>();
    withoutRepeats(declaration.parameters, (each) => each.name, 'parameter', own);
    for (const [index, parameter] of declaration.parameters.entries()) {
      const type = parameterType(parameter.type, schema, own);
      // Stands for the argument while the let is checked by itself; nothing is made of it.
      if (type !== null) variables.set(parameter.name.text, standIn(type, index + 1));
    }
    if (own.diagnostics.length === 0) {
      const scope = {
        ...plainScope(schema, zone),
        roles,
        attributes,
        writeOut: using(plain),
        variables,
        depth: variables.size,
      };
      checkCondition(declaration.body, { ...scope, within: [name] }, own);
    }
    for (const each of own.diagnostics)
      findings.add(each.code, each.message, each.span, each.hint, each.related);
    lets.set(name, { declaration, faulty: own.diagnostics.length > 0 });
  }
  return () => ({ ...plainScope(schema, zone), roles, attributes, writeOut: using(lets) });
}

function using(lets: ReadonlyMap<string, CheckedLet>): Scope['writeOut'] {
  return (call, scope, findings) => writeOut(lets, call, scope, findings);
}

function standIn(type: Type, depth: number): Operand {
  if (type.kind === 'ref') return recordOperand(depth, type.collection);
  return { kind: 'path', root: depth, steps: [{ collection: '', field: '' }], type };
}

function parameterType(name: LetDeclaration['name'], schema: Schema, findings: Findings): Type | null {
  if (schema.has(name.text)) return { kind: 'ref', collection: name.text };
  if (Object.hasOwn(simpleTypes, name.text)) return simpleTypes[name.text as keyof typeof simpleTypes];
  const known = [...schema.keys(), ...Object.keys(simpleTypes)];
  findings.add(
    'T009',
    `there is no type or collection “${name.text}”`,
    name.span,
    suggestion(name.text, known),
  );
  return null;
}

function writeOut(
  lets: ReadonlyMap<string, CheckedLet>,
  call: Expression & { kind: 'call' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  const { name, arguments: given } = call;
  const known = lets.get(name.text);
  if (known === undefined) {
    const hint =
      name.text === 'exists' ? existsHint(given) : suggestion(name.text, [...lets.keys(), ...functions]);
    findings.add('N007', `there is no let “${name.text}”`, name.span, hint);
    return null;
  }
  if (scope.within.includes(name.text)) {
    findings.add(
      'N008',
      `“${name.text}” uses itself: ${[...scope.within, name.text].join(' → ')}`,
      name.span,
    );
    return null;
  }
  const { declaration, faulty } = known;
  if (faulty) return null;
  const { parameters } = declaration;
  if (given.length !== parameters.length) {
    findings.add(
      'T012',
      `${name.text} takes ${parameters.length} arguments, and ${given.length} are given`,
      call.span,
    );
    return null;
  }
  const variables = new Map<string, Operand>();
  for (const [index, parameter] of parameters.entries()) {
    const type = parameterType(parameter.type, scope.schema, findings);
    if (type === null) return null;
    const operand = checkOperandOf(given[index]!, type, scope, findings);
    if (operand === null) return null;
    if (operand.type.kind === 'ref' && operand.kind !== 'path') {
      findings.add('T012', `${parameter.name.text} takes ${typeName(type)}`, given[index]!.span);
      return null;
    }
    variables.set(parameter.name.text, operand);
  }
  // The body sees its parameters and nothing else: not the record, not the variables around the call.
  const within = [...scope.within, name.text];
  return checkCondition(
    declaration.body,
    { ...scope, record: null, old: false, new: false, variables, within },
    findings,
  );
}

/** `exists (yards)`, of other languages. */
function existsHint([of]: readonly Expression[]): string {
  const collection = of?.kind === 'path' ? of.steps[0]?.text : undefined;
  const letter = collection?.[0] ?? 'v';
  return `write some ${letter} in ${collection ?? 'visits'} has (…)`;
}
