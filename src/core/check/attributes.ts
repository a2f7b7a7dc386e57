import type { AttributeDeclaration, ClaimDeclaration } from '../language/ast.ts';
import { pathsOf } from '../ir/conditions.ts';
import type { Attribute } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf, type Schema } from '../types/schema.ts';
import { typeName, type Type } from '../types/types.ts';
import { withoutRepeats, type Findings } from './context.ts';
import type { ScopeMaker } from './lets.ts';
import { checkOperand, checkRange } from './conditions.ts';
import { checkType } from './schema.ts';

type Declaration = AttributeDeclaration | ClaimDeclaration;

/** The types of all attributes, so that conditions can name them before they are checked themselves. */
export function attributeTypes(
  declarations: readonly Declaration[],
  schema: Schema,
  findings: Findings,
): Map<string, Type> {
  const types = new Map<string, Type>();
  const fields = collectionOf(schema, PEOPLE).fields;
  for (const { name, type } of withoutRepeats(
    declarations,
    (each) => each.name,
    'attribute',
    findings,
  ).values()) {
    if (fields.has(name.text)) {
      findings.add(
        'N005',
        `“${name.text}” is a field of people already, and me.${name.text} can have one meaning only`,
        name.span,
        'choose another name',
      );
    }
    const known = checkType(type, schema, findings);
    if (known !== null) types.set(name.text, known);
  }
  return types;
}

/** All attributes, those that are worked out from others after them; a circle is an error. */
export function checkAttributes(
  declarations: readonly Declaration[],
  types: ReadonlyMap<string, Type>,
  scopeOf: ScopeMaker,
  findings: Findings,
): Map<string, Attribute> {
  const unordered = new Map<string, Attribute>();
  const spans = new Map(declarations.map((each) => [each.name.text, each.name.span]));
  for (const declaration of declarations) {
    const type = types.get(declaration.name.text);
    if (type === undefined || unordered.has(declaration.name.text)) continue;
    const source = sourceOf(declaration, type, scopeOf, findings);
    if (source !== null) unordered.set(declaration.name.text, { name: declaration.name.text, type, source });
  }
  const ordered = new Map<string, Attribute>();
  const visit = (attribute: Attribute, path: readonly string[]): void => {
    if (ordered.has(attribute.name)) return;
    if (path.includes(attribute.name)) {
      const circle = [...path.slice(path.indexOf(attribute.name)), attribute.name].join(' → ');
      findings.add(
        'N010',
        `“${attribute.name}” is worked out from itself: ${circle}`,
        spans.get(attribute.name)!,
      );
      return;
    }
    for (const used of attributesUsed(attribute)) {
      const other = unordered.get(used);
      if (other !== undefined) visit(other, [...path, attribute.name]);
    }
    ordered.set(attribute.name, attribute);
  };
  for (const attribute of unordered.values()) visit(attribute, []);
  return ordered;
}

function attributesUsed({ source }: Attribute): string[] {
  if (source.kind === 'claim') return [];
  const nodes = source.kind === 'every' ? [source.operand, source.where] : [source.operand];
  return nodes
    .flatMap(pathsOf)
    .filter((path) => path.root === 'me')
    .map((path) => path.steps[0]!.field);
}

function sourceOf(
  declaration: Declaration,
  type: Type,
  scopeOf: ScopeMaker,
  findings: Findings,
): Attribute['source'] | null {
  if (declaration.kind === 'claim') return { kind: 'claim', claim: declaration.claim };
  const { value } = declaration;
  const scope = { ...scopeOf(), working: true };
  if (value.kind !== 'every') {
    const operand = checkOperand(value, scope, findings);
    if (operand === null || !fits(operand.type, type, value.span, findings)) return null;
    return { kind: 'value', operand };
  }
  const range = checkRange(value, value.where, scope, findings);
  if (range === null) return null;
  const operand = checkOperand(value.value, range.inside, findings);
  if (operand === null) return null;
  if (type.kind !== 'list') {
    findings.add(
      'T001',
      `“every” makes a list, and ${declaration.name.text} is ${typeName(type)}`,
      value.span,
    );
    return null;
  }
  if (!fits(operand.type, type.of, value.value.span, findings)) return null;
  return { kind: 'every', range: range.range, operand, where: range.condition };
}

function fits(found: Type, wanted: Type, span: Declaration['span'], findings: Findings): boolean {
  const same =
    wanted.kind === 'text'
      ? found.kind === 'text' || found.kind === 'one of'
      : JSON.stringify(found) === JSON.stringify(wanted);
  if (!same) findings.add('T001', `${typeName(wanted)} is wanted here, and this is ${typeName(found)}`, span);
  return same;
}
