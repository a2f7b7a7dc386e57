import type {
  AttributeDeclaration,
  ClaimDeclaration,
  CollectionDeclaration,
  FillClause,
  Name,
  RoleDeclaration,
} from '../language/ast.ts';
import type { Operand } from '../ir/conditions.ts';
import type { Fill, Succession, Was } from '../ir/succession.ts';
import { PEOPLE, fieldOf, systemFieldNames, type Field, type Schema } from '../types/schema.ts';
import { typeName, type Type } from '../types/types.ts';
import type { Findings } from './context.ts';
import { asLiteral, isLiteral } from './literals.ts';
import { resolvePath } from './paths.ts';
import { plainScope } from './scope.ts';
import { suggestion } from '../diagnostics/suggest.ts';

/** What the declarations say of the version before: each name that is gone can have become one thing only. */
export function checkSuccession(
  declared: {
    readonly collections: readonly CollectionDeclaration[];
    readonly roles: readonly RoleDeclaration[];
    readonly attributes: readonly (AttributeDeclaration | ClaimDeclaration)[];
  },
  schema: Schema,
  findings: Findings,
): Succession {
  const fields = new Map<string, ReadonlyMap<string, Was>>();
  const fills: Fill[] = [];
  const losingTime = new Set<string>();
  for (const declaration of declared.collections) {
    const collection = declaration.name.text;
    if (collection === PEOPLE && declaration.was !== null)
      findings.add('N006', 'people keep their name', declaration.was.span, 'leave “was” out');
    fields.set(collection, renamed(declaration.fields, `field of ${collection}`, findings));
    for (const { name, was, losing } of declaration.fields) {
      if (
        was !== null &&
        (systemFieldNames.has(was.text) || (collection === PEOPLE && builtIn.has(was.text)))
      )
        findings.add(
          'N006',
          `“${was.text}” is the service’s own, and keeps its name`,
          was.span,
          'leave “was” out',
        );
      if (losing === null) continue;
      losingTime.add(`${collection}.${name.text}`);
      if (fieldOf(schema, collection, name.text)?.type.kind !== 'date')
        findings.add('T011', '“losing time” is about dates that were timestamps', losing, 'leave it out');
    }
    for (const fill of declaration.fills) {
      const checked = checkFill(fill, collection, schema, findings);
      if (checked === null) continue;
      if (fills.some((each) => each.collection === collection && each.field === checked.field))
        findings.add('N005', `${checked.field} is filled twice`, fill.span, 'say it once');
      fills.push(checked);
    }
  }
  return {
    collections: renamed(declared.collections, 'collection', findings),
    fields,
    roles: renamed(declared.roles, 'role', findings),
    attributes: renamed(declared.attributes, 'attribute', findings),
    fills,
    losingTime,
  };
}

/** The fields of people that the service provides. */
const builtIn: ReadonlySet<string> = new Set(['name', 'email']);

function renamed(
  declarations: readonly { readonly name: Name; readonly was: Name | null }[],
  what: string,
  findings: Findings,
): Map<string, Was> {
  const found = new Map<string, Was>();
  for (const { name, was } of declarations) {
    if (was === null) continue;
    if (was.text === name.text) {
      findings.add('N013', `“${name.text}” was called so already`, was.span, 'leave “was” out');
      continue;
    }
    const other = [...found].find(([, each]) => each.name === was.text);
    if (other !== undefined) {
      findings.add(
        'N013',
        `the ${what} “${was.text}” cannot have become both “${other[0]}” and “${name.text}”`,
        was.span,
        'say “was” once',
        { span: other[1].span, message: 'it is said here, too' },
      );
      continue;
    }
    found.set(name.text, { name: was.text, span: was.span });
  }
  return found;
}

function checkFill(
  { field: name, value, span }: FillClause,
  collection: string,
  schema: Schema,
  findings: Findings,
): Fill | null {
  const field = fieldOf(schema, collection, name.text);
  if (field === null) {
    const known = [...(schema.get(collection)?.fields.keys() ?? [])];
    const hint = suggestion(name.text, known);
    findings.add('N002', `${collection} has no field “${name.text}”`, name.span, hint);
    return null;
  }
  if (field.system) {
    findings.add('R003', `${name.text} is filled in by the service alone`, name.span, 'leave the line out');
    return null;
  }
  const given = valueOf(value, field, collection, schema, findings);
  return given === null ? null : { collection, field: field.name, value: given, span };
}

function valueOf(
  value: FillClause['value'],
  field: Field,
  collection: string,
  schema: Schema,
  findings: Findings,
): Operand | null {
  const { type } = field;
  if (isLiteral(value) && type.kind !== 'ref' && type.kind !== 'list' && type.kind !== 'json')
    return asLiteral(value, type, findings);
  if (value.kind !== 'path' || (value.root !== 'bare' && value.root !== 'this')) {
    findings.add(
      'T006',
      `${field.name} can be filled with a plain value of its type, or along a path of the record`,
      value.span,
      'such as: fill keeper from apiary.host',
    );
    return null;
  }
  const path = resolvePath(value, { ...plainScope(schema), record: collection }, findings);
  if (path === null) return null;
  if (fillsWith(path.type, type)) return path;
  findings.add('T006', `${field.name} is ${typeName(type)}, and this is ${typeName(path.type)}`, value.span);
  return null;
}

/** Is each value of one type one of the other, kept in the same way? */
function fillsWith(given: Type, wanted: Type): boolean {
  if (wanted.kind === 'text') return given.kind === 'text' || given.kind === 'one of';
  if (given.kind === 'one of' && wanted.kind === 'one of')
    return given.values.every((each) => wanted.values.includes(each));
  return typeName(given) === typeName(wanted);
}
